"""The learning-rate sweep: the loss over the rates that were tried, those that learn marked, one click takes one."""

from __future__ import annotations

import math

from PyQt6.QtCore import QPointF, QRectF, QSize, Qt, pyqtSignal
from PyQt6.QtGui import QMouseEvent, QPainter, QPaintEvent, QPen, QPolygonF
from PyQt6.QtWidgets import QFrame, QHBoxLayout, QSizePolicy, QWidget

from attentive_lens.desk.requests.rates import RatesSwept, SweepRates
from attentive_lens.errors import LensError
from attentive_lens.window import look
from attentive_lens.window.parts.basics import button, label, set_role, vertical
from attentive_lens.window.parts.chart import round_steps
from attentive_lens.window.session import Session

LEFT, RIGHT, TOP, BOTTOM = 48, 24, 26, 40


class RateChart(QWidget):
    """Loss over the learning rate, whose axis is logarithmic; a click chooses a rate.

    Signals
    -------
    picked
        A rate, rounded to two figures.
    """

    picked = pyqtSignal(float)

    def __init__(self) -> None:
        super().__init__()
        self.setObjectName("rate chart")
        self.setAccessibleName("loss over the learning rate")
        self.setToolTip("Click to take another rate than the one suggested.")
        self.setMinimumSize(QSize(240, 160))
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Expanding)
        self.swept: RatesSwept | None = None
        self.planned, self.chosen = 0.0, 0.0

    def show_sweep(self, swept: RatesSwept | None, planned: float) -> None:
        """Draw a sweep, with the plan's rate; what is suggested is chosen."""
        self.swept, self.planned = swept, planned
        self.chosen = swept.suggested if swept is not None else 0.0
        self.update()

    def _area(self) -> QRectF:
        return QRectF(LEFT, TOP, self.width() - LEFT - RIGHT, self.height() - TOP - BOTTOM)

    def _ends(self) -> tuple[float, float]:
        """Logarithms of the first and the last rate."""
        rates = self.swept.rates if self.swept is not None and self.swept.rates else (1e-6, 10.0)
        return math.log10(rates[0]), math.log10(max(rates[-1], 10 * rates[0]))

    def place_of(self, rate: float) -> float:
        """Where a rate stands, in pixels from the left."""
        (low, high), area = self._ends(), self._area()
        return area.left() + (math.log10(rate) - low) / (high - low) * area.width()

    def rate_at(self, x: float) -> float:
        """The rate at a place, rounded to two figures."""
        (low, high), area = self._ends(), self._area()
        share = min(1.0, max(0.0, (x - area.left()) / area.width()))
        return float(f"{10 ** (low + share * (high - low)):.1e}")

    def paintEvent(self, event: QPaintEvent | None) -> None:
        """The rates that learn, a grid, both curves, the plan's rate and the one chosen."""
        if self.swept is None or not self.swept.rates:
            return
        t, area, swept = look.theme, self._area(), self.swept
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.setFont(look.font(look.SMALL))
        top = max(swept.curve[0] * 1.35, max(swept.curve[: max(1, len(swept.curve) // 2)]) * 1.05)
        if swept.suggested:
            left, right = self.place_of(swept.lowest), self.place_of(swept.highest)
            painter.fillRect(QRectF(left, area.top(), max(2.0, right - left), area.height()), t.colour("tint"))
        for value in round_steps(0, top, 4):
            y = area.bottom() - value / top * area.height()
            painter.setPen(QPen(t.colour("line"), 1))
            painter.drawLine(QPointF(area.left(), y), QPointF(area.right(), y))
            painter.setPen(t.colour("faint"))
            at = QRectF(0, y - 9, LEFT - 8, 18)
            painter.drawText(at, Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter, f"{value:g}")
        low, high = self._ends()
        for power in range(math.ceil(low), math.floor(high) + 1):
            x = self.place_of(10.0**power)
            painter.setPen(t.colour("faint"))
            at = QRectF(x - 40, area.bottom() + 3, 80, 16)
            painter.drawText(at, Qt.AlignmentFlag.AlignCenter, f"{10.0**power:g}")
        under = QRectF(area.left(), area.bottom() + 19, area.width(), 16)
        painter.drawText(under, Qt.AlignmentFlag.AlignCenter, "learning rate")
        painter.save()
        painter.setClipRect(area.adjusted(0, -2, 2, 2))
        for values, pen in (
            (swept.losses, QPen(t.colour("ink", 80), 1)),
            (swept.curve, QPen(t.colour("petrol"), 2)),
        ):
            painter.setPen(pen)
            points = [
                QPointF(self.place_of(rate), area.bottom() - min(value, 2 * top) / top * area.height())
                for rate, value in zip(swept.rates, values, strict=True)
            ]
            painter.drawPolyline(QPolygonF(points))
        painter.restore()
        self._mark(painter, area, self.planned, "plan", "ochre", Qt.PenStyle.DotLine)
        self._mark(painter, area, self.chosen, f"{self.chosen:.2g}", "petrol", Qt.PenStyle.SolidLine)

    def _mark(self, painter: QPainter, area: QRectF, rate: float, words: str, role: str, style: Qt.PenStyle) -> None:
        if rate <= 0:
            return
        x = self.place_of(rate)
        if area.left() <= x <= area.right():
            painter.setPen(QPen(look.theme.colour(role), 1.4, style))
            painter.drawLine(QPointF(x, area.top()), QPointF(x, area.bottom()))
            lower = style == Qt.PenStyle.DotLine and abs(self.place_of(self.chosen or rate) - x) < 60
            at = QRectF(x - 60, area.top() - 18, 120, 16)
            if lower and self.chosen:
                at = QRectF(x + 6, area.top() + 2, 60, 16)
            align = Qt.AlignmentFlag.AlignLeft if lower and self.chosen else Qt.AlignmentFlag.AlignCenter
            painter.drawText(at, align, words)

    def mousePressEvent(self, event: QMouseEvent | None) -> None:
        """Choose the rate under the mouse."""
        if event is not None and self.swept is not None and self.swept.rates:
            self.chosen = self.rate_at(event.position().x())
            self.update()
            self.picked.emit(self.chosen)


class RatesPanel(QFrame):
    """Asks for a sweep of the plan being designed, shows it, and takes a rate into the plan.

    Signals
    -------
    closed
        It is no longer wanted.
    """

    closed = pyqtSignal()

    def __init__(self, session: Session) -> None:
        super().__init__()
        self.session = session
        self.setProperty("role", "panel")
        self.setObjectName("rates panel")
        inside = vertical(self, spacing=8, margins=(16, 12, 16, 12))
        inside.addWidget(label("Which learning rates make the loss fall?", strong=True))
        self.chart = RateChart()
        self.chart.picked.connect(self._name_rate)
        inside.addWidget(self.chart, 1)
        self.advice = label(name="rates advice")
        self.advice.setWordWrap(True)
        inside.addWidget(self.advice)
        row = QHBoxLayout()
        self.take = button("", "take rate", "Put this learning rate into the plan (Ctrl+Z takes it back).", self._take)
        row.addWidget(self.take)
        row.addWidget(button("Close", "close rates", "Back to the curves.", self.closed.emit))
        row.addStretch()
        row.addWidget(label("faint: after each step; line: smoothed; shaded: the loss falls", "faint", look.SMALL))
        inside.addLayout(row)

    def ask(self) -> None:
        """Sweep the rates of the plan as it is now."""
        self.chart.show_sweep(None, 0.0)
        self.take.hide()
        if not self.session.design.sound:
            self._refuse("The network on the bench has a fault: mend it in the Network stage first.")
        elif self.session.runs.training is not None:
            self._refuse("A run is training and has the machine: sweep when it is done.")
        else:
            self._say("Training for a moment at rising rates …", "faint")
            request = SweepRates(self.session.place, self.session.design.plan.write())
            self.session.ask(request, self._show, self._refuse, priority=3, scope="rates")

    def _show(self, swept: RatesSwept) -> None:
        self.chart.show_sweep(swept, self.session.design.plan.optimiser.learning_rate)
        self._say(swept.advice, "" if swept.suggested else "warn")
        self._name_rate(swept.suggested)

    def _refuse(self, sentence: str) -> None:
        self._say(sentence, "bad")

    def _say(self, sentence: str, role: str) -> None:
        self.advice.setText(sentence)
        set_role(self.advice, role)

    def _name_rate(self, rate: float) -> None:
        self.take.setText(f"Use {rate:.2g}")
        self.take.setVisible(rate > 0)

    def _take(self) -> None:
        rate = float(f"{self.chart.chosen:.1e}")
        design = self.session.design
        try:
            design.change(design.plan.changed({"optimiser.learning_rate": rate}), "the learning rate")
        except LensError as error:
            self._refuse(str(error))
            return
        self.chart.planned = rate
        self.chart.update()
        self.closed.emit()
