"""The pair of images under one lens: what drove the answer said, beside what speaks for the true one."""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray
from PyQt6.QtCore import pyqtSignal
from PyQt6.QtWidgets import QComboBox, QHBoxLayout, QLabel, QSizePolicy, QVBoxLayout, QWidget

from attentive_lens.desk.map_colours import scale
from attentive_lens.desk.requests.explaining import METHOD_FACTS, Explanation
from attentive_lens.window import look
from attentive_lens.window.parts.basics import button, label, map_colours, set_role, to_image
from attentive_lens.window.parts.lens import Lens, strongest_place
from attentive_lens.window.session import Session
from attentive_lens.window.words import answer_tip


class Twins(QWidget):
    """Two lenses that move together, the method of their maps, and how they are shown.

    Signals
    -------
    method_chosen
        Name of a method whose maps are wanted.
    """

    method_chosen = pyqtSignal(str)

    def __init__(self, session: Session) -> None:
        super().__init__()
        self.session = session
        self.explanation: Explanation | None = None
        self.against = ""
        self.pulls = False
        inside = QVBoxLayout(self)
        inside.setContentsMargins(0, 0, 0, 0)
        inside.setSpacing(6)
        self.pair = QWidget()
        twins = QHBoxLayout(self.pair)
        twins.setContentsMargins(0, 0, 0, 0)
        twins.setSpacing(24)
        self.lenses: dict[str, Lens] = {}
        self.heads: dict[str, tuple[QLabel, QLabel, QLabel]] = {}
        for key in ("said", "true"):
            twins.addLayout(self._make_side(key), 1)
        inside.addWidget(self.pair, 1)
        row = QHBoxLayout()
        row.setSpacing(8)
        row.addWidget(label("Map", "faint"))
        self.methods = QComboBox()
        self.methods.setObjectName("method")
        self.methods.setAccessibleName("map method")
        self.methods.setFont(look.font())
        for method_key, method in METHOD_FACTS.items():
            self.methods.addItem(method.label, method_key)
        self.methods.activated.connect(lambda _: self.method_chosen.emit(str(self.methods.currentData())))
        row.addWidget(self.methods)
        self.shows = label(role="faint", size=look.SMALL, name="method shows")
        self.shows.setSizePolicy(QSizePolicy.Policy.Ignored, QSizePolicy.Policy.Preferred)
        self.shows.setWordWrap(True)
        row.addWidget(self.shows, 1)
        tip = "Show on the right what pulled towards said (vermilion) and towards true (petrol)."
        self.difference = button("said − true", "difference", tip, self._show_difference, True)
        tip = "Show the map over the whole image (Space)."
        self.whole = button("Whole map", "whole map", tip, self._show_whole, True)
        row.addWidget(self.difference)
        row.addWidget(self.whole)
        inside.addLayout(row)

    def _make_side(self, key: str) -> QVBoxLayout:
        column = QVBoxLayout()
        column.setSpacing(6)
        head = QHBoxLayout()
        word = label(key, "faint")
        name = label(size=look.LARGE, strong=True, name=f"{key} name")
        probability = label(size=look.LARGE, strong=True, name=f"{key} probability")
        head.addWidget(word)
        head.addWidget(name)
        head.addStretch()
        head.addWidget(probability)
        column.addLayout(head)
        lens = Lens(f"lens {key}")
        lens.setToolTip("Drag the lens or use the arrow keys; wheel or + and − size it; Space shows the whole map.")
        lens.moved.connect(self._lens_moved)
        lens.whole_asked.connect(lambda: self.whole.click())
        column.addWidget(lens, 1)
        self.lenses[key] = lens
        self.heads[key] = (word, name, probability)
        return column

    def show_explanation(self, explanation: Explanation, against: str = "") -> None:
        """Another image or method; of a file that has no true class the answer is set ``against`` another one."""
        self.explanation, self.against = explanation, against
        right = explanation.said == explanation.true
        names = {"said": (explanation.said, "good" if right else "bad"), "true": (explanation.true or "", "good")}
        if against:
            names = {"said": (explanation.said, ""), "true": (against, "")}
        for key, (target, role) in names.items():
            _, name, probability = self.heads[key]
            name.setText(target)
            probability.setText(f"{explanation.probabilities.get(target, 0.0):.2f}")
            probability.setToolTip(answer_tip(explanation.output))
            set_role(name, role)
            set_role(probability, role)
        self.methods.setCurrentIndex(self.methods.findData(explanation.method))
        method = METHOD_FACTS[explanation.method]
        tip = f"{method.shows} {method.misleads} It costs {method.cost}."
        self.shows.setText(method.shows)
        self.shows.setToolTip(tip)
        self.methods.setToolTip(tip)
        self._place_lens_on(explanation.maps[0].values)
        self.show_maps()

    def show_maps(self) -> None:
        """The maps in the colours of the theme."""
        if self.explanation is None:
            return
        picture = to_image(self.explanation.pixels)
        maps = {map_.key: map_.values for map_ in self.explanation.maps}
        said, true = maps["said"], maps.get("true", maps.get("for", maps["said"]))
        top = max(scale(said), scale(true))
        self.lenses["said"].show_image(picture, to_image(map_colours(said, top=top)))
        if self.pulls and self.explanation.difference is not None:
            self.lenses["true"].show_image(picture, to_image(map_colours(self.explanation.difference, signed=True)))
        else:
            self.lenses["true"].show_image(picture, to_image(map_colours(true, top=top)))
        other = "against" if self.against else "true"
        self.heads["true"][0].setText("said − true, on" if self.pulls and not self.against else other)

    def _place_lens_on(self, map_: NDArray[Any]) -> None:
        """Put the lens where the map is strongest, so that the first look shows something."""
        self._lens_moved(*strongest_place(np.asarray(map_)), self.lenses["said"].radius)

    def _lens_moved(self, x: float, y: float, radius: float) -> None:
        for lens in self.lenses.values():
            lens.place_lens(x, y, radius)

    def _show_whole(self) -> None:
        for lens in self.lenses.values():
            lens.whole = self.whole.isChecked()
            lens.update()

    def _show_difference(self) -> None:
        self.pulls = self.difference.isChecked()
        self.show_maps()
