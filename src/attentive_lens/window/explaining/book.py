"""The case book: all cases with what became of them in later runs, and where effort pays."""

from __future__ import annotations

from PyQt6.QtCore import QSize, Qt, pyqtSignal
from PyQt6.QtGui import QIcon, QKeyEvent, QPixmap
from PyQt6.QtWidgets import QFrame, QHBoxLayout, QHeaderView, QStackedWidget, QVBoxLayout, QWidget

from attentive_lens.core.numbering import place_of
from attentive_lens.desk.requests.cases import CasesTried, CaseTried, TryCases
from attentive_lens.window import look
from attentive_lens.window.parts.bars import Bar, Bars
from attentive_lens.window.parts.basics import button, horizontal, label, to_image, vertical
from attentive_lens.window.parts.empty import EmptyState
from attentive_lens.window.parts.table import Cell, head, table
from attentive_lens.window.session import Session
from attentive_lens.window.words import counted

HEADS = ("case", "image", "said", "true now", "cause", "status", "runs", "what became of it")
WORDS = (0, 2, 3, 4, 5, 6, 7)
PICTURE, ROW = 40, 46
ROLES = {"fixed": "petrol", "settled by its label": "petrol", "still wrong": "vermilion", "newly broken": "vermilion"}


class CaseBookView(QFrame):
    """A row a case; a row opens its image.

    Signals
    -------
    opened
        Number of an image.
    left
        Back to the image.
    tried
        What became of all cases.
    """

    opened = pyqtSignal(int)
    left = pyqtSignal()
    tried = pyqtSignal(object)

    def __init__(self, session: Session) -> None:
        super().__init__()
        self.session = session
        self.result: CasesTried | None = None
        self.setProperty("role", "panel")
        self.setObjectName("case book view")
        inside = vertical(self, spacing=8, margins=(16, 12, 16, 12))
        row = QHBoxLayout()
        row.addWidget(label("Case book", size=look.LARGE, strong=True))
        self.says = label(role="faint", name="book says")
        row.addWidget(self.says, 1)
        row.addWidget(button("Back to the image", "leave book", "Back (Esc).", self.left.emit))
        inside.addLayout(row)
        self.figures = QWidget()
        row = horizontal(self.figures, spacing=32)
        self.by_status, self.by_cause = Bars("cases by status", 170, 40), Bars("cases by cause", 190, 40)
        for words, bars in (("What became of them", self.by_status), ("What they come from", self.by_cause)):
            column = QVBoxLayout()
            column.addWidget(label(words, "faint", look.SMALL))
            column.addWidget(bars)
            column.addStretch(1)
            row.addLayout(column, 1)
        inside.addWidget(self.figures)
        tip = "A double click, or Return, opens the image. Runs: filled where the answer is right, by number."
        self.table = table("cases table", "cases", tip, one_row=True)
        self.table.setIconSize(QSize(PICTURE, PICTURE))
        down = self.table.verticalHeader()
        if down is not None:
            down.setDefaultSectionSize(ROW)
        self.table.cellDoubleClicked.connect(lambda row, _: self._open(row))
        self.none = EmptyState(
            "cases",
            "No case yet",
            "A case keeps an image with its evidence and cause, and every later run tries it again: «Open a case» (C).",
        )
        self.shown = QStackedWidget()
        self.shown.addWidget(self.table)
        self.shown.addWidget(self.none)
        inside.addWidget(self.shown, 1)
        session.cases_changed.connect(self.ask)
        session.runs_changed.connect(self.ask)
        session.images_changed.connect(self.ask)

    def ask(self) -> None:
        """Have all cases tried again, with the runs and labels there are now."""
        if self.session.cases.book.cases or self.result is not None:
            request = TryCases(self.session.place)
            self.session.ask(request, self._take, self.says.setText, priority=5, scope="cases")
        self._show()

    def _take(self, result: CasesTried) -> None:
        self.result = result
        self._show()
        self.tried.emit(result)

    def _show(self) -> None:
        cases = self.result.cases if self.result is not None else ()
        self.figures.setVisible(bool(cases))
        self.shown.setCurrentWidget(self.table if cases else self.none)
        is_open = sum(not each.case.closed for each in cases)
        self.says.setText(f"{counted(len(cases), 'case', 'cases')}, {is_open} open" if cases else "")
        most = max((self.result.by_status | self.result.by_cause).values(), default=1) if self.result is not None else 1
        for bars, counts in (
            (self.by_status, self.result.by_status if self.result is not None else {}),
            (self.by_cause, self.result.by_cause if self.result is not None else {}),
        ):
            bars.show_bars(
                tuple(Bar(word, count / most, str(count), ROLES.get(word, "faint")) for word, count in counts.items())
            )
        self.table.setColumnCount(len(HEADS))
        self.table.setRowCount(len(cases))
        for column, name in enumerate(HEADS):
            self.table.setHorizontalHeaderItem(column, head(name, column in WORDS))
            for place, each in enumerate(cases):
                self.table.setItem(place, column, self._cell(each, column))
        across = self.table.horizontalHeader()
        if across is not None:
            across.setSectionResizeMode(QHeaderView.ResizeMode.ResizeToContents)
            across.setSectionResizeMode(len(HEADS) - 1, QHeaderView.ResizeMode.Stretch)

    def _cell(self, each: CaseTried, column: int) -> Cell:
        case = each.case
        words = (
            f"{case.number}{' · closed' if case.closed else ''}",
            str(case.image),
            case.predicted,
            each.label or "–",
            case.cause or "–",
            each.status,
            " ".join(f"{'●' if answer.right else '○'}{answer.run}" for answer in each.answers),
            each.words,
        )[column]
        cell = Cell(words, case.image if column == 1 else words)
        if column == 5 and each.status in ROLES:
            cell.setForeground(look.theme.colour(ROLES[each.status]))
        if column == 7:
            cell.setToolTip("\n".join(filter(None, (each.words, case.note, case.remedy))))
        pixels = self.session.images.pixels
        if column == 0 and pixels is not None and case.image <= len(pixels):
            cell.setIcon(QIcon(QPixmap.fromImage(to_image(pixels[place_of(case.image)]))))
        return cell

    def _open(self, row: int) -> None:
        if self.result is not None and 0 <= row < len(self.result.cases):
            self.opened.emit(self.result.cases[row].case.image)

    def keyPressEvent(self, event: QKeyEvent | None) -> None:
        """Return opens, Esc goes back."""
        key = Qt.Key(event.key()) if event is not None else Qt.Key.Key_unknown
        if key in (Qt.Key.Key_Return, Qt.Key.Key_Enter):
            self._open(self.table.currentRow())
        elif key == Qt.Key.Key_Escape:
            self.left.emit()
        else:
            super().keyPressEvent(event)
