"""One channel at full size: its map over the image, beside another image's, and the answer with it off or doubled."""

from __future__ import annotations

from dataclasses import dataclass
from functools import partial

import numpy as np
from numpy.typing import NDArray
from PyQt6.QtCore import QRectF, QSize, Qt, pyqtSignal
from PyQt6.QtGui import QImage, QKeyEvent, QPainter, QPaintEvent
from PyQt6.QtWidgets import QHBoxLayout, QScrollArea, QSizePolicy, QSlider, QWidget

from attentive_lens.core.telling import signed
from attentive_lens.desk.requests.activity import LayerActive
from attentive_lens.desk.requests.inspecting import ChannelSeen
from attentive_lens.window import look
from attentive_lens.window.explaining.distribution import DistributionChart, in_words
from attentive_lens.window.parts.bars import Bar, Bars
from attentive_lens.window.parts.basics import (
    button,
    filter_button,
    horizontal,
    ink_on_paper,
    label,
    map_colours,
    tint_image,
    to_image,
    vertical,
)
from attentive_lens.window.parts.flow import Turning
from attentive_lens.window.parts.proportions import draw_picture
from attentive_lens.window.parts.tiles import enlarged, laid_over

GAP, HEAD = 10, 18
WIDE = 640
"""Pixels from which the figures stand beside the pictures."""
FACTORS = {"as it is": 1.0, "off": 0.0, "halved": 0.5, "doubled": 2.0}


@dataclass(frozen=True, eq=False)
class ChannelShown:
    """What is known of a channel.

    Attributes
    ----------
    layer : str
        Its layer.
    channel : int
        Its number.
    picture : QImage
        The image.
    values : ndarray, H×W
        The channel's output for it.
    beside : str
        What the other image is; empty without one.
    other : QImage or None
        The other image.
    others : ndarray, H×W, or None
        The channel's output for that one.
    name : str
        What it is called, where it is one of the image's own.
    """

    layer: str
    channel: int
    picture: QImage
    values: NDArray[np.float32]
    beside: str = ""
    other: QImage | None = None
    others: NDArray[np.float32] | None = None
    name: str = ""

    @property
    def called(self) -> str:
        """«channel 3», or its name."""
        return self.name or f"channel {self.channel}"


class Overlays(QWidget):
    """Squares side by side, each as large as there is room, with a heading."""

    def __init__(self, name: str) -> None:
        super().__init__()
        self.setObjectName(name)
        self.setAccessibleName("the channel's map over the image")
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Expanding)
        self.pictures: tuple[tuple[str, QImage], ...] = ()

    def show_pictures(self, pictures: tuple[tuple[str, QImage], ...]) -> None:
        """Others, each with its heading."""
        self.pictures = pictures
        self.update()

    def sizeHint(self) -> QSize:
        """Room for one."""
        return QSize(220, 200)

    def grid(self) -> tuple[int, float]:
        """Columns, and the side of a square: those that make squares largest."""
        count, best = max(1, len(self.pictures)), (1, 0.0)
        for columns in range(1, count + 1):
            rows = -(-count // columns)
            across = (self.width() - GAP * (columns - 1)) / columns
            down = (self.height() - GAP * (rows - 1)) / rows - HEAD
            if min(across, down) > best[1]:
                best = (columns, min(across, down))
        return best

    def paintEvent(self, event: QPaintEvent | None) -> None:
        """Row by row."""
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.SmoothPixmapTransform)
        painter.setFont(look.font(look.SMALL))
        painter.setPen(look.theme.colour("faint"))
        columns, side = self.grid()
        for k, (words, picture) in enumerate(self.pictures):
            row, column = divmod(k, columns)
            left, top = column * (side + GAP), row * (side + HEAD + GAP)
            elided = painter.fontMetrics().elidedText(words, Qt.TextElideMode.ElideRight, int(side))
            painter.drawText(QRectF(left, top, side, HEAD), Qt.AlignmentFlag.AlignVCenter, elided)
            draw_picture(painter, QRectF(left, top + HEAD, side, side), picture)


class ChannelView(QWidget):
    """A channel, what it adds, and the answer without it.

    Signals
    -------
    left
        Back to all channels.
    stepped
        By so many channels in the order shown.
    """

    left, stepped = pyqtSignal(), pyqtSignal(int)

    def __init__(self) -> None:
        super().__init__()
        self.setObjectName("channel view")
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.shown: ChannelShown | None = None
        self.seen: ChannelSeen | None = None
        self.factor = 1.0
        self.turning = Turning(WIDE)
        vertical(self).addWidget(self.turning)
        outer = self.turning.box
        self.overlays = Overlays("channel pictures")
        self.overlays.setToolTip("In the difference vermilion is stronger in this image, petrol in the other one.")
        outer.addWidget(self.overlays, 1)
        side = QWidget()
        inside = vertical(side, spacing=6, margins=(0, 0, 8, 0))
        row = QHBoxLayout()
        self.title = label(strong=True, name="channel title")
        row.addWidget(self.title, 1)
        row.addWidget(button("‹", "previous channel", "The channel before (Left).", lambda: self.stepped.emit(-1)))
        row.addWidget(button("›", "next channel", "The channel after (Right).", lambda: self.stepped.emit(1)))
        row.addWidget(button("All channels", "all channels", "Back to the grid (Escape).", self.left.emit))
        inside.addLayout(row)
        self.adds = label(role="faint", size=look.SMALL, name="channel adds")
        self.adds.setWordWrap(True)
        inside.addWidget(self.adds)
        row = horizontal(spacing=4)
        self.factors = {}
        for words, factor in FACTORS.items():
            tip = f"The answer with this channel {words}."
            self.factors[factor] = filter_button(words, f"channel {words}", tip, partial(self.scale, factor))
            row.addWidget(self.factors[factor])
        row.addStretch()
        inside.addLayout(row)
        self.bars = Bars("channel answers", 84, 104)
        inside.addWidget(self.bars)
        self.chart = DistributionChart()
        inside.addWidget(self.chart)
        self.beyond = label(role="faint", size=look.SMALL, name="values beyond")
        self.beyond.setWordWrap(True)
        inside.addWidget(self.beyond)
        row = QHBoxLayout()
        row.addWidget(label("map over the image", "faint", look.SMALL))
        self.strength = QSlider(Qt.Orientation.Horizontal)
        self.strength.setObjectName("channel opacity")
        self.strength.setAccessibleName("opacity of the map")
        self.strength.setRange(0, 100)
        self.strength.setValue(80)
        self.strength.valueChanged.connect(lambda _: self.draw())
        row.addWidget(self.strength, 1)
        inside.addLayout(row)
        inside.addStretch()
        scroll = QScrollArea()
        scroll.setWidgetResizable(True)
        scroll.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        scroll.setWidget(side)
        outer.addWidget(scroll, 1)

    def show_channel(self, shown: ChannelShown) -> None:
        """Another channel, or another image."""
        same = self.shown is not None and (self.shown.layer, self.shown.channel) == (shown.layer, shown.channel)
        self.shown = shown
        self.title.setText(f"{shown.layer} · {shown.called}")
        if not same:
            self.factor = 1.0
        self.show_effects(None)
        self.draw()

    def show_effects(self, seen: ChannelSeen | None, why: str = "") -> None:
        """What the channel adds, and the answers with it scaled; ``why`` they cannot be had."""
        self.seen = seen
        for factor, chip in self.factors.items():
            chip.setEnabled(seen is not None)
            chip.setChecked(factor == self.factor)
        if seen is None:
            self.adds.setText(why or "Asking what it adds …")
            self.bars.show_bars(())
            return
        own = next((each for each in seen.channels if each.channel == seen.channel), None)
        if own is not None:
            rank = seen.channels.index(own) + 1
            self.adds.setText(
                f"Adds {signed(own.adds, '.2f')} to {seen.of}: number {rank} of {len(seen.channels)} by how much."
            )
        self.scale(self.factor)

    def scale(self, factor: float) -> None:
        """The answers with the channel so many times as strong."""
        self.factor = factor
        for other, chip in self.factors.items():
            chip.setChecked(other == factor)
        seen = self.seen
        if seen is None:
            return
        answers = {each.factor: each.probabilities for each in seen.answers}
        before, after = answers[1.0], answers[factor]
        roles = {seen.true: "petrol", seen.predicted: "petrol" if seen.predicted == seen.true else "vermilion"}
        order = sorted(before, key=lambda name: -max(before[name], after[name]))[:6]
        self.bars.show_bars(
            tuple(
                Bar(n, max(0.0, after[n]), f"{after[n]:.2f}  ({before[n]:.2f})", roles.get(n, "faint")) for n in order
            )
        )

    def show_distribution(self, seen: LayerActive | None, values: NDArray[np.float32] | None) -> None:
        """Of the layer over training images, and in this image."""
        self.chart.show_values(seen, values)
        self.beyond.setText(in_words(seen, values) + "." * (seen is not None))

    def draw(self) -> None:
        """The pictures as the slider and the theme have them."""
        shown = self.shown
        if shown is None:
            return
        strength = self.strength.value() / 100
        top = float(np.abs(shown.values).max())
        if shown.others is not None:
            top = max(top, float(np.abs(shown.others).max()))
        pictures = [("this image", _over(shown.picture, shown.values, top, strength))]
        if shown.other is not None and shown.others is not None:
            pictures.append((shown.beside, _over(shown.other, shown.others, top, strength)))
            gap = shown.values - shown.others
            pictures.append(("difference", to_image(_signed(gap, top))))
        else:
            pictures.append(("the map itself", to_image(ink_on_paper(shown.values))))
        self.overlays.show_pictures(tuple(pictures))

    def keyPressEvent(self, event: QKeyEvent | None) -> None:
        """Left and Right go through the channels, Escape goes back."""
        if event is None:
            return
        steps = {Qt.Key.Key_Left: -1, Qt.Key.Key_Right: 1}
        if Qt.Key(event.key()) in steps:
            self.stepped.emit(steps[Qt.Key(event.key())])
        elif event.key() == Qt.Key.Key_Escape:
            self.left.emit()
        else:
            super().keyPressEvent(event)


def _over(picture: QImage, values: NDArray[np.float32], top: float, strength: float) -> QImage:
    """A channel's output over the image, enlarged so that its places are told apart."""
    return laid_over(
        enlarged(picture, 256),
        tint_image(map_colours(values, signed=bool(values.min() < 0), top=top or None)),
        strength,
    )


def _signed(gap: NDArray[np.float32], top: float) -> NDArray[np.uint8]:
    """A difference on the sheet's colour, H×W×3."""
    tint = map_colours(gap, signed=True, top=top or None).astype(np.float32)
    sheet = look.theme.colour("sheet")
    ground = np.array([sheet.red(), sheet.green(), sheet.blue()], np.float32)
    alpha = tint[:, :, 3:] / 255
    return np.asarray(ground + (tint[:, :, :3] - ground) * alpha, np.float32).astype(np.uint8)
