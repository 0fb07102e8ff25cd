"""The plan being designed: kept in the workspace between two openings, changed, read from and written to plan files."""

from __future__ import annotations

import contextlib
from dataclasses import replace
from pathlib import Path

import psutil

from attentive_lens.core.files import write_text
from attentive_lens.desk.observing import Signal
from attentive_lens.errors import LensError
from attentive_lens.plan.network import Facts, NetworkPlan, working_memory
from attentive_lens.plan.outline import commented
from attentive_lens.plan.plan import Plan
from attentive_lens.plan.preprocessing import Preprocessing
from attentive_lens.plan.split import Split
from attentive_lens.workspace import Workspace
from attentive_lens.workspace.runs import read_plan

FILE = "draft.toml"


class Design:
    """The plan that the next run will have.

    Parameters
    ----------
    workspace : Workspace
        Where it is kept; in one that cannot be written it lasts until the window closes.

    Attributes
    ----------
    plan : Plan
        As kept, or the default plan.
    problem : str
        Why what was kept could not be read; empty otherwise. The file is left as it is until the plan changes.
    split_changed, changed : Signal
        The plan is another; the first comes before the second, and only where images go into other sets.
    """

    def __init__(self, workspace: Workspace) -> None:
        self.split_changed, self.changed = Signal(), Signal()
        self._file = workspace.folder / FILE
        self._writable = workspace.writable
        self.plan, self.problem = Plan(), ""
        self._kept = self.plan
        if self._file.exists():
            try:
                self.plan = self._kept = read_plan(self._file)
            except LensError as error:
                self.problem = f"The draft of the last time was not taken: {error}"

    def keep(self) -> None:
        """Write it, unless it stands there already; where that fails it lasts until the window closes."""
        if self.plan != self._kept and self._writable:
            with contextlib.suppress(LensError):
                save_plan(self._file, self.plan)
                self._kept = self.plan

    def change(self, plan: Plan) -> None:
        """Design another plan."""
        if plan != self.plan:
            split = (plan.split, plan.seed) != (self.plan.split, self.plan.seed)
            self.plan = plan
            if split:
                self.split_changed.emit()
            self.changed.emit()

    def change_split(self, split: Split) -> None:
        """Split the images otherwise."""
        self.change(replace(self.plan, split=split))

    def change_preprocessing(self, preprocessing: Preprocessing) -> None:
        """Prepare the images otherwise; `BadValue` if the network does not fit them then."""
        self.change(replace(self.plan, preprocessing=preprocessing))


def open_plan(file: Path) -> Plan:
    """The plan in a file; `LensError` if it cannot be read or is wrong."""
    return read_plan(file)


def save_plan(file: Path, plan: Plan) -> None:
    """Write a plan with all its settings explained; `BadFile` if that fails."""
    write_text(file, commented(plan))


def facts_of(plan: Plan, classes: int) -> tuple[NetworkPlan, tuple[Facts, ...]]:
    """The plan's network with an answer for each class, and its facts."""
    network = plan.network.with_outputs(plan.loss.outputs(classes))
    return network, network.facts(plan.preprocessing.shape)


def price_in_memory(plan: Plan, classes: int) -> tuple[int, int]:
    """Bytes that a step of training needs, and bytes of memory that are free now."""
    _, facts = facts_of(plan, classes)
    needed = working_memory(facts, plan.training.batch_size, plan.optimiser.state_arrays)
    return needed, int(psutil.virtual_memory().available)
