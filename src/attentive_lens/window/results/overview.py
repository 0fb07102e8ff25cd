"""Training, validation and test side by side: how good, how sure that is, and how far apart they are."""

from __future__ import annotations

from functools import partial
from pathlib import Path

from PyQt6.QtCore import QPointF, QRectF, QSize, Qt, pyqtSignal
from PyQt6.QtGui import QPainter, QPaintEvent, QPen
from PyQt6.QtWidgets import QAbstractItemView, QFileDialog, QHBoxLayout, QHeaderView

from attentive_lens.core.objects import Same
from attentive_lens.desk.requests.exporting import FILES, Exported, ExportModel
from attentive_lens.desk.requests.images import FaultAction, FaultsFound, FindFaults
from attentive_lens.desk.requests.reporting import ReportWritten, WriteReport
from attentive_lens.desk.requests.verifying import Verified, Verify
from attentive_lens.errors import LensError
from attentive_lens.scoring.gaps import gaps_in_words, small_in_words
from attentive_lens.scoring.measures import Overview
from attentive_lens.scoring.scores import Scores
from attentive_lens.window import look
from attentive_lens.window.parts.basics import button, label, vertical
from attentive_lens.window.parts.row_list import RowList
from attentive_lens.window.parts.saving import can_be_saved
from attentive_lens.window.parts.table import Cell, head, table
from attentive_lens.window.printing import print_report
from attentive_lens.window.results.view import ResultsView
from attentive_lens.window.session import Session
from attentive_lens.window.words import percent, thousands

SETS = ("training", "validation", "test")
ROW, NAMES, FIGURES = 34, 92, 70


LEAKS = ("duplicates", "tiles")
"""Finders of what stands in two sets."""


class AccuracyBars(RowList):
    """A bar a set: accuracy with its interval, and what guessing and the largest class would get.

    Signals
    -------
    chosen
        The set that was clicked.
    """

    chosen = pyqtSignal(str)

    def __init__(self) -> None:
        super().__init__("set bars", "accuracy of the sets", ROW)
        self.setFixedHeight(ROW * len(SETS) + 22)
        self.setToolTip(
            "Accuracy; the thin line is its 95 % interval. Dotted: always saying the largest class; dashed: guessing."
        )
        self.views: dict[str, Overview] = {}
        self.current = ""

    def show_sets(self, views: dict[str, Overview], current: str) -> None:
        """Others; one of them is in view."""
        self.views, self.current = views, current
        self.update()

    def sizeHint(self) -> QSize:
        """A row a set."""
        return QSize(300, self.height())

    def paintEvent(self, event: QPaintEvent | None) -> None:
        """Names, bars, intervals, baselines, figures."""
        t, painter = look.theme, QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        left, wide = float(NAMES), float(max(40, self.width() - NAMES - FIGURES))
        side = Qt.AlignmentFlag.AlignVCenter
        for row, name in enumerate(SETS):
            y, view = row * ROW, self.views.get(name)
            painter.setFont(look.font(look.TEXT, name == self.current))
            painter.setPen(t.colour("ink" if view is not None else "faint"))
            painter.drawText(QRectF(0, y, NAMES, ROW), side, name)
            groove = QRectF(left, y + ROW / 2 - 6, wide, 12)
            painter.setPen(Qt.PenStyle.NoPen)
            painter.setBrush(t.colour("well"))
            painter.drawRoundedRect(groove, 2, 2)
            if view is None or view.accuracy.value is None:
                painter.setPen(t.colour("faint"))
                painter.drawText(QRectF(left + wide + 8, y, FIGURES, ROW), side, "–")
                continue
            painter.setBrush(t.colour("petrol"))
            painter.drawRoundedRect(QRectF(left, groove.top(), wide * view.accuracy.value, 12), 2, 2)
            low, high = view.accuracy.low or 0.0, view.accuracy.high or 0.0
            middle = y + ROW / 2
            painter.setPen(QPen(t.colour("ink"), 1.5))
            painter.drawLine(QPointF(left + wide * low, middle), QPointF(left + wide * high, middle))
            for end in (low, high):
                painter.drawLine(QPointF(left + wide * end, middle - 5), QPointF(left + wide * end, middle + 5))
            for share, style in ((view.chance, Qt.PenStyle.DashLine), (view.majority, Qt.PenStyle.DotLine)):
                if share is not None:
                    painter.setPen(QPen(t.colour("ochre"), 1.5, style))
                    x = left + wide * share
                    painter.drawLine(QPointF(x, groove.top() - 5), QPointF(x, groove.bottom() + 5))
            painter.setPen(t.colour("ink"))
            painter.drawText(QRectF(left + wide + 8, y, FIGURES, ROW), side, percent(view.accuracy.value))
        painter.setFont(look.font(look.SMALL))
        painter.setPen(t.colour("faint"))
        foot = QRectF(left, ROW * len(SETS), wide, 20)
        painter.drawText(foot, side, "┄ guessing   ⋯ always the largest class   ├─┤ 95 %")
        self.paint_focus(painter)

    def count(self) -> int:
        """Sets."""
        return len(SETS)

    def place_in_view(self) -> int | None:
        """The set in view."""
        return SETS.index(self.current) if self.current in SETS else None

    def choose(self, place: int) -> None:
        """Put a set in view."""
        if SETS[place] != self.current:
            self.chosen.emit(SETS[place])


class OverviewView(ResultsView):
    """Bars, a table of measures, the gaps in words, and what to know before trusting them."""

    word = "overview"

    def __init__(self, session: Session) -> None:
        super().__init__(session)
        self._shown: tuple[object, ...] = ()
        self._looking = False
        self._action: FaultAction | None = None
        inside = vertical(self, spacing=8, margins=(16, 12, 16, 12))
        self.bars = AccuracyBars()
        self.bars.chosen.connect(self.set_chosen)
        can_be_saved(self.bars, "accuracy", self.session.message.emit)
        inside.addWidget(self.bars)
        self.gaps = label(name="gaps")
        self.gaps.setWordWrap(True)
        inside.addWidget(self.gaps)
        self.small = label(role="warn", name="small sets")
        self.small.setWordWrap(True)
        inside.addWidget(self.small)
        self.table = table("overview table", "measures of the sets", "A click on a set's column puts it in view.")
        self.table.setSelectionMode(QAbstractItemView.SelectionMode.NoSelection)
        self.table.cellClicked.connect(lambda _, column: self.set_chosen.emit(SETS[column - 1]) if column else None)
        inside.addWidget(self.table, 1)
        row = QHBoxLayout()
        self.ask_test = button(
            "Score the test set",
            "score test set",
            "Keep it for one last judgement: a run chosen by the test set looks better there than it is.",
            partial(self._score, "test"),
        )
        row.addWidget(self.ask_test)
        tip = "Look for copies that stand in two sets: they make validation and test figures too good."
        self.ask_leaks = button("Look for leaks", "look for leaks", tip, self._look_for_leaks)
        row.addWidget(self.ask_leaks)
        tip = "What ends the leak that was found first; what moves to another set is said below."
        self.mend_leaks = button("", "mend leaks", tip, self._mend_leaks)
        self.mend_leaks.hide()
        session.worked.connect(self._show_progress)
        tip = "Scores the model file again and compares every answer, bit by bit."
        self.ask_verify = button("Verify", "verify scores", tip, self._verify)
        row.addWidget(self.ask_verify)
        tip = "Plan, curves, scores, mistakes, causes and cases as one HTML file that anybody can read."
        self.ask_report = button("Report …", "write report", tip, self._ask_report)
        row.addWidget(self.ask_report)
        tip = "Write the model for other programs: ONNX with its preprocessing, or weights alone."
        self.ask_export = button("Export …", "export model", tip, self._ask_export)
        row.addWidget(self.ask_export)
        self.result = label(role="faint", name="overview found")
        self.result.setWordWrap(True)
        row.addWidget(self.result, 1)
        inside.addLayout(row)
        inside.addWidget(self.mend_leaks, 0, Qt.AlignmentFlag.AlignLeft)

    def _score(self, on: str) -> None:
        self.session.scores.on_set(on, ask=True)

    def refresh(self) -> None:
        """The sets that are scored; the training set is asked for, the test set on request alone."""
        scores = self.session.scores
        known = {on: scores.on_set(on, ask=on != "test" and self.isVisible()) for on in SETS}
        there = {on: table_ for on, table_ in known.items() if table_ is not None}
        wanted = (scores.on, *(Same(each) for each in known.values()))
        if wanted == self._shown:
            return
        self._shown = wanted
        views = {on: each.measures.overview for on, each in there.items()}
        self.bars.show_sets(views, scores.on)
        self.gaps.setText(" ".join(gaps_in_words(there)))
        small = small_in_words(there)
        self.small.setText(small)
        self.small.setVisible(bool(small))
        self.ask_test.setVisible("test" not in there and self.session.images.collection.count("test") > 0)
        self._fill(there, views)

    def _fill(self, there: dict[str, Scores], views: dict[str, Overview]) -> None:
        names = list(dict.fromkeys(name for on in there for name, _ in rows_of(there[on], views[on])))
        self.table.setColumnCount(len(SETS) + 1)
        self.table.setRowCount(len(names))
        self.table.setHorizontalHeaderItem(0, head("measure", True))
        for column, on in enumerate(SETS, 1):
            self.table.setHorizontalHeaderItem(column, head(on, False))
            figures = dict(rows_of(there[on], views[on])) if on in there else {}
            for row, name in enumerate(names):
                self.table.setItem(row, 0, Cell(name, name))
                self.table.setItem(row, column, Cell(figures.get(name, "–"), None))
        across = self.table.horizontalHeader()
        if across is not None:
            across.setSectionResizeMode(QHeaderView.ResizeMode.Stretch)
            across.setSectionResizeMode(0, QHeaderView.ResizeMode.ResizeToContents)

    def _look_for_leaks(self) -> None:
        plan = self.session.runs.plan()
        if plan is not None:
            self.result.setText("Looking for copies …")
            self._looking = True
            self.mend_leaks.hide()
            request = FindFaults(self.session.place, plan.write(), LEAKS)
            self.session.ask(request, self._take_faults, self._no_faults, priority=5, scope="leaks")

    def _show_progress(self, doing: str, done: int, total: int) -> None:
        """How far the search for leaks is."""
        if self._looking and total:
            self.result.setText(f"{doing[:1].upper()}{doing[1:]}: {thousands(done)} of {thousands(total)} …")

    def _no_faults(self, sentence: str) -> None:
        self._looking = False
        self.result.setText(sentence)

    def _mend_leaks(self) -> None:
        """What the first finding offers: its images are kept in one set."""
        if self._action is not None:
            self.session.act(self._action)
            self.mend_leaks.hide()

    def _verify(self) -> None:
        run = self.session.runs.in_view
        if run is not None:
            self.result.setText("Scoring again …")
            request = Verify(self.session.place, run, self.session.scores.on)
            self.session.ask(request, self._take_verified, self.result.setText, priority=3, scope="verify")

    def _ask_export(self) -> None:
        """Ask where the model goes."""
        run = self.session.runs.current
        if run is not None:
            name, _ = QFileDialog.getSaveFileName(self, "Export the model", f"model-{run}.onnx", FILES)
            if name:
                self.export(Path(name))

    def export(self, file: Path) -> None:
        """Have the run's model written, by the ending of the file."""
        run = self.session.runs.current
        if run is not None:
            request = ExportModel(self.session.place, str(run), str(file))
            self.result.setText("Exporting the model …")
            self.session.ask(request, self._take_exported, self.result.setText, priority=4, scope="export")

    def _take_exported(self, summary: Exported) -> None:
        self.result.setText(" ".join(summary.words()))

    def _ask_report(self) -> None:
        run = self.session.runs.current
        if run is not None:
            kinds = "HTML (*.html);;PDF, with the HTML beside it (*.pdf)"
            name, _ = QFileDialog.getSaveFileName(self, "Write the report", f"report-{run}.html", kinds)
            if name:
                self.write_report(Path(name))

    def write_report(self, file: Path) -> None:
        """Have the run's report written; for a file that ends with .pdf the HTML file beside it is printed to it."""
        run = self.session.runs.in_view
        if run is not None:
            self.result.setText("Writing the report …")
            file = file.absolute()
            page = file.with_suffix(".html") if file.suffix.lower() == ".pdf" else file
            request = WriteReport(self.session.place, run, str(page), self.session.scores.on)
            take = partial(self._take_report, file if page != file else None)
            self.session.ask(request, take, self.result.setText, priority=4, scope="report")

    def _take_report(self, paper: Path | None, summary: ReportWritten) -> None:
        words = f"Written to {summary.file}: {summary.mistakes} mistakes, {summary.causes} causes."
        if paper is not None:
            try:
                pages = print_report(Path(summary.file), paper)
                words = f"{words} Printed to {paper}: {pages} pages."
            except LensError as error:
                words = f"{words} {error}"
        self.result.setText(words)

    def _take_verified(self, summary: Verified) -> None:
        self.result.setText(" ".join(summary.words()))

    def _take_faults(self, result: FaultsFound) -> None:
        self._looking = False
        leaks = [fault for fault in result.faults if fault.kind == "leak"]
        words = " ".join(f"{fault.why}. {fault.remedy}." for fault in leaks)
        self.result.setText(words or "No image was found in two sets.")
        self._action = next((action for fault in leaks for action in fault.actions), None)
        self.mend_leaks.setVisible(self._action is not None and not self.session.reading_only)
        if self._action is not None:
            self.mend_leaks.setText(f"{self._action.word[0].upper()}{self._action.word[1:]}")
            self.mend_leaks.setAccessibleName(self._action.word)


def rows_of(scores: Scores, view: Overview) -> list[tuple[str, str]]:
    """A set's measures by name, as words."""
    low, high = view.accuracy.low, view.accuracy.high
    rows = [
        ("images", thousands(scores.images)),
        ("accuracy", percent(scores.accuracy)),
        ("95 % interval", f"{low * 100:.1f} – {high * 100:.1f}" if low is not None and high is not None else "–"),
        *((f"top-{k}", percent(share.value)) for k, share in view.top if share.value is not None),
        (scores.loss_function, f"{scores.loss:.3f}"),
        ("balanced accuracy", percent(view.balanced_accuracy) if view.balanced_accuracy is not None else "–"),
        ("macro F1", f"{view.macro_f1:.3f}" if view.macro_f1 is not None else "–"),
        *view.more_in_words,
    ]
    if scores.output != "none":
        error = scores.measures.calibration_error
        rows.append(("calibration error", percent(error) if error is not None else "–"))
        if scores.temperature is not None:
            rows.append(("fitting temperature", f"{scores.temperature:.2f}"))
    if view.chance is not None and view.majority is not None:
        rows += [("guessing", percent(view.chance)), ("always the largest class", percent(view.majority))]
    return rows
