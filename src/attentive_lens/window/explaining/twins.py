"""The pair of images under one lens: what drove the answer said, beside what speaks for the true one."""

from __future__ import annotations

import math
from collections.abc import Callable
from functools import partial
from typing import Any

import numpy as np
from numpy.typing import NDArray
from PyQt6.QtCore import QEvent, Qt, pyqtSignal
from PyQt6.QtGui import QKeyEvent, QResizeEvent
from PyQt6.QtWidgets import QBoxLayout, QLabel, QSlider, QVBoxLayout, QWidget

from attentive_lens.core.telling import signed
from attentive_lens.desk.map_colours import scale
from attentive_lens.desk.requests.explaining import PAIR, Explanation, FileImage, MapOfClass, TrustChecks
from attentive_lens.window import look
from attentive_lens.window.explaining.map_choice import MapChooser
from attentive_lens.window.explaining.right_map import RightMap
from attentive_lens.window.explaining.trust import TrustChips, first_figures, inside_figures, measured_figures
from attentive_lens.window.parts.basics import (
    button,
    filter_button,
    horizontal,
    label,
    map_colours,
    set_role,
    tint_image,
    to_image,
    vertical,
)
from attentive_lens.window.parts.flow import Flow
from attentive_lens.window.parts.lens import Lens, strongest_place
from attentive_lens.window.parts.map_scale import MapScale
from attentive_lens.window.parts.saving import can_be_saved
from attentive_lens.window.words import answer_tip, shortened

STACKED = 1.8
"""Times as wide as it is high, from which images stand one above the other."""
LOWEST = 110
"""Pixels that such an image is high, at least."""
GAP, SENTENCE = 16, 34
"""Pixels between the images, and of the sentence below them."""
HEAD, FIGURE = 28, 64
"""Pixels of the line above a lens, and of the figure at its end."""


class Twins(QWidget):
    """Two lenses that move together, whose maps they show and how.

    Parameters
    ----------
    methods : MapChooser
        Which map is shown.
    say : callable
        Takes a sentence, and whether it is bad news.

    Signals
    -------
    requested
        Another map is wanted, see `chooser` and `right`.
    region_drawn
        Middle (x, y), width and height of a region drawn by hand, 0–1.
    measure_asked
        All trust checks are wanted.
    """

    requested, measure_asked = pyqtSignal(), pyqtSignal()
    region_drawn = pyqtSignal(float, float, float, float)

    def __init__(self, methods: MapChooser, say: Callable[[str, bool], None]) -> None:
        super().__init__()
        self._say = say
        self.explanation: Explanation | None = None
        self.checks: TrustChecks | None = None
        self.take_key: Callable[[QKeyEvent], bool] = lambda _: False
        """Decides about the image by a key, and says whether it did."""
        self._sentence = ""
        inside = vertical(self, spacing=4)
        self.pair = QWidget()
        self.twins = horizontal(self.pair, spacing=GAP)
        self.lenses: dict[str, Lens] = {}
        self.heads: dict[str, tuple[QWidget, QLabel, QLabel]] = {}
        self.chips: dict[str, TrustChips] = {}
        self.scales: dict[str, MapScale] = {}
        self.right = RightMap()
        self.right.activated.connect(lambda _: self._choose_right())
        tip = "Run all trust checks: small noise, randomised weights and other methods, beside what the map gains."
        self.measure = button("Check trust", "measure trust", tip, self.measure_asked.emit)
        set_role(self.measure, "chip action")
        self.measure.setFont(look.font(look.SMALL))
        for key in ("predicted", "true"):
            self.twins.addLayout(self._make_side(key), 1)
        inside.addWidget(self.pair, 1)
        row = Flow(spacing=8)
        self.chooser = methods
        self.chooser.changed.connect(self.requested)
        row.addWidget(self.chooser)
        self.opacity = QSlider(Qt.Orientation.Horizontal)
        self.opacity.setObjectName("map opacity")
        self.opacity.setAccessibleName("opacity of the maps")
        self.opacity.setToolTip("Opacity of the maps.")
        self.opacity.setRange(10, 100)
        self.opacity.setValue(100)
        self.opacity.setFixedWidth(72)
        self.opacity.valueChanged.connect(lambda _: self._set_opacity())
        row.addWidget(self.opacity)
        tip = "Show also what speaks against (petrol), where the method tells it."
        self.signs = filter_button("both signs", "both signs", tip, self.show_maps)
        row.addWidget(self.signs)
        tip = "Show the map over the whole image (Space)."
        self.whole = button("Whole map", "whole map", tip, self._show_whole, True)
        row.addWidget(self.whole)
        inside.addLayout(row)
        below = horizontal(spacing=8)
        self.shows = label(role="faint", size=look.SMALL, name="method shows")
        self.shows.setWordWrap(True)
        self.shows.setFixedHeight(SENTENCE)
        self.shows.setAlignment(Qt.AlignmentFlag.AlignTop)
        below.addWidget(self.shows, 1)
        below.addWidget(self.scales["predicted"], 0, Qt.AlignmentFlag.AlignTop)
        inside.addLayout(below)

    def resizeEvent(self, event: QResizeEvent | None) -> None:
        """No more height than the images fill."""
        super().resizeEvent(event)
        self._fit()

    def event(self, event: QEvent | None) -> bool:
        """Chips came or went: both images keep one size."""
        if event is not None and event.type() == QEvent.Type.LayoutRequest:
            self._fit()
        return super().event(event)

    def _fit(self) -> None:
        pixels = self.explanation.pixels if self.explanation is not None else None
        proportion = pixels.shape[1] / pixels.shape[0] if pixels is not None else 1.0
        above = proportion >= STACKED
        way = QBoxLayout.Direction.TopToBottom if above else QBoxLayout.Direction.LeftToRight
        if self.twins.direction() != way:
            self.twins.setDirection(way)
        wide = self.width() if above else (self.width() - GAP) // 2
        for chips in self.chips.values():
            chips.setMinimumHeight(max(each.tall(wide) for each in self.chips.values()))
        for each in self.lenses.values():
            each.setMinimumHeight(LOWEST if above else each.minimumWidth())
        lens = self.lenses["predicted"]
        tall = max(lens.minimumHeight(), math.ceil(wide / proportion))
        for each in self.lenses.values():
            each.setMaximumHeight(tall)
        layout = self.layout()
        if layout is not None:
            rows = 2 if above else 1
            rest = layout.minimumHeightForWidth(self.width()) - rows * lens.minimumHeight()
            self.setMaximumHeight(rows * tall + max(0, rest))

    def _make_side(self, key: str) -> QVBoxLayout:
        column = vertical(spacing=4)
        above = QWidget()
        above.setFixedHeight(HEAD)
        head = horizontal(above)
        word = label(PAIR[key], "faint") if key == "predicted" else self.right
        name = label(size=look.LARGE, strong=True, name=f"{key} name")
        probability = label(size=look.LARGE, strong=True, name=f"{key} probability")
        head.addWidget(word)
        head.addWidget(name)
        head.addStretch()
        head.addWidget(probability)
        column.addWidget(above)
        lens = Lens(f"lens {key}")
        lens.setToolTip(
            "Drag or arrow keys move the lens, wheel or + and − size it, Space shows the whole map. Shift and drag"
            " cover a region and say the answer. The right button saves the map."
        )
        lens.moved.connect(self._lens_moved)
        lens.whole_asked.connect(lambda: self.whole.click())
        lens.hovered.connect(self._tell_value)
        lens.region_drawn.connect(self.region_drawn)
        values, scale = partial(self._values, key), partial(self._scale_of, key)
        can_be_saved(lens, f"map of {key}", self._say, values, scale)
        column.addWidget(lens, 100)
        chips = TrustChips(key, self.measure if key == "true" else None)
        chips.sentence_chosen.connect(self._tell)
        self.scales[key] = MapScale(f"scale {key}")
        if key == "true":
            column.addWidget(self.scales[key])
        column.addWidget(chips)
        column.addStretch(0)
        self.lenses[key] = lens
        self.heads[key] = (word, name, probability)
        self.chips[key] = chips
        return column

    @property
    def against(self) -> str:
        """The class that a file, which has no true one, is set against."""
        subject = self.explanation.subject if self.explanation is not None else None
        return subject.against if isinstance(subject, FileImage) else ""

    def show_explanation(self, explanation: Explanation) -> None:
        """Another image or method."""
        same = explanation.is_of_same(self.explanation)
        self.explanation, self.checks = explanation, None
        against = self.against
        self.right.list_for(explanation, against)
        right = explanation.predicted == explanation.true
        other = self.right.target or explanation.true or against
        names = {"predicted": (explanation.predicted, "good" if right else "bad"), "true": (other, "good")}
        if explanation.true is None or self.right.target:
            names["true"] = (other, "good" if other == explanation.true else "")
        if explanation.true is None:
            names["predicted"] = (explanation.predicted, "")
        for key, (target, role) in names.items():
            word, name, probability = self.heads[key]
            room = self.lenses[key].width() - word.sizeHint().width() - FIGURE
            measure, every = name.fontMetrics().horizontalAdvance, tuple(explanation.probabilities)
            name.setText(shortened([target], max(room, FIGURE), measure, every)[0])
            map_ = explanation.map("for" if key == "true" and self.right.target else key)
            name.setToolTip(f"{target}: what speaks for it against {map_.against}" if map_ is not None else target)
            probability.setText(f"{explanation.probabilities.get(target, 0.0):.2f}")
            probability.setToolTip(answer_tip(explanation.output))
            set_role(name, role)
            set_role(probability, role)
        self.signs.setEnabled(explanation.method.signed)
        self._tell("")
        self._show_figures()
        if not same:
            self._place_lens_on(explanation.maps[0].values)
        for lens in self.lenses.values():
            lens.show_object(explanation.covered)
        self._fit()
        self.show_maps()

    def keyPressEvent(self, event: QKeyEvent | None) -> None:
        """With the pair in hand a key decides about the image first."""
        if event is None or not self.take_key(event):
            super().keyPressEvent(event)

    def _choose_right(self) -> None:
        shown = self.explanation
        if shown is None:
            return
        if self.right.target and (shown.map("for") is None or self._of("true").target != self.right.target):
            self.requested.emit()
        else:
            self.show_explanation(shown)

    def _of(self, key: str) -> MapOfClass:
        """The map on a side."""
        shown = self.explanation
        if shown is None:
            raise LookupError("nothing is explained yet")
        if key == "predicted":
            return shown.maps[0]
        other = shown.map("for") if self.right.target or self.against else None
        return other or shown.map("true") or shown.maps[0]

    def _scale_of(self, key: str) -> QWidget:
        """The right map has a scale of its own only where it is the difference."""
        return self.scales["true" if key == "true" and self.right.pulls else "predicted"]

    def _values(self, key: str) -> NDArray[np.float32] | None:
        """What a side shows."""
        shown = self.explanation
        if shown is None:
            return None
        if key == "true" and self.right.pulls and shown.difference is not None:
            return shown.difference
        return self._of(key).values

    def show_trust(self, explanation: Explanation) -> None:
        """The figures of the maps in view, which come a moment after them."""
        self.explanation = explanation
        self._show_figures()

    def show_checks(self, checks: TrustChecks) -> None:
        """All that was measured of the maps in view."""
        self.checks = checks
        self._show_figures()
        self._tell(next(figure.sentence for figure in self.chips["predicted"].figures if figure.name == "randomised"))

    def _show_figures(self) -> None:
        shown, checks = self.explanation, self.checks
        if shown is None:
            return
        for key, chips in self.chips.items():
            if key == "true" and self.right.pulls:
                chips.show_figures(())  # a difference has no class whose pixels could be deleted
                continue
            map_ = self._of(key)
            chips.show_figures(
                (*first_figures(map_), *inside_figures(map_, shown.covered)),
                measured_figures(map_, checks) if checks is not None else (),
            )
        self.show_waiting(False)
        self.measure.setVisible(checks is None and shown.image is not None)

    def show_waiting(self, waiting: bool = True) -> None:
        """Whether the measurement is under way."""
        self.measure.setEnabled(not waiting)
        self.measure.setText("Measuring …" if waiting else "Check trust")

    def show_maps(self) -> None:
        """The maps in the colours of the theme."""
        shown = self.explanation
        if shown is None:
            return
        picture = to_image(shown.pixels)
        predicted, true = self._of("predicted").values, self._of("true").values
        signed = self.signs.isChecked() and shown.method.signed
        top = max(scale(predicted, signed), scale(true, signed))
        self.lenses["predicted"].show_image(picture, tint_image(map_colours(predicted, signed, top)))
        self.scales["predicted"].show_scale(top, signed)
        apart = self.right.pulls and shown.difference is not None
        if apart and shown.difference is not None:
            self.lenses["true"].show_image(picture, tint_image(map_colours(shown.difference, signed=True)))
            self.scales["true"].show_scale(scale(shown.difference, True), True)
        else:
            self.lenses["true"].show_image(picture, tint_image(map_colours(true, signed, top)))
        self.scales["true"].setVisible(apart)

    def _place_lens_on(self, map_: NDArray[Any]) -> None:
        """Put the lens where the map is strongest, so that the first look shows something."""
        self._lens_moved(*strongest_place(np.asarray(map_)), self.lenses["predicted"].radius)

    def _lens_moved(self, x: float, y: float, radius: float) -> None:
        for lens in self.lenses.values():
            lens.place_lens(x, y, radius)

    def _set_opacity(self) -> None:
        for lens in self.lenses.values():
            lens.strength = self.opacity.value() / 100
            lens.update()

    def _show_whole(self) -> None:
        for lens in self.lenses.values():
            lens.whole = self.whole.isChecked()
            lens.update()

    def _tell(self, sentence: str) -> None:
        """A trust sentence, or what the method shows."""
        self._sentence = sentence
        shown = self.explanation
        words = sentence or (shown.method.shows if shown is not None else "")
        if not sentence and shown is not None and shown.maps[0].trust.empty:
            words = first_figures(shown.maps[0])[0].sentence
        self.shows.setText(words)
        self.shows.setToolTip(words)

    def _tell_value(self, across: float, down: float) -> None:
        """The values under the mouse on both sides."""
        if self.explanation is None or across < 0:
            self._tell(self._sentence)
            return
        parts = []
        for key in ("predicted", "true"):
            values = self._values(key)
            if values is None:
                return
            row = min(int(down * values.shape[0]), values.shape[0] - 1)
            column = min(int(across * values.shape[1]), values.shape[1] - 1)
            words = PAIR[key] if key == "predicted" else self.right.currentText()
            parts.append(f"{words} {signed(float(values[row, column]), '.3g')}")
        self.shows.setText(f"pixel {column}, {row}: " + " · ".join(parts))
