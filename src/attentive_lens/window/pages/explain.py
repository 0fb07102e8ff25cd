"""Explain, the stage that answers: why this answer for this image."""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray
from PyQt6.QtCore import Qt
from PyQt6.QtGui import QKeySequence, QShortcut
from PyQt6.QtWidgets import QComboBox, QHBoxLayout, QLabel, QScrollArea, QSizePolicy, QVBoxLayout, QWidget

from attentive_lens.desk.map_colours import scale
from attentive_lens.desk.requests.explaining import (
    DEFAULT,
    METHOD_FACTS,
    Explain,
    ExplainFile,
    Explanation,
    Filters,
    FirstFilters,
    Trust,
    TrustChecks,
)
from attentive_lens.window import look
from attentive_lens.window.explaining.causes import CausesPanel
from attentive_lens.window.explaining.layers import LayersPanel
from attentive_lens.window.explaining.trust import TrustPanel
from attentive_lens.window.pages.base import Page, either
from attentive_lens.window.parts.bars import ROW, Bar, Bars
from attentive_lens.window.parts.basics import (
    EmptyState,
    button,
    label,
    map_colours,
    panel,
    set_role,
    to_image,
)
from attentive_lens.window.parts.jump import JumpField
from attentive_lens.window.parts.lens import Lens, strongest_place
from attentive_lens.window.parts.picture import Strip
from attentive_lens.window.session import Session
from attentive_lens.window.words import answer_tip, thousands


class ExplainPage(Page):
    """The lens over two copies of the image, activations, and how far the maps can be trusted."""

    key = "explain"

    def __init__(self, session: Session) -> None:
        super().__init__(session)
        self.image: int | None = None
        self.new_file: tuple[str, str] | None = None
        self.walked: list[int] = []
        self.explanation: Explanation | None = None
        self.filters_of: int | None = None
        self.pulls = False
        empty = EmptyState(
            "No image under the lens",
            "Open one from the Results: click a cell of the matrix, then an image. Or take the surest mistake.",
            "Go to the Results",
            "go to results",
            lambda: session.stage_asked.emit("results"),
        )
        full = QWidget()
        self.stack = either(self, empty, full)
        outer = QHBoxLayout(full)
        outer.setContentsMargins(24, 12, 0, 8)
        outer.setSpacing(16)
        outer.addLayout(self._make_centre(), 1)
        outer.addWidget(self._make_evidence())
        for keys, step in (("PgDown", 1), ("PgUp", -1)):
            QShortcut(QKeySequence(keys), self).activated.connect(lambda s=step: self._step(s))
        session.runs_changed.connect(self._other_run)
        session.scores_ready.connect(self._show_place)
        session.scores_ready.connect(self._take_surest)

    def _make_centre(self) -> QVBoxLayout:
        centre = QVBoxLayout()
        centre.setSpacing(6)
        twins = QHBoxLayout()
        twins.setSpacing(24)
        self.lenses: dict[str, Lens] = {}
        self.heads: dict[str, tuple[QLabel, QLabel, QLabel]] = {}
        for key in ("said", "true"):
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
            twins.addLayout(column, 1)
            self.lenses[key] = lens
            self.heads[key] = (word, name, probability)
        centre.addLayout(twins, 1)
        row = QHBoxLayout()
        row.setSpacing(8)
        row.addWidget(label("Map", "faint"))
        self.method: str | None = None
        self.methods = QComboBox()
        self.methods.setObjectName("method")
        self.methods.setAccessibleName("map method")
        self.methods.setFont(look.font())
        for method_key, method in METHOD_FACTS.items():
            self.methods.addItem(method.label, method_key)
        self.methods.activated.connect(lambda _: self._choose_method(str(self.methods.currentData())))
        row.addWidget(self.methods)
        self.shows = label(role="faint", size=look.SMALL, name="method shows")
        self.shows.setSizePolicy(QSizePolicy.Policy.Ignored, QSizePolicy.Policy.Preferred)
        self.shows.setWordWrap(True)
        row.addWidget(self.shows, 1)
        self.whole = button(
            "Whole map", "whole map", "Show the map over the whole image (Space).", self._show_whole, True
        )
        self.difference = button(
            "said − true",
            "difference",
            "Show on the right what pulled towards said (vermilion) and towards true (petrol).",
            self._show_difference,
            True,
        )
        row.addWidget(self.difference)
        row.addWidget(self.whole)
        centre.addLayout(row)
        self.layers = LayersPanel(self.session)
        centre.addWidget(self.layers)
        return centre

    def _make_evidence(self) -> QWidget:
        side = QWidget()
        side.setObjectName("evidence")
        inside = QVBoxLayout(side)
        inside.setContentsMargins(20, 4, 16, 8)
        inside.setSpacing(10)
        row = QHBoxLayout()
        self.place = label(role="faint", name="mistake place")
        row.addWidget(self.place)
        row.addStretch()
        self.back = button("Previous", "previous mistake", "The previous mistake (Page up).", lambda: self._step(-1))
        self.forth = button("Next", "next mistake", "The next mistake (Page down).", lambda: self._step(1))
        row.addWidget(self.back)
        row.addWidget(self.forth)
        inside.addLayout(row)
        self.jump = JumpField(self.session, self)
        self.jump.chosen.connect(lambda place: self.open_image(place + 1))
        inside.addWidget(self.jump)
        self.file = label(role="faint", size=look.SMALL, name="image file")
        self.file.setWordWrap(True)
        inside.addWidget(self.file)
        inside.addSpacing(4)
        inside.addWidget(label("Answer", strong=True))
        self.answers = Bars("answers", 96, 48)
        self.answers_scroll = QScrollArea()
        self.answers_scroll.setWidgetResizable(True)
        self.answers_scroll.setWidget(self.answers)
        inside.addWidget(self.answers_scroll)
        inside.addSpacing(4)
        self.trust = TrustPanel(self._measure)
        inside.addWidget(self.trust)
        inside.addSpacing(4)
        self.causes = CausesPanel(self.session)
        self.causes.chosen.connect(self._walk_through)
        inside.addWidget(self.causes)
        inside.addSpacing(4)
        frame, box = panel("First-layer filters", "filters panel")
        self.filters = Strip("filters", 36, rows=3)
        box.addWidget(self.filters)
        self.filter_note = label(role="faint", size=look.SMALL, name="filter note")
        self.filter_note.setWordWrap(True)
        box.addWidget(self.filter_note)
        inside.addWidget(frame)
        inside.addStretch()
        scroll = QScrollArea()
        scroll.setWidgetResizable(True)
        scroll.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        scroll.setWidget(side)
        scroll.setFixedWidth(400)
        return scroll

    def state(self) -> str:
        """The image under the lens, in the room there is."""
        if self.image is None:
            return ""
        return f"image {self.image}" if self.image < 1000 else thousands(self.image)

    def action(self) -> tuple[str, bool]:
        """On through the mistakes."""
        return "Next mistake", bool(self.session.scores.mistakes())

    def act(self) -> None:
        """The next mistake."""
        self._step(1)

    def entered(self) -> None:
        """Have the run in view scored; its surest mistake comes under the lens if nothing is there."""
        self.session.scores.want()
        self._take_surest()

    def _take_surest(self) -> None:
        if self.image is None and self.new_file is None and self.isVisible() and self.session.scores.mistakes():
            self.open_image(self.session.scores.mistakes()[0])

    def open_image(self, image: int) -> None:
        """Ask why of an image."""
        view = self.session.runs.view
        if view is None or not view.has_model:
            self.session.said.emit("There is no trained model to ask yet. Train one first.", True)
            return
        self.image, self.new_file = image, None
        request = Explain(self.session.place, view.number, image, self.method or DEFAULT)
        self.session.ask(request, lambda explanation: self._take(view.number, explanation), priority=1, scope="explain")
        self._want_filters(view.number)

    def open_file(self, file: str, against: str) -> None:
        """Ask why of an image file that no workspace knows; there is no true class, so another one takes its place."""
        view = self.session.runs.view
        if view is None or not view.has_model:
            return
        self.image, self.new_file = None, (file, against)
        model = str(self.session.workspace.run(view.number).model)
        request = ExplainFile(model, file, self.method or DEFAULT, against)
        self.session.ask(request, lambda explanation: self._take(view.number, explanation), priority=1, scope="explain")
        self._want_filters(view.number)

    def _want_filters(self, run: int) -> None:
        if self.filters_of != run:
            self.filters_of = run
            self.session.ask(FirstFilters(self.session.place, run), self._take_filters, priority=4, scope="filters")
        self.action_changed.emit()

    def _ask_again(self) -> None:
        """As the run in view or the method is another."""
        if self.image is not None:
            self.open_image(self.image)
        elif self.new_file is not None:
            self.open_file(*self.new_file)

    def _other_run(self) -> None:
        view = self.session.runs.view
        if view is not None and view.has_model and self.filters_of != view.number:
            self._ask_again()

    def _measure(self) -> None:
        view, explanation = self.session.runs.view, self.explanation
        if view is None or explanation is None or explanation.image is None:
            return
        self.trust.show_waiting()

        def take(checks: TrustChecks) -> None:
            if self.explanation is explanation and view.number == self.session.runs.current:
                self.trust.show_measured(checks)

        request = Trust(self.session.place, view.number, explanation.image, explanation.method)
        self.session.ask(request, take, priority=5, scope="trust")

    def _walk_through(self, images: list[int]) -> None:
        self.walked = images
        if images and self.image not in images:
            self.open_image(images[0])
        self._show_place()

    def _mistakes(self) -> list[int]:
        """What is walked through: all mistakes, or those of the chosen group."""
        return self.walked or self.session.scores.mistakes()

    def _step(self, step: int) -> None:
        mistakes = self._mistakes()
        if not mistakes:
            return
        at = mistakes.index(self.image) + step if self.image in mistakes else 0
        self.open_image(mistakes[at % len(mistakes)])

    def _take(self, run: int, explanation: Explanation) -> None:
        asked = self.new_file[0] if self.new_file is not None else self.image
        if run != self.session.runs.current or asked not in (explanation.image, explanation.file):
            return
        self.explanation = explanation
        self.stack.setCurrentIndex(1)
        right = explanation.said == explanation.true
        names = {"said": (explanation.said, "good" if right else "bad"), "true": (explanation.true or "", "good")}
        if self.new_file is not None:
            names = {"said": (explanation.said, ""), "true": (self.new_file[1], "")}
        for key, (target, role) in names.items():
            _, name, probability = self.heads[key]
            name.setText(target)
            probability.setText(f"{explanation.probabilities.get(target, 0.0):.2f}")
            probability.setToolTip(answer_tip(explanation.output))
            set_role(name, role)
            set_role(probability, role)
        order = sorted(explanation.probabilities.items(), key=lambda item: -item[1])
        self.answers.show_bars(tuple(Bar(n, p, f"{p:.2f}", self._role(n)) for n, p in order))
        self.answers_scroll.setFixedHeight(min(12 * ROW, len(order) * ROW) + 2)
        self.trust.show_first(explanation)
        where = f"image {explanation.image} · {explanation.set}" if explanation.image is not None else "new image"
        self.file.setText(f"{where} · {explanation.file.rsplit('/', 1)[-1]}")
        self._show_method(explanation.method)
        self._place_lens_on(explanation.maps[0].values)
        self._show_maps()
        self._show_place()
        self.layers.show_layers(run, explanation)

    def _show_method(self, key: str) -> None:
        self.methods.setCurrentIndex(self.methods.findData(key))
        method = METHOD_FACTS[key]
        tip = f"{method.shows} {method.misleads} It costs {method.cost}."
        self.shows.setText(method.shows)
        self.shows.setToolTip(tip)
        self.methods.setToolTip(tip)

    def _choose_method(self, key: str) -> None:
        self.method = key
        self._ask_again()

    def _role(self, name: str) -> str:
        if self.explanation is None:
            return "faint"
        if name == self.explanation.true:
            return "petrol"
        return "vermilion" if name == self.explanation.said else "faint"

    def _take_filters(self, filters: Filters) -> None:
        if filters.pictures is None:
            self.filters.show_pictures([])
            self.filter_note.setText("The network does not begin with a convolution.")
            return
        self.filters.show_pictures([to_image((p * 255).astype(np.uint8)) for p in filters.pictures])
        self.filter_note.setText(
            f"{filters.layer}: what each of its {len(filters.pictures)} filters looks for, as colours about grey."
        )

    def restyled(self) -> None:
        """Maps are drawn in the theme's colours."""
        self._show_maps()
        self.layers.draw_maps()

    def _show_maps(self) -> None:
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
        other = "true" if self.new_file is None else "against"
        self.heads["true"][0].setText("said − true, on" if self.pulls and self.new_file is None else other)

    def _show_place(self) -> None:
        self.causes.check()
        if not self.causes.groups:
            self.walked = []
        mistakes = self._mistakes()
        if self.image in mistakes:
            at = mistakes.index(self.image) + 1
            self.place.setText(f"mistake {at} of {len(mistakes)} on {self.session.scores.on}")
        else:
            self.place.setText(f"{len(mistakes)} mistakes on {self.session.scores.on}" if mistakes else "")
        for step_button in (self.back, self.forth):
            step_button.setEnabled(bool(mistakes))
        self.action_changed.emit()

    def _place_lens_on(self, map_: NDArray[Any]) -> None:
        """Put the lens where the map is strongest, so that the first look shows something."""
        self._lens_moved(*strongest_place(map_), self.lenses["said"].radius)

    def _lens_moved(self, x: float, y: float, radius: float) -> None:
        for lens in self.lenses.values():
            lens.place_lens(x, y, radius)

    def _show_whole(self) -> None:
        for lens in self.lenses.values():
            lens.whole = self.whole.isChecked()
            lens.update()

    def _show_difference(self) -> None:
        self.pulls = self.difference.isChecked()
        self._show_maps()
