"""The plan being designed: kept in the workspace between two openings, read from and written to plan files."""

from __future__ import annotations

import contextlib
from pathlib import Path

from attentive_lens.errors import LensError
from attentive_lens.plan.files import write_text
from attentive_lens.plan.outline import commented
from attentive_lens.plan.plan import Plan
from attentive_lens.workspace import Workspace
from attentive_lens.workspace.runs import read_plan

FILE = "draft.toml"


class Draft:
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
    """

    def __init__(self, workspace: Workspace) -> None:
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


def open_plan(file: Path) -> Plan:
    """The plan in a file; `LensError` if it cannot be read or is wrong."""
    return read_plan(file)


def save_plan(file: Path, plan: Plan) -> None:
    """Write a plan with all its settings explained; `BadFile` if that fails."""
    write_text(file, commented(plan))
