"""Everything that is wrong with a plan file, by its lines, with the nearest repairs."""

from __future__ import annotations

import tomllib
from dataclasses import dataclass

from attentive_lens.desk.network.bases import Bases
from attentive_lens.desk.network.design import loss_faults
from attentive_lens.errors import LensError
from attentive_lens.plan.examination import examine
from attentive_lens.plan.plan import Plan
from attentive_lens.plan.repairs import repairs
from attentive_lens.plan.text import read_text
from attentive_lens.workspace import Workspace


@dataclass(frozen=True)
class PlanFault:
    """A fault: its line (0 for none's), why, and what would mend it in a few words each, the nearest first."""

    line: int
    error: LensError
    repairs: tuple[str, ...] = ()


def faults_of(text: str, classes: int | None = None, workspace: Workspace | None = None) -> tuple[PlanFault, ...]:
    """Faults of a plan's text: what cannot be read, what keeps its network from being one, or a base that is not fit.

    Parameters
    ----------
    text : str
        As in a plan file.
    classes : int, optional
        That the output must match; left out, it may have any number.
    workspace : Workspace, optional
        Whose runs it names; left out, what it is built on is not looked at.
    """
    reading = read_text(text)
    if reading.faults or reading.nodes is None or reading.settings is None:
        return tuple(PlanFault(fault.line, fault.error) for fault in reading.faults)
    image = reading.settings.preprocessing.shape
    units = None if classes is None else reading.settings.units(classes)
    faults = []
    for fault in examine(reading.nodes, image, units).faults:
        words = tuple(repair.words for repair in repairs(reading.nodes, fault, image, units))
        faults.append(PlanFault(reading.lines.get(fault.node, 0), fault.error, words))
    if not faults and classes is not None:
        faults = [PlanFault(0, fault.error) for fault in loss_faults(reading.settings, classes)]
    if not faults:
        try:
            plan = Plan.read(tomllib.loads(text))
        except LensError as error:
            return (PlanFault(0, error),)
        if workspace is not None:
            bases = Bases(workspace)
            for fault in bases.faults(plan):
                words = tuple(words for words, _ in bases.repairs(plan, fault))
                faults.append(PlanFault(reading.lines.get(fault.node, 0), fault.error, words))
    return tuple(faults)
