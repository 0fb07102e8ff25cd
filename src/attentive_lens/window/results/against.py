"""The run in view against another one, image by image: what it fixes, what it breaks, and whether that is chance."""

from __future__ import annotations

from functools import partial

import numpy as np
from PyQt6.QtCore import pyqtSignal
from PyQt6.QtWidgets import (
    QAbstractItemView,
    QHBoxLayout,
    QHeaderView,
)

from attentive_lens.core.numbering import place_of
from attentive_lens.desk.requests.manifests import MakeManifest, Manifested
from attentive_lens.desk.results.comparing import seeds_in_words
from attentive_lens.scoring.paired import Paired, in_words, paired
from attentive_lens.window.parts.basics import button, chooser, horizontal, label, vertical
from attentive_lens.window.parts.sheet import ContactSheet, Group
from attentive_lens.window.parts.table import Cell, head, table
from attentive_lens.window.parts.unit_square import Line, UnitSquare
from attentive_lens.window.results.behind import Behind
from attentive_lens.window.results.view import ResultsView
from attentive_lens.window.session import Session
from attentive_lens.window.words import thousands

CURVES, SIDE = 212, 92
"""Pixels of the curves, and of a picture."""
HEADS = ("class", "images", "fixed", "newly broken", "still wrong")
KINDS = {
    "Fixed": "Images that the other run answers wrongly and this one rightly.",
    "Newly broken": "Images that the other run answers rightly and this one wrongly.",
    "Still wrong": "Images that both answer wrongly.",
}


class AgainstView(ResultsView):
    """Another run, and what became of its mistakes.

    Signals
    -------
    requested
        Images of one of `KINDS` are to be shown: its words, and their numbers.
    """

    requested = pyqtSignal(str, tuple)

    word = "against"

    def __init__(self, session: Session) -> None:
        super().__init__(session)
        self.result: Paired | None = None
        inside = vertical(self, spacing=8, margins=(16, 12, 16, 12))
        row = QHBoxLayout()
        row.addWidget(label("Against", "faint"))
        self.other = chooser(
            "against run",
            "the other run",
            "The run whose mistakes are looked at: what does the one in view make of them?",
        )
        self.other.currentIndexChanged.connect(self._compare)
        row.addWidget(self.other, 1)
        inside.addLayout(row)
        self.says = label(name="against says")
        self.says.setWordWrap(True)
        inside.addWidget(self.says)
        self.apart = label(role="warn", name="against images differ")
        self.apart.setWordWrap(True)
        self.apart.hide()
        inside.addWidget(self.apart)
        row = horizontal(spacing=8)
        self.kinds = {}
        for words, tip in KINDS.items():
            self.kinds[words] = button(words, f"show {words.lower()}", tip, partial(self._ask, words))
            row.addWidget(self.kinds[words])
        row.addStretch()
        inside.addLayout(row)
        self.table = table("against table", "changes by class", "What became of each class's images.")
        self.table.setSelectionMode(QAbstractItemView.SelectionMode.NoSelection)
        self.curves = UnitSquare("Validation", "epochs", "right", "curves of both")
        self.curves.setFixedSize(CURVES, CURVES)
        row = horizontal(spacing=8)
        row.addWidget(self.table, 1)
        row.addWidget(self.curves)
        inside.addLayout(row)
        self.sheet = ContactSheet("against sheet", SIDE)
        self.sheet.setToolTip("Under each image what the other run said, and what this one says; Enter explains it.")
        self.sheet.opened.connect(self.opened)
        inside.addWidget(self.sheet, 1)

    def leads_to(self, behind: Behind) -> None:
        """See `ResultsView`."""
        self.requested.connect(lambda words, numbers: behind.numbered(f"{words} against run {self.run}", numbers))

    def refresh(self) -> None:
        """The other runs that have a model; the one chosen stays."""
        before, runs = self.other.currentData(), self.session.runs
        self.other.blockSignals(True)
        self.other.clear()
        for number, view in sorted(runs.views.items()):
            if number != runs.current and view.has_model and not view.draws:
                self.other.addItem(f"run {number} · {view.name}", number)
        self.other.setCurrentIndex(max(0, self.other.findData(before)))
        self.other.blockSignals(False)
        self._compare()

    def _compare(self) -> None:
        """Show what is known; the other run is scored where it is not."""
        scores, current, number = self.session.scores, self.session.runs.in_view, self.other.currentData()
        self.result = None
        self.apart.hide()
        if number is None or current is None:
            self.says.setText("There is no other run with a model to compare with.")
        elif scores.current is None or (theirs := scores.of(int(number))) is None:
            self.says.setText(scores.problem or f"Scoring run {number} …")
        else:
            self.result = paired(theirs, scores.current)
            self.says.setText(" ".join(filter(None, (in_words(self.result, int(number), current), self._seeds()))))
            request = MakeManifest(self.session.place, int(current), "", str(number))
            unknown = lambda _: None  # noqa: E731  # of a run that noted no images there is nothing to tell
            self.session.ask(request, partial(self._show_apart, request), unknown, scope="against")
        self._fill()

    def _show_apart(self, request: MakeManifest, result: Manifested) -> None:
        """Which images the two runs saw otherwise: their figures are not of the same."""
        if request.run == self.session.runs.current and request.against == str(self.run):
            self.apart.setText(" ".join(result.sentences))
            self.apart.setVisible(bool(result.sentences))

    def _seeds(self) -> str:
        """How far seeds alone move the accuracy of the plan in view, where it was trained with several."""
        plan = self.session.runs.plan()
        return seeds_in_words(self.session.workspace, plan) if plan is not None else ""

    @property
    def run(self) -> int:
        """Number of the other run; 0 for none."""
        return int(self.other.currentData() or 0)

    def _draw_curves(self) -> None:
        """How both came to their accuracy, each over its own epochs."""
        lines, words = [], []
        for number, role in ((self.session.runs.current, "petrol"), (self.run, "faint")):
            view = self.session.runs.views.get(number or 0)
            known = [(e.epoch, e.validation.main) for e in view.epochs if e.validation is not None] if view else []
            if view is not None and known:
                of = max(view.planned, known[-1][0], 1)
                lines.append(Line(np.array([(epoch / of, right) for epoch, right in known]), role))
                words.append(f"run {number}{' grey' if role == 'faint' else ''}")
        self.curves.show_lines(lines, ", ".join(words))

    def _fill(self) -> None:
        self._draw_curves()
        result = self.result
        counts = (len(result.fixed), len(result.broken), len(result.still_wrong)) if result is not None else (0, 0, 0)
        for (words, each), count in zip(self.kinds.items(), counts, strict=True):
            each.setText(f"{words} · {count}" if result is not None else words)
            each.setEnabled(count > 0)
        rows = result.by_class if result is not None else ()
        self.table.setColumnCount(len(HEADS))
        self.table.setRowCount(len(rows))
        for column, name in enumerate(HEADS):
            self.table.setHorizontalHeaderItem(column, head(name, not column))
            for place, of in enumerate(rows):
                figure = (of.name, of.images, of.fixed, of.broken, of.still_wrong)[column]
                self.table.setItem(place, column, Cell(f"{figure}" if figure else "–", figure))
        across = self.table.horizontalHeader()
        if across is not None:
            across.setSectionResizeMode(QHeaderView.ResizeMode.ResizeToContents)
            across.setSectionResizeMode(0, QHeaderView.ResizeMode.Stretch)
        self.table.setFixedHeight(CURVES)
        self._show_pairs()

    def _show_pairs(self) -> None:
        """Every image that changed sides or stayed wrong, with what each run says of it."""
        result, ours = self.result, self.session.scores.current
        theirs = self.session.scores.of(self.run) if result is not None else None
        if result is None or ours is None or theirs is None:
            self.sheet.show_groups(self.session.images.pixels, ())
            return
        said = [
            {answer.image: scores.classes[answer.predicted] for answer in scores.answers} for scores in (theirs, ours)
        ]
        groups = []
        for words, numbers in zip(KINDS, (result.fixed, result.broken, result.still_wrong), strict=True):
            captions = tuple(_change(said[0][number], said[1][number], words) for number in numbers)
            if numbers:
                groups.append(
                    Group(f"{words} · {thousands(len(numbers))}", "", tuple(map(place_of, numbers)), captions)
                )
        self.sheet.show_groups(self.session.images.pixels, tuple(groups))

    def _ask(self, words: str) -> None:
        if self.result is not None:
            result = self.result
            numbers = dict(zip(KINDS, (result.fixed, result.broken, result.still_wrong), strict=True))[words]
            self.requested.emit(words, numbers)


def _change(before: str, after: str, kind: str) -> str:
    """What the other run said, what this one says, as far as it is not the truth that the picture is of."""
    if kind == "Fixed":
        return f"was {before}"
    if kind == "Newly broken":
        return f"now {after}"
    return after if before == after else f"{before} → {after}"
