"""What two plans differ in, setting by setting and layer by layer."""

from __future__ import annotations

from dataclasses import dataclass

from attentive_lens.core.records import PlainTable
from attentive_lens.plan.editing import Nodes
from attentive_lens.plan.nodes import IMAGE
from attentive_lens.plan.plan import Plan


@dataclass(frozen=True)
class Difference:
    """A dotted key, and what the two plans have there; None where one has nothing."""

    key: str
    one: str | None
    other: str | None


def same_so_far(one: Plan, nodes: Nodes, other: Plan) -> frozenset[str]:
    """Names of the nodes that are in a plan as they are in another one, with all that feeds them and the image."""
    if one.preprocessing != other.preprocessing:
        return frozenset()
    theirs = {node.name: node for node in other.network.nodes}
    same = {IMAGE}
    for node in nodes:
        twin = theirs.get(node.name)
        if twin is not None and (twin.layer, twin.after) == (node.layer, node.after) and same.issuperset(node.after):
            same.add(node.name)
    return frozenset(same - {IMAGE})


def differences(one: Plan, other: Plan) -> tuple[Difference, ...]:
    """All of them: settings by key, augmentation steps by kind, layers by name, in the order of the plans."""
    tables = [settings_of(plan) for plan in (one, other)]
    keys = dict.fromkeys([*tables[0], *tables[1]])
    rows = (Difference(key, tables[0].get(key), tables[1].get(key)) for key in keys)
    return tuple(row for row in rows if row.one != row.other)


def settings_of(plan: Plan) -> dict[str, str]:
    """Everything that decides a plan, as text by dotted key; augmentation steps by kind, layers by name."""
    table = plan.write()
    rows: dict[str, str] = {}
    for key, value in table.items():
        if key in ("format", "network", "augmentation"):
            continue
        if isinstance(value, dict):
            rows |= {f"{key}.{name}": _text(setting) for name, setting in value.items()}
        else:
            rows[key] = _text(value)
    for place, step in enumerate(plan.augmentation, 1):
        rows[f"augmentation.{step.kind}"] = f"step {place}: {_settings(step.write())}"
    for node in plan.network.nodes:
        unusual = node.learning.written().items()
        multiplier = "".join(f", {name} {value if isinstance(value, str) else f'{value:g}'}" for name, value in unusual)
        words = f"{node.layer.kind}: {_settings(node.layer.write())}{multiplier}, after {', '.join(node.after)}"
        rows[f"network.{node.name}"] = words.replace(": ,", ",")
    return rows


def _settings(table: PlainTable) -> str:
    return ", ".join(f"{name} {_text(value)}" for name, value in table.items())


def _text(value: object) -> str:
    if isinstance(value, list | tuple):
        whole = all(isinstance(part, int) for part in value)  # sides; else the ends of a range
        return ("×" if whole else "–").join(map(_text, value))
    return f"{value:g}" if isinstance(value, float) else str(value)
