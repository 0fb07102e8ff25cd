"""From which probability a run says each of its labels: a small file of its own, for they are chosen after training."""

from __future__ import annotations

import json
from collections.abc import Mapping
from dataclasses import dataclass

from attentive_lens.core.files import write_text
from attentive_lens.errors import BadFile
from attentive_lens.plan.labels import HALF
from attentive_lens.workspace.runs import Run


@dataclass(frozen=True)
class Threshold:
    """From which probability, 0–1, a label is said, and what that was chosen by, in words."""

    value: float
    by: str = "not chosen"


def thresholds_of(run: Run) -> dict[str, Threshold]:
    """Of every label of a run, in their order; a half where none was chosen.

    Raises
    ------
    BadFile
        If the file is damaged.
    """
    try:
        table = json.loads(run.thresholds.read_text("utf-8"))
        known = {str(name): Threshold(float(each["value"]), str(each["by"])) for name, each in table.items()}
        if not all(0 <= each.value <= 1 for each in known.values()):
            raise ValueError(table)
    except FileNotFoundError:
        known = {}
    except (OSError, ValueError, LookupError, TypeError, AttributeError):
        what, why = f"Run {int(run.number)} cannot be asked", f"its file {run.thresholds.name} is damaged"
        raise BadFile(what, why, "Choose its thresholds again") from None
    return {label: known.get(label, Threshold(HALF)) for label in run.classes()}


def keep_thresholds(run: Run, thresholds: Mapping[str, Threshold]) -> None:
    """Write them down; `BadFile` if that cannot be."""
    table = {name: {"value": each.value, "by": each.by} for name, each in thresholds.items()}
    write_text(run.thresholds, json.dumps(table, indent=1, ensure_ascii=False))
