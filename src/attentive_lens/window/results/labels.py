"""How a run that answers several labels did on each, which labels go together, and from when on each is said."""

from __future__ import annotations

from functools import partial

import numpy as np
from numpy.typing import NDArray
from PyQt6.QtCore import pyqtSignal
from PyQt6.QtWidgets import QHBoxLayout, QHeaderView

from attentive_lens.desk.requests.labels import ChooseThresholds, ScoreLabels, ThresholdsChosen
from attentive_lens.scoring.labels import LabelScores, OfLabel
from attentive_lens.scoring.measures import Share
from attentive_lens.scoring.thresholds import COST, FIXED, PRECISION, RULES
from attentive_lens.window.parts.basics import button, chooser, label, vertical, view_button
from attentive_lens.window.parts.flow import Flow
from attentive_lens.window.parts.form import Form
from attentive_lens.window.parts.matrix import ConfusionMatrix
from attentive_lens.window.parts.table import Cell, fit_height, head, table
from attentive_lens.window.results.behind import Behind
from attentive_lens.window.results.view import ResultsView
from attentive_lens.window.session import Session
from attentive_lens.window.words import counted, percent

HEADS = ("label, images", "F1", "missed", "false", "threshold", "precision %", "recall %", "AP")
TIPS = {
    "label, images": "The label, and how many images have it.",
    "threshold": "The label is said of images whose probability is above.",
    "precision %": "Of the images said to have it, the part that does, with its 95 % interval.",
    "recall %": "Of the images that have it, the part said to, with its 95 % interval.",
    "F1": "The harmonic mean of precision and recall.",
    "AP": "Average precision: how well images that have it are ranked before all others, whatever the threshold.",
    "missed": "Images that have it and are not said to.",
    "false": "Images that are said to have it and do not.",
}
OWN = {
    "on images": "Images that have both labels; on the diagonal, those that have one.",
    "said": "Images that are said to have both.",
    "exchanged": "Images of which the row's label is missed and the column's is falsely said.",
}
FIELDS = {PRECISION: ("precision",), COST: ("missed", "false"), FIXED: ("value",)}
"""What each rule of thresholds takes."""


LEAST_MATRIX, LEAST_TABLE = 200, 135
"""Pixels of height, where there is little room: some rows of both are seen."""
LONG = 16
"""Letters of a label beyond which a button does not name it."""


class LabelsView(ResultsView):
    """A row a label; a row chosen is the label that all other views are about.

    Signals
    -------
    chosen
        Images to be shown: words, and their numbers.
    """

    chosen = pyqtSignal(str, tuple)

    word = "labels"

    def __init__(self, session: Session) -> None:
        super().__init__(session)
        self.scores: LabelScores | None = None
        self.rule = ChooseThresholds("", 0, RULES[0])
        self.own = next(iter(OWN))
        inside = vertical(self, spacing=8, margins=(16, 12, 16, 12))
        self.says = label("", name="labels say")
        self.says.setWordWrap(True)
        inside.addWidget(self.says)
        tip = "A row is the label that the other views, and Explain, are about; its mistakes stand beside."
        self.table = table("labels table", "labels", tip, one_row=True)
        self.table.itemSelectionChanged.connect(self._choose)
        inside.addWidget(self.table, 3)
        inside.addLayout(self._make_thresholds())
        self.worth = label("", role="faint", name="thresholds worth")
        self.worth.setWordWrap(True)
        self.worth.hide()
        inside.addWidget(self.worth)
        row = QHBoxLayout()
        row.addWidget(label("co-occurrence", "faint"))
        self.ways = {}
        for words, tip in OWN.items():
            self.ways[words] = view_button(words, f"labels {words}", tip, partial(self.show_own, words))
            row.addWidget(self.ways[words])
        row.addStretch()
        inside.addLayout(row)
        self.matrix = ConfusionMatrix()
        self.matrix.setObjectName("labels together")
        self.matrix.setAccessibleName("images by two labels")
        self.matrix.setToolTip("A click shows the images of two labels; Ctrl and the wheel zoom.")
        self.matrix.chosen.connect(self._choose_cells)
        self.matrix.setMinimumHeight(LEAST_MATRIX)
        self.table.setMinimumHeight(LEAST_TABLE)
        inside.addWidget(self.matrix, 4)

    def _make_thresholds(self) -> Flow:
        """What thresholds are chosen by, and for which labels."""
        row = Flow(spacing=8)
        row.addWidget(label("thresholds by", "faint"))
        tip = "On the validation images: the greatest F1, the least cost, a precision, or one number for all."
        self.by = chooser("thresholds by", "rule of thresholds", tip, RULES)
        self.by.activated.connect(lambda _: self._take_rule())
        row.addWidget(self.by)
        self.forms = {}
        for rule, names in FIELDS.items():
            self.forms[rule] = Form(self.rule, names, self._set_rule, wide=70, section="thresholds")
            row.addWidget(self.forms[rule])
        tip = "Choose the thresholds of all labels anew; what is said follows at once."
        self.all = button("Choose all", "choose thresholds", tip, partial(self.choose_thresholds, ()))
        row.addWidget(self.all)
        self.one = button("Choose one", "choose threshold", "", self._choose_one)
        row.addWidget(self.one)
        self._take_rule()
        return row

    def leads_to(self, behind: Behind) -> None:
        """See `ResultsView`."""
        self.chosen.connect(behind.numbered)

    def figure(self) -> str:
        """How well all labels are ranked, once that is known."""
        value = self.scores.mean_average_precision if self.scores is not None else None
        return f"mean {value:.3f}" if value is not None else ""

    def _take_rule(self) -> None:
        self.rule = self.rule.with_(by=self.by.currentText())
        for rule, form in self.forms.items():
            form.setVisible(rule == self.rule.by)

    def _set_rule(self, rule: ChooseThresholds) -> None:
        self.rule = rule.with_(by=self.by.currentText())

    def _choose_one(self) -> None:
        self.choose_thresholds((self.session.runs.asks_about,))

    def choose_thresholds(self, labels: tuple[str, ...]) -> None:
        """Choose those of some labels, or of all, by the rule in view."""
        run = self.session.runs.current
        if run is None:
            return
        values = {name: getattr(self.rule, name) for name in ("by", "precision", "missed", "false", "value")}
        request = ChooseThresholds(self.session.place, int(run), labels=labels, **values)
        self._tell("Choosing thresholds …")
        self.session.ask(request, self._take_thresholds, self._tell, priority=2, scope="thresholds")

    def _tell(self, words: str) -> None:
        self.worth.setText(words)
        self.worth.setVisible(bool(words))

    def _take_thresholds(self, result: ThresholdsChosen) -> None:
        self._tell(result.sentence)
        self.session.scores.forget()

    def refresh(self) -> None:
        """Have all labels scored on the set in view, where run, set or thresholds are others."""
        runs = self.session.runs
        name = runs.asks_about
        self.one.setText(f"Choose «{name}»" if len(name) <= LONG else "Choose this one")
        self.one.setToolTip(f"Choose the threshold of «{name}» alone anew.")
        self._select(name)
        if runs.current is None or not name or not self.asks_anew():
            return
        request = ScoreLabels(self.session.place, int(runs.current), self.session.scores.on)
        self.session.ask(request, self._take, self.says.setText, priority=2, scope="labels")

    def _take(self, scores: LabelScores) -> None:
        self.scores = scores
        self.says.setText(_summary(scores))
        self.table.blockSignals(True)
        self.table.setSortingEnabled(False)
        self.table.setColumnCount(len(HEADS))
        self.table.setRowCount(len(scores.by_label))
        for column, words in enumerate(HEADS):
            self.table.setHorizontalHeaderItem(column, head(words, not column, TIPS[words]))
        for place, each in enumerate(scores.by_label):
            for column, cell in enumerate(_cells(each)):
                self.table.setItem(place, column, cell)
        across = self.table.horizontalHeader()
        if across is not None:
            across.setSectionResizeMode(QHeaderView.ResizeMode.ResizeToContents)
            across.setStretchLastSection(True)
        self.table.setSortingEnabled(True)
        if across is not None:
            across.setSortIndicatorShown(False)  # it would take room from every column
        self.table.blockSignals(False)
        fit_height(self.table)
        self._select(self.session.runs.asks_about)
        self.show_own(self.own)
        self.changed.emit()

    def _select(self, name: str) -> None:
        """The row of a label, as chosen elsewhere."""
        for place in range(self.table.rowCount()):
            item = self.table.item(place, 0)
            if isinstance(item, Cell) and item.value == name and self.table.currentRow() != place:
                self.table.blockSignals(True)
                self.table.selectRow(place)
                self.table.blockSignals(False)

    def _choose(self) -> None:
        items = self.table.selectedItems()
        first = self.table.item(items[0].row(), 0) if items else None
        if isinstance(first, Cell):
            self.session.runs.choose_label(str(first.value))

    def show_own(self, words: str) -> None:
        """Show one of `OWN` as a matrix."""
        self.own = words
        for key, each in self.ways.items():
            each.setChecked(key == words)
        scores, matrix = self.scores, self.matrix
        if scores is None:
            return
        counts, whole = _counts(scores, words)
        matrix.all_right = words != "exchanged"
        matrix.down, matrix.across = ("missed", "falsely said") if words == "exchanged" else ("images with", "and with")
        matrix.show_counts(scores.labels, counts, whole)

    def choose_none(self) -> None:
        """See `ResultsView`."""
        self.matrix.choose_none()

    def _choose_cells(self, top: int, bottom: int, left: int, right: int) -> None:
        if self.scores is None:
            return
        scores, there, said = self.scores, self.scores.there.astype(bool), self.scores.said.astype(bool)
        ones = {"on images": (there, there), "said": (said, said), "exchanged": (there & ~said, said & ~there)}
        first, second = ones[self.own]
        inside = first[:, top : bottom + 1].any(axis=1) & second[:, left : right + 1].any(axis=1)
        names = scores.labels[top] if top == bottom else "several", scores.labels[left] if left == right else "several"
        link = "missed, falsely said" if self.own == "exchanged" else "and"
        numbers = tuple(scores.numbers[inside].tolist())
        words = f"{names[0]} {link} {names[1]}" if names[0] != names[1] else names[0]
        self.chosen.emit(f"{words}: {counted(len(numbers), 'image', 'images')}", numbers)


def _counts(scores: LabelScores, words: str) -> tuple[NDArray[np.int64], NDArray[np.int64]]:
    """Images by two labels, and of how many each row's are parts."""
    if words == "exchanged":
        return np.array(scores.exchanged), np.array([len(each.missed) for each in scores.by_label], np.int64)
    counts = np.array(scores.together if words == "on images" else scores.said_together)
    return counts, counts.diagonal().copy()


def _summary(scores: LabelScores) -> str:
    """How good it is, beside what doing nothing would bring."""
    mean, chance = scores.mean_average_precision, scores.chance
    ranked = "" if mean is None or chance is None else f"Mean average precision {mean:.3f}, in any order {chance:.3f}. "
    f1 = "" if scores.macro_f1 is None else f"Macro F1 {scores.macro_f1:.3f}. "
    exact, each, nothing = (
        percent(share.value or 0.0) for share in (scores.exact_match, scores.label_accuracy, scores.nothing_said)
    )
    caution = " Thresholds were chosen on these images: the test set tells what they are worth."
    return (
        f"{ranked}{f1}Every label right on {exact} of {scores.images} images; of all answers {each} are right, with no"
        f" label ever said {nothing}.{caution if scores.on == 'validation' else ''}"
    )


def _share(share: Share) -> str:
    """In whole hundredths, with its interval: there are many columns."""
    if share.value is None or share.low is None or share.high is None:
        return "–"
    return f"{share.value * 100:.0f}  {share.low * 100:.0f}–{share.high * 100:.0f}"


def _cells(each: OfLabel) -> list[Cell]:
    return [
        Cell(f"{each.name} · {each.support}", each.name),
        Cell("–" if each.f1 is None else f"{each.f1:.3f}", each.f1),
        Cell(f"{len(each.missed)}", len(each.missed)),
        Cell(f"{len(each.false)}", len(each.false)),
        Cell(f"{each.threshold:.2f}", each.threshold),
        Cell(_share(each.precision), each.precision.value),
        Cell(_share(each.recall), each.recall.value),
        Cell("–" if each.average_precision is None else f"{each.average_precision:.3f}", each.average_precision),
    ]
