"""A plan in small: for a part of its epochs."""

from __future__ import annotations

from dataclasses import replace

from attentive_lens.plan.plan import Plan
from attentive_lens.plan.stopping import Stopping

IN_EPOCHS = ("warmup_epochs", "step_size", "patience")
"""Settings of schedules that are lengths: a trial is the whole run in small."""


def shortened(plan: Plan, part: float) -> Plan:
    """The plan for a part of its epochs; no rule ends it before."""
    epochs = max(1, round(plan.training.epochs * part))
    scaled = epochs / plan.training.epochs
    lengths = {name: getattr(plan.schedule, name) for name in IN_EPOCHS if hasattr(plan.schedule, name)}
    changes = {
        f"schedule.{name}": max(1, round(value * scaled)) if isinstance(value, int) else max(0.01, value * scaled)
        for name, value in lengths.items()
        if value
    }
    short = plan.changed({"training.epochs": epochs, **changes})
    return replace(short, name=f"trial of {plan.name}"[:200], stopping=Stopping())
