"""The learning-rate sweep: the loss over the rates that were tried, those that learn marked, one click takes one."""

from __future__ import annotations

import numpy as np
from PyQt6.QtCore import QPointF, pyqtSignal
from PyQt6.QtGui import QMouseEvent
from PyQt6.QtWidgets import QFrame, QHBoxLayout

from attentive_lens.desk.requests.rates import RatesSwept, SweepRates
from attentive_lens.errors import LensError
from attentive_lens.window import look
from attentive_lens.window.parts.basics import OneLine, button, label, set_role, vertical
from attentive_lens.window.parts.plot import Plot
from attentive_lens.window.parts.pointing import READ, points
from attentive_lens.window.session import Session


class RateChart(Plot):
    """Loss over the learning rate, whose axis is logarithmic; a click chooses a rate.

    Signals
    -------
    picked
        A rate, rounded to two figures.
    """

    picked = pyqtSignal(float)

    def __init__(self) -> None:
        super().__init__("", "rate chart", (48, 24, 26, 40), clips=True)
        points(self, lambda _: self.swept is not None, READ)
        self.setAccessibleName("loss over the learning rate")
        self.setToolTip("Click to take another rate than the one suggested.")
        self.swept: RatesSwept | None = None
        self.planned, self.chosen = 0.0, 0.0

    def show_sweep(self, swept: RatesSwept | None, planned: float) -> None:
        """Draw a sweep, with the plan's rate; what is suggested is chosen."""
        self.swept, self.planned = swept, planned
        self.chosen = swept.suggested if swept is not None else 0.0
        self.refresh()

    def draw(self) -> None:
        """The rates that learn, both curves, the plan's rate and the one chosen."""
        swept = self.swept
        if swept is None or not swept.rates:
            return
        rates = np.asarray(swept.rates)
        top = max(swept.curve[0] * 1.35, max(swept.curve[: max(1, len(swept.curve) // 2)]) * 1.05)
        ends = float(rates[0]), float(max(rates[-1], 10 * rates[0]))
        self.set_range(ends, (0.0, top), log="x")
        if swept.suggested:
            self.band(swept.lowest, max(swept.highest, swept.lowest * 1.01), "tint")
        self.line(np.stack([rates, np.minimum(swept.losses, 2 * top)], axis=1), "ink", 1, alpha=80)
        self.line(np.stack([rates, np.minimum(swept.curve, 2 * top)], axis=1), "petrol")
        under = QPointF(self.area().center().x(), self.area().bottom() + 28)
        self.words("learning rate", under, "faint")
        for rate, words, role, style in (
            (self.planned, "plan", "ochre", "dotted"),
            (self.chosen, f"{self.chosen:.2g}", "petrol", "line"),
        ):
            if ends[0] <= rate <= ends[1]:
                self.upright(rate, role, style)
                x, close = (
                    self.place(rate, 0).x(),
                    abs(self.place(self.chosen or rate, 0).x() - self.place(rate, 0).x()),
                )
                beside = style == "dotted" and self.chosen > 0 and close < 60
                at = QPointF(x + 6 if beside else x, self.area().top() + (10 if beside else -10))
                self.words(words, at, role, align=0.0 if beside else 0.5)

    def mousePressEvent(self, event: QMouseEvent | None) -> None:
        """Choose the rate under the mouse."""
        if event is not None and self.swept is not None and self.swept.rates:
            self.chosen = float(f"{self.value(event.position())[0]:.1e}")
            self.refresh()
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
        key = OneLine("rates key", "faint", look.SMALL)
        key.setText("faint: after each step; line: smoothed; shaded: the loss falls")
        row.addWidget(key, 1)
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
        self.chart.refresh()
        self.closed.emit()
