"""Several remedies as one plan."""

from __future__ import annotations

from collections.abc import Sequence

from attentive_lens.core.records import PlainTable
from attentive_lens.errors import LensError
from attentive_lens.plan.plan import Plan

LENGTHS = {"training.epochs"}
"""Settings that may be doubled again."""


def joined(plan: Plan, changes: Sequence[Plan]) -> tuple[Plan, tuple[int, ...]]:
    """A plan with the changes that several others make to it, and the places of those whose changes went in.

    Of two that change the same setting, the network or the augmentation, the first counts; what does not fit what went
    in before is left out.
    """
    before, table = plan.write(), plan.write()
    taken: set[str] = set()
    result, places = plan, list[int]()
    for place, other in enumerate(changes):
        new = {key: value for key, value in _settings(other.write()).items() if _settings(before).get(key) != value}
        keys = {key.partition(".")[0] if key.endswith(".kind") else key for key in new}
        if keys & taken or not new:
            continue
        attempt = _with(table, new)
        try:
            result = Plan.read(attempt)
        except LensError:
            continue
        table, places = attempt, [*places, place]
        taken |= keys
    return result, tuple(places)


def begins_alike(before: Plan, plan: Plan, changed: Plan) -> bool:
    """Whether the settings in which a plan was changed are in the plan what they were before: lengths aside.

    What thrice the rate gained says nothing of thrice as much again, nor what one network gained of another one.
    """
    known, now = _settings(before.write()), _settings(plan.write())
    keys = {key for key, value in _settings(changed.write()).items() if now.get(key) != value}
    return all(known.get(key) == now.get(key) for key in keys - LENGTHS)


def _settings(table: PlainTable) -> dict[str, object]:
    """By dotted key; network and augmentation as a whole."""
    rows: dict[str, object] = {}
    for key, value in table.items():
        if isinstance(value, dict):
            rows |= {f"{key}.{name}": setting for name, setting in value.items()}
        elif key not in ("name", "seed", "format"):
            rows[key] = value
    return rows


def _with(table: PlainTable, settings: dict[str, object]) -> PlainTable:
    result = {key: dict(value) if isinstance(value, dict) else value for key, value in table.items()}
    for key, value in settings.items():
        section, _, name = key.partition(".")
        if not name:
            result[section] = value
            continue
        part = result.setdefault(section, {})
        if isinstance(part, dict):
            if name == "kind":
                part.clear()
            part[name] = value
    return result
