"""What stands in the middle of Explain: the pair under the lens, the answers under it, the case in a line."""

from __future__ import annotations

from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import QScrollArea, QWidget

from attentive_lens.desk.requests.explaining import Explanation, LabelAnswer
from attentive_lens.window.explaining.case import CasePanel
from attentive_lens.window.explaining.map_choice import MapChooser
from attentive_lens.window.explaining.twins import Twins
from attentive_lens.window.parts.bars import ROW, Bar, Bars
from attentive_lens.window.parts.basics import vertical
from attentive_lens.window.session import Session

NAMES, FIGURES, LEAST = 132, 48, 3
"""Pixels of an answer's class and of its figure; answers that are seen at least."""


class ExplainHero(QScrollArea):
    """As tall as there is room; where that is too little, it scrolls."""

    def __init__(self, session: Session) -> None:
        super().__init__()
        self.setObjectName("explained image")
        self.setAccessibleName("the image, its maps and answers")
        self.session = session
        self._labels: tuple[str, ...] = ()
        hero = QWidget()
        inside = vertical(hero, spacing=8)
        methods = MapChooser(session.runs.facts, lambda: len(session.images.collection.rows), self._channels)
        self.twins = Twins(methods, session.message.emit)
        inside.addWidget(self.twins, 100)
        self.answers = Bars("answers", NAMES, FIGURES)
        self._scroll = QScrollArea()
        self._scroll.setWidgetResizable(True)
        self._scroll.setMinimumHeight(LEAST * ROW)
        self._scroll.setWidget(self.answers)
        inside.addWidget(self._scroll, 1)
        inside.addStretch(0)
        self.case = CasePanel(session)
        inside.addWidget(self.case)
        self.setWidgetResizable(True)
        self.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        self.setWidget(hero)

    def _channels(self) -> tuple[str, ...]:
        """What the run in view calls the channels that it sees; none where they are an ordinary picture's."""
        plan = self.session.runs.plan()
        return plan.preprocessing.channel_names if plan is not None else ()

    def _choose_label(self, row: int) -> None:
        """Ask about the label of a bar."""
        if row < len(self._labels):
            self.session.runs.choose_label(self._labels[row])

    def show_answers(self, explanation: Explanation) -> None:
        """Every class's, the surest first; of several labels all of them, with what is wrong about each."""
        self.twins.chooser.take(self.twins.chooser.choice)  # another run may see other channels
        bars = answer_bars(explanation)
        if bool(explanation.labels) != bool(self._labels):
            change = self.answers.chosen.connect if explanation.labels else self.answers.chosen.disconnect
            change(self._choose_label)
        self._labels = tuple(each.name for each in explanation.labels_by_answer)
        self.answers.show_bars(bars)
        self._scroll.setMaximumHeight(len(bars) * ROW + 2)


def answer_bars(explanation: Explanation) -> tuple[Bar, ...]:
    """A bar for every class, the surest first, or for every label where there are several."""
    if explanation.labels:
        return tuple(_of_label(each) for each in explanation.labels_by_answer)
    order = sorted(explanation.probabilities.items(), key=lambda item: -item[1])
    return tuple(Bar(name, part, f"{part:.2f}", _role(explanation, name)) for name, part in order)


def _of_label(answer: LabelAnswer) -> Bar:
    role = "petrol" if answer.there else "vermilion" if answer.mistake else "faint"
    words = f"{answer.name} · {answer.mistake}" if answer.mistake else answer.name
    return Bar(words, answer.probability, f"{answer.probability:.2f}", role)


def _role(explanation: Explanation, name: str) -> str:
    if name == explanation.true:
        return "petrol"
    if name != explanation.predicted:
        return "faint"
    return "vermilion" if explanation.true is not None else "ink"
