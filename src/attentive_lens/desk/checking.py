"""Everything that is wrong with a plan file, by its lines, with the nearest repairs."""

from __future__ import annotations

import tomllib
from dataclasses import dataclass

from attentive_lens.errors import LensError
from attentive_lens.plan.examination import examine
from attentive_lens.plan.plan import Plan
from attentive_lens.plan.repairs import repairs
from attentive_lens.plan.text import read_text


@dataclass(frozen=True)
class PlanFault:
    """A fault: its line (0 for none's), why, and what would mend it in a few words each, the nearest first."""

    line: int
    error: LensError
    repairs: tuple[str, ...] = ()


def faults_of(text: str, classes: int | None = None) -> tuple[PlanFault, ...]:
    """Faults of a plan's text: what cannot be read, or else what keeps its network from being one.

    ``classes`` are those the output must match; left out, it may have any number.
    """
    reading = read_text(text)
    if reading.faults or reading.nodes is None or reading.settings is None:
        return tuple(PlanFault(fault.line, fault.error) for fault in reading.faults)
    image = reading.settings.preprocessing.shape
    units = None if classes is None else reading.settings.loss.outputs(classes)
    faults = []
    for fault in examine(reading.nodes, image, units).faults:
        words = tuple(repair.words for repair in repairs(reading.nodes, fault, image, units))
        faults.append(PlanFault(reading.lines.get(fault.node, 0), fault.error, words))
    if not faults:
        try:
            Plan.read(tomllib.loads(text))
        except LensError as error:
            faults.append(PlanFault(0, error))
    return tuple(faults)
