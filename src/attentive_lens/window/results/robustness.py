"""How much worse the run does on worse pictures: a small curve for each way, and the images that break at a grade."""

from __future__ import annotations

from PyQt6.QtCore import QPointF, QRectF, QSize, Qt, pyqtSignal
from PyQt6.QtGui import QKeyEvent, QMouseEvent, QPainter, QPaintEvent, QPen, QPolygonF
from PyQt6.QtWidgets import QHBoxLayout, QSizePolicy, QWidget

from attentive_lens.desk.requests.robustness import Grade, MeasureRobustness, RobustnessMeasured, Way
from attentive_lens.window import look
from attentive_lens.window.parts.basics import button, label, vertical
from attentive_lens.window.parts.saving import can_be_saved
from attentive_lens.window.results.behind import Behind
from attentive_lens.window.results.view import ResultsView
from attentive_lens.window.session import Session
from attentive_lens.window.words import percent, thousands

COLUMNS = 2
LEFT, RIGHT, TOP, BOTTOM = 46, 16, 26, 22
NEAR = 18.0


class GradeCurves(QWidget):
    """A small chart a way: accuracy by grade, the first point being the pictures as they are.

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
        self.setMouseTracking(True)
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Expanding)
        self.setMinimumSize(QSize(300, 260))
        self.found: RobustnessMeasured | None = None
        self.current: tuple[int, int] | None = None

    def show_ways(self, found: RobustnessMeasured | None) -> None:
        """Others."""
        self.found = found
        if found is None:
            self.current = None
        self.update()

    def _ways(self) -> tuple[Way, ...]:
        return self.found.ways if self.found is not None else ()

    def area(self, row: int) -> QRectF:
        """Where the curve of a way is drawn."""
        lines = max(1, -(-len(self._ways()) // COLUMNS))
        wide, high = self.width() / COLUMNS, self.height() / max(lines, 4)
        down, across = divmod(row, COLUMNS)
        return QRectF(across * wide + LEFT, down * high + TOP, wide - LEFT - RIGHT, max(20.0, high - TOP - BOTTOM))

    def point(self, row: int, grade: int) -> QPointF:
        """Where a grade of a way stands; grade −1 is the pictures as they are."""
        way, area = self._ways()[row], self.area(row)
        share = self.found.right if grade < 0 and self.found is not None else way.grades[max(0, grade)].right
        x = area.left() + area.width() * (grade + 1) / len(way.grades)
        return QPointF(x, area.bottom() - area.height() * (share.value or 0.0))

    def paintEvent(self, event: QPaintEvent | None) -> None:
        """Titles, grids, curves with their intervals."""
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        for row, way in enumerate(self._ways()):
            self._paint(painter, row, way)

    def _paint(self, painter: QPainter, row: int, way: Way) -> None:
        t, area = look.theme, self.area(row)
        painter.setFont(look.font(look.SMALL, True))
        painter.setPen(t.colour("ink"))
        unit = f", {way.unit}" if way.unit else ""
        head = QRectF(area.left() - LEFT + 4, area.top() - TOP, area.width() + LEFT, TOP - 4)
        words = painter.fontMetrics().elidedText(f"{way.what}{unit}", Qt.TextElideMode.ElideRight, int(head.width()))
        painter.drawText(head, Qt.AlignmentFlag.AlignVCenter, words)
        painter.setFont(look.font(look.SMALL))
        right = Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter
        for share in (0.0, 0.5, 1.0):
            y = area.bottom() - share * area.height()
            painter.setPen(QPen(t.colour("line"), 1))
            painter.drawLine(QPointF(area.left(), y), QPointF(area.right(), y))
            painter.setPen(t.colour("faint"))
            painter.drawText(QRectF(area.left() - LEFT, y - 8, LEFT - 6, 16), right, f"{share * 100:.0f}\u2009%")
        points = [self.point(row, k) for k in range(-1, len(way.grades))]
        for k, (at, grade) in enumerate(zip(points[1:], way.grades, strict=True)):
            painter.setPen(t.colour("faint"))
            below = QRectF(at.x() - 30, area.bottom() + 3, 60, 16)
            painter.drawText(below, Qt.AlignmentFlag.AlignHCenter, f"{grade.grade:g}")
            low, high = grade.right.low or 0.0, grade.right.high or 0.0
            painter.setPen(QPen(t.colour("petrol", 90), 5))
            painter.drawLine(
                QPointF(at.x(), area.bottom() - low * area.height()),
                QPointF(at.x(), area.bottom() - high * area.height()),
            )
            if self.current == (row, k):
                painter.setPen(QPen(t.colour("ink"), 2))
                painter.setBrush(Qt.BrushStyle.NoBrush)
                painter.drawEllipse(at, 7.0, 7.0)
        painter.setPen(QPen(t.colour("petrol"), 2))
        painter.drawPolyline(QPolygonF(points))
        painter.setPen(Qt.PenStyle.NoPen)
        painter.setBrush(t.colour("petrol"))
        for at in points:
            painter.drawEllipse(at, 3.5, 3.5)

    def choose(self, row: int, grade: int) -> None:
        """Take a grade of a way."""
        self.current = (row, grade)
        self.update()
        self.chosen.emit(row, grade)

    def at(self, place: QPointF) -> tuple[int, int] | None:
        """The grade whose column is nearest to a place, if it is near."""
        for row, way in enumerate(self._ways()):
            area = self.area(row).adjusted(-NEAR, -NEAR, NEAR, BOTTOM)
            if area.contains(place):
                gaps = [abs(self.point(row, k).x() - place.x()) for k in range(len(way.grades))]
                best = min(range(len(gaps)), key=gaps.__getitem__)
                return (row, best) if gaps[best] <= NEAR * 1.5 else None
        return None

    def mousePressEvent(self, event: QMouseEvent | None) -> None:
        """Choose the grade."""
        place = self.at(event.position()) if event is not None else None
        if place is not None:
            self.choose(*place)

    def mouseMoveEvent(self, event: QMouseEvent | None) -> None:
        """Say what the grade under the mouse is."""
        place = self.at(event.position()) if event is not None else None
        self.setCursor(Qt.CursorShape.ArrowCursor if place is None else Qt.CursorShape.PointingHandCursor)
        self.setToolTip(in_words(self._ways()[place[0]], self._ways()[place[0]].grades[place[1]]) if place else "")

    def keyPressEvent(self, event: QKeyEvent | None) -> None:
        """Left and right to another grade, up and down to another way."""
        moves = {
            Qt.Key.Key_Left: (0, -1),
            Qt.Key.Key_Right: (0, 1),
            Qt.Key.Key_Up: (-COLUMNS, 0),
            Qt.Key.Key_Down: (COLUMNS, 0),
        }
        key, ways = Qt.Key(event.key()) if event is not None else Qt.Key.Key_unknown, self._ways()
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
    tip = "The same images made worse, grade by grade: what still comes out right."

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
        inside.addWidget(self.curves, 1)
        self.refresh()

    def leads_to(self, behind: Behind) -> None:
        """See `ResultsView`."""
        self.chosen.connect(behind.broken)

    def _wanted(self) -> MeasureRobustness | None:
        run = self.session.runs.current
        return MeasureRobustness(self.session.place, run, self.session.scores.on) if run is not None else None

    def refresh(self) -> None:
        """Of another run or set nothing is known yet."""
        if self._wanted() != self._asked:
            self._asked = None
            self.curves.show_ways(None)
            self.says.setText(
                "Pictures made worse, by blur, noise, light, turning and packing: where do answers break?"
            )
            self.start.show()

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

    def _take(self, found: RobustnessMeasured) -> None:
        if self._asked is None or (found.run, found.on) != (self._asked.run, self._asked.on):
            return
        self.curves.show_ways(found)
        drawn = f" of {thousands(found.in_all)}" if found.images < found.in_all else ""
        right = percent(found.right.value) if found.right.value is not None else "–"
        self.says.setText(
            f"{thousands(found.images)}{drawn} {found.on} images, {right} right as they are. A point shows what breaks."
        )

    def _choose(self, row: int, grade: int) -> None:
        found = self.curves.found
        if found is not None:
            way, at = found.ways[row], found.ways[row].grades[grade]
            self.chosen.emit(in_words(way, at), at.broken, at.predicted)
