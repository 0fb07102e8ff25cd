"""The plan being designed: changed as a whole, layer by layer or as text, undone, and kept between two openings."""

from __future__ import annotations

import contextlib
from collections.abc import Callable, Iterable, Mapping
from dataclasses import dataclass, replace
from functools import cached_property
from pathlib import Path
from typing import TYPE_CHECKING

import psutil

from attentive_lens.core.files import write_text
from attentive_lens.desk.history import History, Step, Timeline
from attentive_lens.desk.network.usual import usual_plan
from attentive_lens.desk.observing import Signal
from attentive_lens.errors import BadValue, LensError
from attentive_lens.plan.base import Base
from attentive_lens.plan.editing import Nodes
from attentive_lens.plan.examination import Examination, Facts, Fault, examine
from attentive_lens.plan.losses import CrossEntropy
from attentive_lens.plan.memory import training_memory
from attentive_lens.plan.network import NetworkPlan
from attentive_lens.plan.outline import commented
from attentive_lens.plan.plan import Plan
from attentive_lens.plan.preprocessing import Preprocessing
from attentive_lens.plan.repairs import repairs
from attentive_lens.plan.split import Split
from attentive_lens.plan.text import Reading, TextFault, read_text, written_lines
from attentive_lens.workspace import Workspace
from attentive_lens.workspace.plan_files import read_plan

if TYPE_CHECKING:
    from attentive_lens.desk.network.bases import Bases

FILE, FAULTY = "draft.toml", "draft-faulty.toml"
"""The last sound plan, and the text of what is on the bench where that is not sound."""


@dataclass(frozen=True)
class Drawn:
    """A state of the bench: the last sound plan, the nodes that are drawn, and their text where it was written."""

    plan: Plan
    nodes: Nodes
    text: str = ""


@dataclass(frozen=True)
class Remedy:
    """A repair of a fault: words for a button, and the state that it leads to."""

    words: str
    drawn: Drawn


class Design:
    """The plan that the next run will have.

    A network is designed step by step, and on the way it may be faulty: ``nodes`` are what is drawn, ``plan`` is the
    last sound plan, and `faults` says what stands between the two.

    Parameters
    ----------
    workspace : Workspace
        Where it is kept; in one that cannot be written it lasts until the window closes.
    classes : callable, optional
        Gives the number of classes that the images have, which the output must match.
    timeline : Timeline, optional
        Where every change stands.

    Attributes
    ----------
    problem : str
        Why what was kept could not be read; empty otherwise. The file is left as it is until the plan changes.
    split_changed, changed : Signal
        What is designed is another; the first comes before the second, and only where images go into other sets.
    """

    def __init__(
        self, workspace: Workspace, classes: Callable[[], int] | None = None, timeline: Timeline | None = None
    ) -> None:
        self._timeline = timeline or Timeline()
        self.split_changed, self.changed = Signal(), Signal()
        self._classes, self._workspace = classes, workspace
        self._file, self._faulty = workspace.folder / FILE, workspace.folder / FAULTY
        self._writable = workspace.writable
        plan, self.problem = usual_plan(workspace), ""
        if self._file.exists():
            try:
                plan = read_plan(self._file)
            except LensError as error:
                self.problem = f"The draft of the last time was not taken: {error}"
        drawn = Drawn(plan, plan.network.nodes)
        self._read: tuple[str, Reading] | None = None
        self._written: tuple[Drawn, str, Mapping[str, int]] | None = None
        self._examined: tuple[Plan, Nodes, int | None, Examination] | None = None
        self._history: History[Drawn] = History(drawn)
        self._kept = drawn

    def restore(self) -> None:
        """Put what was faulty when it was last closed on the bench again, once the classes are known."""
        with contextlib.suppress(OSError, UnicodeDecodeError):
            if self._faulty.exists():
                self._kept = self._from_text(self._faulty.read_text("utf-8"))
                self._history = History(self._kept)

    @property
    def drawn(self) -> Drawn:
        """All that is on the bench."""
        return self._history.state

    @property
    def plan(self) -> Plan:
        """The last sound plan: as kept, or the default one at first."""
        return self._history.state.plan

    @property
    def nodes(self) -> Nodes:
        """The network as it is drawn, sound or not."""
        return self._history.state.nodes

    @property
    def sound(self) -> bool:
        """Whether what is drawn and written is the plan."""
        return not self.faults and not self.text_faults

    @property
    def text(self) -> str:
        """The plan as text: as it was written, or made from what is drawn."""
        return self._text()[1]

    @property
    def text_faults(self) -> tuple[TextFault, ...]:
        """What of the text could not be read; none unless it was written by hand."""
        return self._reading().faults if self.drawn.text else ()

    @property
    def lines(self) -> Mapping[str, int]:
        """The line of the text in which each node begins, by name."""
        return self._text()[2]

    @property
    def faults(self) -> tuple[Fault, ...]:
        """Why the network drawn is not sound."""
        faults = self.examination.faults
        if not faults and self.plan.network.nodes != self.nodes:
            faults = _of_plan(self.plan, self.nodes)
        if not faults and self._classes is not None:
            faults = loss_faults(self.plan, self._classes())
        return faults or (() if self.plan.base is None else self._bases.faults(self.plan))

    @property
    def examination(self) -> Examination:
        """Facts and faults of the network drawn."""
        plan, nodes, units = self.plan, self.nodes, self._units(self.plan)
        if self._examined is None or self._examined[:3] != (plan, nodes, units):
            classes = None if self._classes is None else self._classes()
            self._examined = (plan, nodes, units, examine(nodes, plan.preprocessing.shape, units, classes))
        return self._examined[3]

    def remedies(self, fault: Fault) -> tuple[Remedy, ...]:
        """The nearest repairs of a fault."""
        if fault.kind == "plan":
            plan = replace(self.plan, base=None)
            return (Remedy("Build on no model", self._sound(plan, self.nodes)),)
        if fault.kind == "loss":
            plan = replace(self.plan, loss=CrossEntropy(class_weights=self.plan.loss.class_weights))
            return (Remedy(f"Train by {plan.loss.kind}", Drawn(plan, self.nodes)),)
        if fault.kind == "base":
            plans = self._bases.repairs(self.plan, fault)
            return tuple(Remedy(words, Drawn(plan, plan.network.nodes)) for words, plan in plans)
        image, units = self.plan.preprocessing.shape, self._units(self.plan)
        return tuple(
            Remedy(repair.words, self._sound(self.plan, repair.nodes))
            for repair in repairs(self.nodes, fault, image, units)
        )

    @cached_property
    def _bases(self) -> Bases:
        """Made when a plan is built on a model: reading one takes what is slow to load."""
        from attentive_lens.desk.network.bases import Bases

        return Bases(self._workspace)

    def keep(self) -> None:
        """Write it, unless it stands there already; where that fails it lasts until the window closes."""
        if self.drawn == self._kept or not self._writable:
            return
        with contextlib.suppress(LensError, OSError):
            if self._kept.plan != self.plan or not self._file.exists():
                save_plan(self._file, self.plan)
            if self.sound:
                self._faulty.unlink(missing_ok=True)
            else:
                write_text(self._faulty, self.text)
            self._kept = self.drawn

    def change(self, plan: Plan, summary: str = "a setting of the plan") -> None:
        """Design another plan; what is drawn stays while the network does."""
        if plan == self.plan:
            return
        nodes = self.nodes if plan.network == self.plan.network else plan.network.nodes
        self._go_to(summary, Drawn(plan, nodes))

    def change_split(self, split: Split) -> None:
        """Split the images otherwise."""
        self.change(replace(self.plan, split=split), "the split")

    def change_preprocessing(self, preprocessing: Preprocessing) -> None:
        """Prepare the images otherwise; `BadValue` if the network does not fit them then."""
        self.change(replace(self.plan, preprocessing=preprocessing), "the preprocessing")

    def edit(self, nodes: Nodes, summary: str) -> None:
        """Draw another network, sound or not."""
        if nodes != self.nodes:
            self._go_to(summary, self._sound(self.plan, nodes))

    def repair(self, remedy: Remedy) -> None:
        """Take a repair."""
        self._go_to(remedy.words.lower(), remedy.drawn)

    def write(self, text: str) -> None:
        """Take a text, as far as it can be read; the rest stays as it is."""
        if text != self.text:
            self._go_to("the text", self._from_text(text))

    def undo(self) -> str:
        """Go back one state; what was taken back, or an empty word at the first."""
        return self._moved(self._history.undo)

    def redo(self) -> str:
        """Go forward one state; what was done again, or an empty word at the last."""
        return self._moved(self._history.redo)

    def _go_to(self, summary: str, drawn: Drawn) -> None:
        def add() -> str:
            self._history.add(summary, drawn)
            return summary

        self._moved(add)
        self._timeline.add(Step(summary, lambda: bool(self.undo()), lambda: bool(self.redo())))

    def _moved(self, step: Callable[[], str]) -> str:
        before = self.drawn
        summary = step()
        if self.drawn != before:
            plan = self.plan
            if (plan.split, plan.seed) != (before.plan.split, before.plan.seed):
                self.split_changed.emit()
            self.changed.emit()
        return summary

    def _units(self, plan: Plan) -> int | None:
        return None if self._classes is None else plan.units(self._classes())

    def _sound(self, plan: Plan, nodes: Nodes) -> Drawn:
        """The nodes, and the plan that they make, or the plan as it is if they make none."""
        if not examine(nodes, plan.preprocessing.shape, self._units(plan)).faults:
            with contextlib.suppress(LensError):
                plan = replace(plan, network=NetworkPlan(nodes))
        return Drawn(plan, nodes)

    def _from_text(self, text: str) -> Drawn:
        """The text, with whatever of it can be read."""
        reading = read_text(text)
        now, nodes = self.drawn, self.nodes if reading.nodes is None else reading.nodes
        settings = now.plan if reading.settings is None else reading.settings
        base = reading.base if reading.settings is not None else now.plan.base
        if not examine(nodes, settings.preprocessing.shape, self._units(settings)).faults:
            with contextlib.suppress(LensError):
                return Drawn(replace(settings, network=NetworkPlan(nodes), base=base), nodes, text)
        for wished in _fallbacks(settings, now.plan, base):
            with contextlib.suppress(LensError):
                return replace(self._sound(wished(), nodes), text=text)
        return Drawn(now.plan, nodes, text)

    def _text(self) -> tuple[Drawn, str, Mapping[str, int]]:
        """The text of what is drawn, with the lines of its nodes."""
        drawn = self.drawn
        if self._written is None or self._written[0] is not drawn:
            by_hand = (drawn.text, self._reading().lines) if drawn.text else written_lines(drawn.plan, drawn.nodes)
            self._written = (drawn, *by_hand)
        return self._written

    def _reading(self) -> Reading:
        text = self.drawn.text
        if self._read is None or self._read[0] != text:
            self._read = (text, read_text(text))
        return self._read[1]


def loss_faults(plan: Plan, classes: int) -> tuple[Fault, ...]:
    """Whether the loss is one for so many classes."""
    error = plan.loss.misfit(classes)
    return () if error is None else (Fault("", "loss", error),)


def _fallbacks(settings: Plan, now: Plan, base: Base | None) -> Iterable[Callable[[], Plan]]:
    """Settings over the last sound network, as many of them as fit it."""
    yield lambda: replace(settings, network=now.network, base=base)
    yield lambda: replace(settings, network=now.network, base=now.base)
    yield lambda: replace(settings, network=now.network, base=now.base, preprocessing=now.preprocessing)


def _of_plan(plan: Plan, nodes: Nodes) -> tuple[Fault, ...]:
    """What is wrong with a sound network in this plan."""
    try:
        replace(plan, network=NetworkPlan(nodes))
    except BadValue as error:
        return (Fault("", "plan", error),)
    except LensError as error:
        return (Fault("", "plan", BadValue(error.what, error.why, error.remedy)),)
    return ()


def open_plan(file: Path) -> Plan:
    """The plan in a file; `LensError` if it cannot be read or is wrong."""
    return read_plan(file)


def save_plan(file: Path, plan: Plan) -> None:
    """Write a plan with all its settings explained; `BadFile` if that fails."""
    write_text(file, commented(plan))


def facts_of(plan: Plan, classes: int) -> tuple[NetworkPlan, tuple[Facts, ...]]:
    """The plan's network with an answer for each class, and its facts."""
    network = plan.network_for(classes)
    return network, network.facts(plan.preprocessing.shape)


def price_in_memory(plan: Plan, classes: int, validation: int) -> tuple[int, int]:
    """Bytes that training holds at most, with so many validation images, and bytes of memory that are free now."""
    _, facts = facts_of(plan, classes)
    return memory_of(plan, facts, validation)


def memory_of(plan: Plan, facts: Iterable[Facts], validation: int) -> tuple[int, int]:
    """As `price_in_memory`, of a network whose facts are known."""
    return training_memory(plan, tuple(facts), validation), int(psutil.virtual_memory().available)
