"""Parts of a set that are answered worse than the rest: found by themselves, and each leads to its images."""

from __future__ import annotations

from PyQt6.QtCore import pyqtSignal
from PyQt6.QtWidgets import QHeaderView

from attentive_lens.desk.requests.slices import FindSlices, SlicesFound
from attentive_lens.scoring.slices import Slice
from attentive_lens.window import look
from attentive_lens.window.parts.basics import label, vertical
from attentive_lens.window.parts.table import Cell, head, table
from attentive_lens.window.results.behind import Behind
from attentive_lens.window.results.view import ResultsView
from attentive_lens.window.session import Session
from attentive_lens.window.words import percent

HEADS = ("cut by", "part", "images", "right", "others", "chance", "within classes")
TIPS = {
    "chance": "Probability that chance alone does so badly, corrected for all slices tried.",
    "within classes": "The same, allowing for the slice's classes: small if it is more than hard classes.",
}
SURE = 0.05


class SlicesView(ResultsView):
    """A row a slice, the least likely by chance first.

    Signals
    -------
    chosen
        A slice whose images are to be shown: its words, and their numbers.
    """

    chosen = pyqtSignal(str, tuple)

    word = "slices"

    def __init__(self, session: Session) -> None:
        super().__init__(session)
        self.slices: tuple[Slice, ...] = ()
        inside = vertical(self, spacing=8, margins=(16, 12, 16, 12))
        self.says = label(name="slices say")
        self.says.setWordWrap(True)
        inside.addWidget(self.says)
        tip = "A row shows the slice's images. Chance is corrected for all slices that were tried."
        self.table = table("slices table", "slices", tip, one_row=True)
        self.table.itemSelectionChanged.connect(self._choose)
        inside.addWidget(self.table, 1)

    def leads_to(self, behind: Behind) -> None:
        """See `ResultsView`."""
        self.chosen.connect(behind.numbered)

    def figure(self) -> str:
        """How many are worse than the rest, once that is known."""
        worse = sum(each.p_value < SURE for each in self.slices)
        return f"{worse} of {len(self.slices)} worse" if self.slices else ""

    def refresh(self) -> None:
        """Have the slices of the run and set in view found, once."""
        run = self.session.runs.in_view
        if run is None or not self.asks_anew():
            return
        self._show((), "Cutting the set …")
        request = FindSlices(self.session.place, run, self.session.scores.on)
        self.session.ask(request, self._found, lambda words: self._show((), words), priority=4, scope="slices")

    def _found(self, result: SlicesFound) -> None:
        worse = [each for each in result.slices if each.p_value < SURE]
        words = (
            f"{len(worse)} of {len(result.slices)} slices are answered worse than the rest, beyond chance."
            if worse
            else f"None of {len(result.slices)} slices is answered worse than the rest beyond chance."
        )
        self._show(result.slices, words if result.slices else "There are too few images to cut into slices.")
        self.changed.emit()

    def _show(self, slices: tuple[Slice, ...], words: str) -> None:
        self.slices = slices
        self.says.setText(words)
        self.table.blockSignals(True)
        self.table.clearSelection()
        self.table.setColumnCount(len(HEADS))
        self.table.setRowCount(len(slices))
        for column, name in enumerate(HEADS):
            self.table.setHorizontalHeaderItem(column, head(name, column < 2, TIPS.get(name, "")))
            for place, each in enumerate(slices):
                cell = Cell(_cells(each)[column], "" if column < 2 else None)
                if each.p_value < SURE:
                    cell.setForeground(look.theme.colour("vermilion"))
                self.table.setItem(place, column, cell)
        across = self.table.horizontalHeader()
        if across is not None:
            across.setSectionResizeMode(QHeaderView.ResizeMode.ResizeToContents)
            across.setSectionResizeMode(1, QHeaderView.ResizeMode.Stretch)
        self.table.blockSignals(False)

    def _choose(self) -> None:
        rows = {item.row() for item in self.table.selectedItems()}
        if len(rows) == 1:
            each = self.slices[rows.pop()]
            self.chosen.emit(f"{each.by}: {each.name}", tuple(each.members.tolist()))


def _cells(each: Slice) -> tuple[str, ...]:
    right, low, high = each.right.value, each.right.low, each.right.high
    within = f"{percent(right)}  {low * 100:.0f}–{high * 100:.0f}" if None not in (right, low, high) else "–"  # type: ignore[arg-type,operator]
    others = percent(each.others) if each.others is not None else "–"
    return each.by, each.name, str(each.right.of), within, others, _chance(each.p_value), _chance(each.p_within)


def _chance(value: float) -> str:
    return "< 0.001" if value < 0.001 else f"{value:.3f}" if value < 1 else "1"
