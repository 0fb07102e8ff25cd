"""What an epoch of the plan being designed takes here, measured while somebody designs, whatever stage is shown."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace
from functools import partial

from PyQt6.QtCore import QObject, QTimer, pyqtSignal

from attentive_lens.desk.network.design import Design
from attentive_lens.desk.observing import Asks
from attentive_lens.desk.requests.prices import PlanPrice, PricePlan
from attentive_lens.plan.plan import Plan

SETTLED_MS = 700
"""Time without a change before it is measured."""
MOST = 16
"""Plans whose price is remembered."""


def priced_as(plan: Plan) -> Plan:
    """The plan with all that an epoch's time does not hang on as in a new one: two plans alike have one price."""
    usual = Plan()
    training = replace(plan.training, epochs=usual.training.epochs)
    return replace(plan, name=usual.name, seed=0, training=training, stopping=usual.stopping, schedule=usual.schedule)


class Pricing(QObject):
    """Asks for the price of the plan when it has stood for a moment, and remembers what it was told.

    Parameters
    ----------
    design : Design
        Whose plan is priced.
    asks : Asks
        Who measures.
    place : str
        The workspace's folder.
    is_busy : callable
        Whether a run has the machine.

    Signals
    -------
    changed
        The price is known, or why there is none.
    """

    changed = pyqtSignal()

    def __init__(self, design: Design, asks: Asks, place: str, is_busy: Callable[[], bool]) -> None:
        super().__init__()
        self._design, self._asks, self._place, self._is_busy = design, asks, place, is_busy
        self.problem, self.wanted = "", False
        self._known: dict[Plan, PlanPrice] = {}
        self._asked: Plan | None = None
        self._timer = QTimer(self)
        self._timer.setSingleShot(True)
        self._timer.timeout.connect(self._ask)

    def known(self, plan: Plan) -> PlanPrice | None:
        """The price of a plan, if it was measured."""
        return self._known.get(priced_as(plan))

    def want(self) -> None:
        """Have the plan being designed priced, unless it is, from now on after every change; `changed` follows."""
        self.wanted = True
        if self.known(self._design.plan) is None:
            self._timer.start(SETTLED_MS)

    def stop(self) -> None:
        """Ask no more."""
        self._timer.stop()

    def _ask(self) -> None:
        """Unless a run has the machine, or there is a fault."""
        design = self._design
        key = priced_as(design.plan)
        if key in self._known or key == self._asked or self._is_busy() or not design.sound:
            return
        self._asked, self.problem = key, ""
        request = PricePlan(self._place, design.plan.write())
        self._asks.ask(request, partial(self._take, key), self._fail, priority=9, scope="price")

    def _take(self, key: Plan, price: PlanPrice) -> None:
        self._asked = None
        self._known[key] = price
        for oldest in list(self._known)[:-MOST]:
            del self._known[oldest]
        self.changed.emit()

    def _fail(self, sentence: str) -> None:
        self._asked, self.problem = None, sentence
        self.changed.emit()
