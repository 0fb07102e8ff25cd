"""How much worse the run does on worse pictures: a small curve for each way, and the images that break at a grade."""

from __future__ import annotations

from functools import partial

import numpy as np
from PyQt6.QtCore import QPointF, QSize, Qt, pyqtSignal
from PyQt6.QtGui import QKeyEvent, QMouseEvent
from PyQt6.QtWidgets import QGridLayout, QHBoxLayout, QSizePolicy, QStackedWidget, QWidget

from attentive_lens.desk.requests.robustness import Grade, MeasureRobustness, RobustnessMeasured, ShowWorse, Way
from attentive_lens.window.parts.basics import button, label, retire, vertical
from attentive_lens.window.parts.plot import SHARE_FIGURES, Plot
from attentive_lens.window.parts.saving import can_be_saved
from attentive_lens.window.results.behind import Behind
from attentive_lens.window.results.view import ResultsView
from attentive_lens.window.results.worse_pictures import WorseGrid
from attentive_lens.window.session import Session
from attentive_lens.window.words import percent, thousands

COLUMNS, ROWS = 2, 4
"""Small charts beside each other, and at least as many places below."""
NEAR = 28.0
"""Pixels across from a grade within which the mouse means it."""


class GradeCurve(Plot):
    """Accuracy on pictures made worse in one way, by grade; the first point is the pictures as they are.

    Signals
    -------
    chosen
        Row of a grade.
    """

    chosen = pyqtSignal(int)

    def __init__(self, way: Way, as_they_are: float) -> None:
        super().__init__(f"{way.what}, {way.unit}" if way.unit else way.what, "grade curve", (46, 16, 26, 22))
        self.setMinimumSize(QSize(140, 60))
        self.way, self.current = way, -1
        shares = [as_they_are, *(grade.right.value or 0.0 for grade in way.grades)]
        self.points = np.stack([np.arange(len(shares), dtype=np.float64), shares], axis=1)

    def draw(self) -> None:
        """Curve, intervals, and a ring about the grade that is chosen."""
        grades = self.way.grades
        self.set_range((0.0, len(grades)), (0.0, 1.0))
        self.set_figures("x", [(k + 1, f"{grade.grade:g}") for k, grade in enumerate(grades)])
        self.set_figures("y", SHARE_FIGURES)
        for k, grade in enumerate(grades, 1):
            ends = [[k, grade.right.low or 0.0], [k, grade.right.high or 0.0]]
            self.line(np.array(ends, np.float64), "petrol", 5, alpha=90)
        self.line(self.points, "petrol")
        self.dots(self.points, "petrol", 7)
        if self.current >= 0:
            self.dots(self.points[[self.current + 1]], "ink", 14, hollow=True)

    def show_chosen(self, grade: int) -> None:
        """Mark a grade; below zero none."""
        if grade != self.current:
            self.current = grade
            self.refresh()

    def at(self, place: QPointF) -> int | None:
        """The grade whose column is nearest to a place, if it is near."""
        gaps = np.abs(np.array([self.place(*point).x() for point in self.points[1:]]) - place.x())
        return int(gaps.argmin()) if gaps.min() <= NEAR and place.y() > self.area().top() - NEAR else None

    def mousePressEvent(self, event: QMouseEvent | None) -> None:
        """Choose the grade."""
        grade = self.at(event.position()) if event is not None else None
        if grade is not None:
            self.chosen.emit(grade)

    def mouseMoveEvent(self, event: QMouseEvent | None) -> None:
        """Say what the grade under the mouse is."""
        grade = self.at(event.position()) if event is not None else None
        self.setCursor(Qt.CursorShape.ArrowCursor if grade is None else Qt.CursorShape.PointingHandCursor)
        self.setToolTip(in_words(self.way, self.way.grades[grade]) if grade is not None else "")


class GradeCurves(QWidget):
    """A small chart a way.

    Signals
    -------
    chosen
        Row of a way, and row of one of its grades.
    """

    chosen = pyqtSignal(int, int)

    def __init__(self) -> None:
        super().__init__()
        self.setObjectName("grade curves")
        self.setAccessibleName("accuracy on worse pictures")
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Expanding)
        self.setMinimumSize(QSize(300, 260))
        self.result: RobustnessMeasured | None = None
        self.current: tuple[int, int] | None = None
        self.charts: list[GradeCurve] = []
        self.places = QGridLayout(self)
        self.places.setContentsMargins(0, 0, 0, 0)
        self.places.setSpacing(0)
        for row in range(ROWS):
            self.places.setRowStretch(row, 1)

    def show_ways(self, result: RobustnessMeasured | None) -> None:
        """Others, or some more of the same."""
        known = self.result.ways if self.result is not None else ()
        ways = result.ways if result is not None else ()
        if not known or ways[: len(known)] != known:
            for chart in self.charts:
                retire(chart)
            self.charts, self.current = [], None
        self.result = result
        for row, way in enumerate(ways[len(self.charts) :], len(self.charts)):
            chart = GradeCurve(way, (result.right.value if result is not None else None) or 0.0)
            chart.chosen.connect(partial(self.choose, row))
            self.places.addWidget(chart, *divmod(row, COLUMNS))
            self.charts.append(chart)

    def choose(self, row: int, grade: int) -> None:
        """Take a grade of a way."""
        self.current = (row, grade)
        for k, chart in enumerate(self.charts):
            chart.show_chosen(grade if k == row else -1)
        self.setFocus()
        self.chosen.emit(row, grade)

    def keyPressEvent(self, event: QKeyEvent | None) -> None:
        """Left and right to another grade, up and down to another way."""
        moves = {
            Qt.Key.Key_Left: (0, -1),
            Qt.Key.Key_Right: (0, 1),
            Qt.Key.Key_Up: (-COLUMNS, 0),
            Qt.Key.Key_Down: (COLUMNS, 0),
        }
        key = Qt.Key(event.key()) if event is not None else Qt.Key.Key_unknown
        ways = self.result.ways if self.result is not None else ()
        if key not in moves or not ways:
            super().keyPressEvent(event)
            return
        row, grade = self.current or (0, -1)
        grade += moves[key][1]
        row += moves[key][0]
        if not 0 <= grade < len(ways[row % len(ways)].grades):
            row, grade = row + (1 if grade > 0 else -1), 0 if grade > 0 else len(ways[0].grades) - 1
        self.choose(row % len(ways), grade)


def in_words(way: Way, grade: Grade) -> str:
    """What a grade of a way does."""
    right = percent(grade.right.value) if grade.right.value is not None else "–"
    shown = f"{grade.grade:g} {way.unit}".strip()
    return f"{way.what} {shown}: {right} right, {thousands(len(grade.broken))} broken"


class RobustnessView(ResultsView):
    """The curves, asked for by a button: they take a while.

    Signals
    -------
    chosen
        What breaks at a grade: its words, the images' numbers, and the classes said then.
    """

    chosen = pyqtSignal(str, tuple, tuple)

    word = "robustness"

    def __init__(self, session: Session) -> None:
        super().__init__(session)
        self._asked: MeasureRobustness | None = None
        inside = vertical(self, spacing=8, margins=(16, 12, 16, 12))
        row = QHBoxLayout()
        self.says = label(role="faint", name="robustness says")
        self.says.setWordWrap(True)
        row.addWidget(self.says, 1)
        tip = "Ask the run about the set's pictures made worse in eight ways by five grades each."
        self.start = button("Measure", "measure robustness", tip, self.measure)
        row.addWidget(self.start)
        inside.addLayout(row)
        self.curves = GradeCurves()
        self.curves.chosen.connect(self._choose)
        can_be_saved(self.curves, "robustness", self.session.message.emit)
        self.examples = WorseGrid()
        self.shown = QStackedWidget()
        self.shown.addWidget(self.examples)
        self.shown.addWidget(self.curves)
        inside.addWidget(self.shown, 1)
        self.refresh()

    def leads_to(self, behind: Behind) -> None:
        """See `ResultsView`."""
        self.chosen.connect(behind.broken)

    def _wanted(self) -> MeasureRobustness | None:
        run = self.session.runs.in_view
        return MeasureRobustness(self.session.place, run, self.session.scores.on) if run is not None else None

    def figure(self) -> str:
        """What breaks most, once that is known."""
        result = self.curves.result
        ways = result.ways if result is not None else ()
        worst = [(grade.right.value or 0.0, way.what) for way in ways for grade in way.grades]
        return f"{min(worst)[1]} {percent(min(worst)[0])}" if worst else ""

    def refresh(self) -> None:
        """Of another run or set nothing is known yet."""
        if self._wanted() != self._asked:
            self._asked = None
            self.curves.show_ways(None)
            self.says.setText(
                "Pictures made worse, by blur, noise, light, rotation and compression: where do answers break?"
            )
            self.start.show()
            self.shown.setCurrentIndex(0)
            self.examples.show_pictures(None)
        self._ask_examples()

    def _ask_examples(self) -> None:
        """The set's first image in every way and grade, until it is measured."""
        run, scores = self.session.runs.in_view, self.session.scores.current
        if run is None or scores is None or self._asked is not None or not self.isVisible():
            return
        image = int(scores.numbers[0])
        if self.examples.shown is None or self.examples.shown.image != image:
            request = ShowWorse(self.session.place, run, image)
            self.session.ask(
                request, self.examples.show_pictures, self.says.setText, priority=3, scope="worse pictures"
            )

    def measure(self) -> None:
        """Have it measured, or found."""
        wanted = self._wanted()
        if wanted is not None and wanted != self._asked:
            self._asked = wanted
            self.start.hide()
            self.says.setText("Making pictures worse …")
            self.session.ask(wanted, self._take, self._fail, priority=4, scope="robustness")

    def _fail(self, words: str) -> None:
        self._asked = None
        self.says.setText(words)
        self.start.show()

    def _take(self, result: RobustnessMeasured) -> None:
        if self._asked is None or (result.run, result.on) != (self._asked.run, self._asked.on):
            return
        self.curves.show_ways(result)
        self.shown.setCurrentIndex(1)
        drawn = f" of {thousands(result.in_all)}" if result.images < result.in_all else ""
        right = percent(result.right.value) if result.right.value is not None else "–"
        self.says.setText(
            f"{thousands(result.images)}{drawn} {result.on} images, {right} right as they are."
            " A point shows what breaks."
        )
        self.changed.emit()

    def _choose(self, row: int, grade: int) -> None:
        result = self.curves.result
        if result is not None:
            way, at = result.ways[row], result.ways[row].grades[grade]
            self.chosen.emit(in_words(way, at), at.broken, at.predicted)
