"""How images of many bits or channels are shown: which channels, between which levels."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np
from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import QSlider, QWidget

from attentive_lens.core.numbering import number_at, place_of
from attentive_lens.images.display import NARROWEST, Display, shown_as
from attentive_lens.images.pixel_format import PixelArray, PixelFormat, white_in
from attentive_lens.window.parts.basics import button, chooser, horizontal, label
from attentive_lens.window.parts.fold import Fold
from attentive_lens.window.session import Session

CAPTION = 56
STEPS = 1000
"""Of a slider."""
OUTER = 0.5
"""Percent of an image's values that are left out at either end where the levels are taken from it."""
COLOURS = ("red", "green", "blue")


class DisplayBox(Fold):
    """Chooses it for all images of the workspace, in all views; nothing that is learned hangs on it.

    Parameters
    ----------
    session : Session
        Whose images.
    image : callable
        Gives the pixels of the image at hand, None without one.
    """

    def __init__(self, session: Session, image: Callable[[], PixelArray | None]) -> None:
        super().__init__("Shown", "display", "Which channels are shown, and between which levels, in all views.")
        self.session, self._image = session, image
        self._quiet = False
        own = session.images.pixel_format
        layout = self.inside
        self.mode = chooser("shown channels", "channels that are shown", "Three channels in colour, or one in grey.")
        self.colours = [
            chooser(f"{word} from", f"channel shown as {word}", f"The channel that is shown as {word}.")
            for word in COLOURS
        ]
        if len(own.channels) >= 3:
            self.mode.addItem("in colour")
        self.mode.addItems([f"«{name}» alone" for name in own.channels])
        layout.addWidget(self.mode)
        self._rows: list[QWidget] = []
        for word, box in zip(COLOURS, self.colours, strict=True):
            box.addItems(list(own.channels))
            row = QWidget()
            across = horizontal(row)
            caption = label(f"{word} is", "faint")
            caption.setFixedWidth(CAPTION)
            across.addWidget(caption)
            across.addWidget(box, 1)
            layout.addWidget(row)
            self._rows.append(row)
        self.level, self.width_ = self._slider("level"), self._slider("width")
        for word, slider, tip in (
            ("level", self.level, "Middle of what is shown."),
            ("width", self.width_, "How many values about it go from black to white."),
        ):
            slider.setToolTip(tip)
            across = horizontal()
            caption = label(word, "faint")
            caption.setFixedWidth(CAPTION)
            across.addWidget(caption)
            across.addWidget(slider, 1)
            layout.addLayout(across)
        across = horizontal(spacing=6)
        fit = "Levels from the darkest to the brightest of the image at hand, outliers left out."
        across.addWidget(button("This image", "levels of image", fit, self.fit), 1)
        whole = "The whole scale, from black to white."
        across.addWidget(button("Whole scale", "whole scale", whole, lambda: self.change(level=0.5, width=1.0)), 1)
        layout.addLayout(across)
        self.mode.activated.connect(self._choose)
        for box in self.colours:
            box.activated.connect(self._choose)
        self.level.valueChanged.connect(lambda step: self._slide(level=step / STEPS))
        self.width_.valueChanged.connect(lambda step: self._slide(width=max(NARROWEST, step / STEPS)))
        session.display_changed.connect(self.refresh)
        self.setVisible(not own.is_plain)
        self.refresh()

    def _slider(self, name: str) -> QSlider:
        slider = QSlider(Qt.Orientation.Horizontal)
        slider.setObjectName(f"display {name}")
        slider.setAccessibleName(f"{name} of what is shown")
        slider.setRange(1 if name == "width" else 0, STEPS)
        return slider

    def refresh(self) -> None:
        """As images are shown now; ordinary pictures are always shown as they are."""
        if self.session.images.pixel_format.is_plain:
            return
        self._quiet = True
        shown, own = shown_as(), self.session.images.pixel_format
        several = len(own.channels) >= 3
        wanted = shown.channels if shown.channels and max(shown.channels) <= len(own.channels) else ()
        alone = len(wanted) == 1 or not several
        numbers = wanted or ((1, 2, 3) if several else (1,))
        self.mode.setCurrentIndex(place_of(numbers[0]) + several if alone else 0)
        for row, box, number in zip(self._rows, self.colours, numbers if not alone else (1, 1, 1), strict=True):
            row.setVisible(not alone)
            box.setCurrentIndex(place_of(number))
        self.mode.setVisible(len(own.channels) > 1)
        self.level.setValue(round(shown.level * STEPS))
        self.width_.setValue(round(shown.width * STEPS))
        self.say(self._in_words(alone))
        self._quiet = False

    def _in_words(self, alone: bool) -> str:
        own = self.session.images.pixel_format
        names = [own.channels[place] for place in shown_as().chosen(len(own.channels))]
        channels = "" if len(own.channels) < 2 else f"{names[0]} alone · " if alone else f"{', '.join(names)} · "
        return channels + shown_levels(shown_as(), own)

    def change(self, **changes: object) -> None:
        """Show all images otherwise; it is kept with the workspace."""
        self.session.show_images_as(shown_as().with_(**changes))

    def drag(self, across: float, down: float) -> None:
        """Widen and move what is shown by parts of the scale, as far as it goes."""
        shown = shown_as()
        width = min(max(shown.width + across, NARROWEST), 1.0)
        self.change(level=min(max(shown.level - down, 0.0), 1.0), width=width)

    def fit(self) -> None:
        """The levels of the image at hand."""
        pixels = self._image()
        if pixels is None:
            return
        display = shown_as()
        channels = display.chosen(pixels.shape[-1])
        white = white_in(pixels)
        low, high = (float(end) / white for end in np.percentile(pixels[..., channels], (OUTER, 100 - OUTER)))
        self.change(level=(low + high) / 2, width=max(NARROWEST, high - low))

    def _slide(self, **changes: float) -> None:
        if not self._quiet:
            self.change(**changes)

    def _choose(self) -> None:
        several = len(self.session.images.pixel_format.channels) >= 3
        chosen = self.mode.currentIndex() - several
        numbers = (number_at(chosen),) if chosen >= 0 else tuple(number_at(box.currentIndex()) for box in self.colours)
        self.change(channels=numbers)


def shown_levels(shown: Display, own: PixelFormat) -> str:
    """«120 to 3400», in values as they are stored."""
    span = own.white - own.black if own.white > own.black else 255.0
    low, high = (own.black + span * (shown.level + end * shown.width / 2) for end in (-1, 1))
    return f"{low:.5g} to {high:.5g}"
