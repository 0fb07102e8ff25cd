"""The model that a plan is built on: which, up to which layer, and whether that can help."""

from __future__ import annotations

from dataclasses import replace
from functools import partial
from pathlib import Path

from PyQt6.QtGui import QShowEvent
from PyQt6.QtWidgets import QCheckBox, QComboBox, QFileDialog, QGridLayout, QVBoxLayout, QWidget

from attentive_lens.desk.network.bases import base_layers, with_base, without_base
from attentive_lens.desk.requests.bases import DOES_NOT, HELPS, UNKNOWN, BaseProbe, ProbeBase, WaysCompared
from attentive_lens.errors import LensError
from attentive_lens.plan.base import MODEL_SUFFIXES, SHELF, Base
from attentive_lens.plan.plan import Plan
from attentive_lens.window import look
from attentive_lens.window.parts.basics import button, chooser, horizontal, label, set_role
from attentive_lens.window.parts.form import Form
from attentive_lens.window.session import Session

LEARNS_ON = Base(until="last layer", frozen=False)
TUNING = ("head_warmup_epochs", "unfreeze_every", "lr_decay", "normalisation")
"""What is set of a base that learns on."""
COMPARE = (
    "Train new weights, the base frozen and the base learning on, each for a short while and at most at the same cost,"
    " and compare them on images they never saw. It takes some minutes; the window stays free."
)
NO_BASE, AS_NOW, FROM_FILE = "none", "as now", "file"
"""What may be chosen to build on besides a run, by its number, and a model on the Shelf, by «shelf:» and its name."""


HELP, STOP = "Does it help?", "Stop"
UNDER_WAY = "Training all three ways, each shortly …"
COMPARING = "ways to begin"
"""What is under way, by its scope."""
ROLES = {HELPS: "good", DOES_NOT: "bad", UNKNOWN: "faint"}


class BasePanel(QWidget):
    """Chooses the base of the plan being designed, says what its layers know, and has the ways to begin compared."""

    def __init__(self, session: Session) -> None:
        super().__init__()
        self.session = session
        self._probed: Base | None = None
        self._comparing: Plan | None = None
        self._known: dict[Plan, WaysCompared] = {}
        inside = QVBoxLayout(self)
        inside.setContentsMargins(0, 0, 0, 0)
        text = label(
            "Its layers up to a chosen one are taken over. Frozen, their weights stay as they are, and only the layers"
            " after the frost line learn.",
            "faint",
        )
        text.setWordWrap(True)
        inside.addWidget(text)
        grid = QGridLayout()
        grid.setVerticalSpacing(8)
        grid.setColumnStretch(1, 1)
        inside.addLayout(grid)
        self.run = _choice("base run", "The model on the Shelf, the run or the model file whose layers are taken over.")
        self.until = _choice("base until", "The last layer taken over; the frost line stands after it.")
        self.statistics = _choice(
            "base statistics",
            Base.specs()["statistics"].meaning,
        )
        for word in Base.specs()["statistics"].choices:
            self.statistics.addItem(word, word)
        for row, (word, box) in enumerate(
            (("layers of", self.run), ("up to", self.until), ("statistics of", self.statistics))
        ):
            grid.addWidget(label(word, "faint"), row, 0)
            grid.addWidget(box, row, 1)
        self.frozen = QCheckBox("frozen")
        self.frozen.setObjectName("base frozen")
        self.frozen.setFont(look.font())
        self.frozen.setToolTip(Base.specs()["frozen"].meaning + " Layers that learn on usually get further.")
        grid.addWidget(self.frozen, 3, 1)
        self.tuning = Form(LEARNS_ON, TUNING, self._tune)
        inside.addWidget(self.tuning)
        self.problem = label(role="bad", name="base problem")
        self.problem.setWordWrap(True)
        self.problem.hide()
        inside.addWidget(self.problem)
        self.advice = label(role="faint", size=look.SMALL, name="base advice")
        self.advice.setWordWrap(True)
        inside.addWidget(self.advice)
        across = horizontal(spacing=8)
        self.compare = button(HELP, "compare ways", COMPARE, self._compare)
        across.addWidget(self.compare)
        across.addStretch()
        inside.addLayout(across)
        self.verdict = label(role="faint", name="base verdict")
        self.verdict.setWordWrap(True)
        inside.addWidget(self.verdict)
        inside.addStretch()
        session.shelf_changed.connect(self.refresh)
        self.run.activated.connect(lambda _: self._choose())
        self.until.activated.connect(lambda _: self._change(until=str(self.until.currentData())))
        self.statistics.activated.connect(lambda _: self._change(statistics=str(self.statistics.currentData())))
        self.frozen.clicked.connect(self._freeze)

    def refresh(self) -> None:
        """List the runs there are, and show the plan's base."""
        base = self.session.design.plan.base
        self.run.clear()
        self.run.addItem("none", NO_BASE)
        for number, view in self.session.runs.views.items():
            if view.has_model and view.state != "training":
                self.run.addItem(f"run {number} · {view.name}", str(number))
        for model in self.session.shelf.models or ():
            if not model.problem:
                self.run.addItem(f"{model.name} · Shelf", f"{SHELF}{model.name}")
        current = NO_BASE if base is None else base.model or str(base.run)
        if base is not None and self.run.findData(current) < 0:
            self.run.addItem(base.words, AS_NOW)
            current = AS_NOW
        self.run.addItem("a model file …", FROM_FILE)
        self.run.setCurrentIndex(max(0, self.run.findData(current)))
        self.until.clear()
        if base is not None:
            for name in base_layers(self.session.design.plan):
                self.until.addItem(name, name)
            self.until.setCurrentIndex(self.until.findData(base.until))
            self.statistics.setCurrentIndex(self.statistics.findData(base.statistics))
        self.until.setEnabled(base is not None)
        self.statistics.setEnabled(base is not None)
        self.frozen.setChecked(base is not None and base.frozen)
        self.frozen.setEnabled(base is not None)
        self.tuning.setVisible(base is not None and not base.frozen)
        if base is not None and not base.frozen:
            self.tuning.show_value(base)
        self._say_verdict()
        self.compare.setEnabled(self._comparable)
        if self.isVisible():
            self._probe(base)

    @property
    def _comparable(self) -> bool:
        """Whether ways to begin can be compared now: the plan has a base, and what is on the bench can be trained."""
        design = self.session.design
        return design.plan.base is not None and design.sound and not self.session.reading_only

    def showEvent(self, event: QShowEvent | None) -> None:
        """Ask only once somebody looks."""
        super().showEvent(event)
        self.session.shelf.want()
        self._probe(self.session.design.plan.base)

    def _choose(self) -> None:
        chosen, plan = str(self.run.currentData()), self.session.design.plan
        if chosen == AS_NOW:
            return
        if chosen == NO_BASE:
            self._take(without_base(plan))
        elif chosen == FROM_FILE:
            kinds = " ".join(f"*{ending}" for ending in MODEL_SUFFIXES)
            name = QFileDialog.getOpenFileName(self, "A model to build on", "", f"Models ({kinds})")[0]
            if name:
                self.take_file(Path(name))
            else:
                self.refresh()
        elif chosen.startswith(SHELF):
            self._build_on(Base(model=chosen, take_preprocessing=True))
        else:
            self._build_on(Base(run=int(chosen)))

    def take_file(self, file: Path) -> None:
        """Build on a model file, which is put on the Shelf first."""
        self._say_problem("")
        self.advice.setText(f"Putting {file.name} on the Shelf …")
        self.session.shelf.put(str(file), self._build_on_shelf, self._say_problem)

    def _build_on_shelf(self, name: str) -> None:
        self._build_on(Base(model=f"{SHELF}{name}", take_preprocessing=True))

    def _say_problem(self, sentence: str) -> None:
        """What is wrong with the base, or nothing."""
        self.problem.setText(sentence)
        self.problem.setVisible(bool(sentence))
        if sentence:
            self.advice.setText("")

    def _change(self, **settings: str | bool) -> None:
        base = self.session.design.plan.base
        if base is not None:
            self._tune(base.with_(**settings))

    def _freeze(self, frozen: bool) -> None:
        """Freeze it, or let it learn on; of what is frozen no more is to be said."""
        base = self.session.design.plan.base
        if base is not None:
            self._tune(base.held() if frozen else base.with_(frozen=False))

    def _tune(self, base: Base) -> None:
        """Build on it otherwise; the new layers stay as they are."""
        try:
            self._take(replace(self.session.design.plan, base=base))
        except LensError as error:
            self._say_problem(str(error))

    def _build_on(self, base: Base) -> None:
        try:
            self._take(with_base(self.session.workspace, self.session.design.plan, base))
        except LensError as error:
            self._say_problem(str(error))

    def _take(self, plan: Plan) -> None:
        self.problem.hide()
        self.session.design.change(plan)

    def _probe(self, base: Base | None) -> None:
        """Ask a linear probe about a base that was not asked about yet; its layers are all asked at once."""
        probed = None if base is None else base.held()
        if probed == self._probed:
            return
        self._probed = probed
        self.advice.setText("" if base is None else "Asking whether it can help …")
        set_role(self.advice, "faint")
        if base is not None:
            request = ProbeBase(self.session.place, self.session.design.plan.write(), quick=True)
            take = partial(self._show, self.session.design.plan)
            self.session.ask(request, take, self._refused, priority=6, scope="base")

    def _show(self, plan: Plan, probe: BaseProbe) -> None:
        """Say what the layers of a plan's base know, and whether it helps where that is known."""
        self.advice.setText(probe.advice)
        set_role(self.advice, "faint")
        if probe.compared is not None:
            self._known[plan] = probe.compared
            self._say_verdict()

    def _compare(self) -> None:
        """Have the ways to begin compared, or stop that."""
        plan = None if self._comparing is not None else self.session.design.plan
        self.session.asker.give_up(COMPARING)
        self._comparing = plan
        self._say_verdict()
        if plan is not None:
            request = ProbeBase(self.session.place, plan.write())
            done, failed = partial(self._take_compared, plan), self._not_compared
            self.session.ask(request, done, failed, priority=7, scope=COMPARING)

    def _say_verdict(self) -> None:
        """Whether the base helps the plan on the bench; what is under way for another is given up."""
        plan = self.session.design.plan
        if self._comparing not in (None, plan):
            self.session.asker.give_up(COMPARING)
            self._comparing = None
        known = self._known.get(plan)
        under_way = self._comparing is not None
        self.compare.setText(STOP if under_way else HELP)
        self.verdict.setText(UNDER_WAY if under_way else known.sentence if known is not None else "")
        set_role(self.verdict, ROLES[known.verdict] if known is not None and not under_way else "faint")

    def _take_compared(self, plan: Plan, probe: BaseProbe) -> None:
        self._comparing = None
        self._show(plan, probe)

    def _not_compared(self, sentence: str) -> None:
        self._comparing = None
        self._say_verdict()
        self.verdict.setText(sentence)
        set_role(self.verdict, "bad")

    def _refused(self, sentence: str) -> None:
        self.advice.setText(sentence)
        set_role(self.advice, "bad")


def _choice(name: str, meaning: str) -> QComboBox:
    return chooser(name, name, meaning)
