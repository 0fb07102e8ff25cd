"""A plan as a file that explains itself, and the list of all its settings."""

from __future__ import annotations

import dataclasses
import json
from collections.abc import Mapping, Set
from dataclasses import dataclass
from typing import Any

from attentive_lens.core.values import Kind, Spec, Value
from attentive_lens.plan.augmentation import STEPS
from attentive_lens.plan.base import Base
from attentive_lens.plan.blocks import BLOCKS
from attentive_lens.plan.layers import LAYERS
from attentive_lens.plan.nodes import USUALLY, Learning
from attentive_lens.plan.plan import CHOICES, DRAWING, PAIRED, SECTIONS, Plan
from attentive_lens.plan.starters import STARTERS


def _plain(value: float | str) -> str:
    return value if isinstance(value, str) else f"{value:g}"


NAME = "What it is called, in lists of runs."
SEED = "Decides every random draw: the split, starting weights, the order of images, their changes."
AUGMENTATION = "Changes made to training images alone, in this order; a plan without any makes none."
NETWORK = "Layers in order; each stands after the one before it unless «after» names another, or several."
FREE = {
    "name": "Its name; made from kind and number if left out.",
    "after": "What feeds it: a name, or a list of names where it joins; «image» is the prepared image.",
    **{
        name: f"{shown.meaning} {_plain(getattr(USUALLY, name))} if left out."
        for name, shown in Learning.specs().items()
    },
    "part_of": "Name of the block that it is a part of, with which it folds on the bench; may be left out.",
}
"""What every layer of a plan file may have besides its own settings."""


@dataclass(frozen=True)
class Setting:
    """One key that `Plan.changed` takes: default as TOML, what it means, unit, what it may be, what is usual."""

    key: str
    default: str
    meaning: str
    unit: str
    allowed: str
    ends: str = ""


def settings() -> list[Setting]:
    """Every key for ``--set``, in the order of a plan file."""
    plan = Plan()
    rows = [
        Setting("name", toml(plan.name), NAME, "", "text"),
        Setting("seed", toml(plan.seed), SEED, "", "0 or more"),
    ]
    for section in SECTIONS:
        rows += _rows(section, getattr(plan, section))
    for section, kinds in (CHOICES | PAIRED).items():
        rows += _choice(section, kinds, getattr(plan, section))
    starters = ", ".join((*STARTERS, *DRAWING))
    rows.append(Setting("network", toml("three blocks"), "The network: one of the starting ones.", "", starters))
    rows.append(
        Setting("augmentation", toml("default"), "The changes: none, or those of a new plan.", "", "none, default")
    )
    for name, shown in Base.specs().items():
        usual = next(f.default for f in dataclasses.fields(Base) if f.name == name)
        default = "" if usual is dataclasses.MISSING else toml(usual)
        kind = allowed(shown, Base.types()[name])
        rows.append(Setting(f"base.{name}", default, shown.meaning, shown.unit, kind, shown.ends))
    return rows


def _rows(section: str, value: Value) -> list[Setting]:
    types = value.types()
    return [
        Setting(
            f"{section}.{name}",
            toml(getattr(value, name)),
            shown.meaning,
            shown.unit,
            allowed(shown, types[name]),
            shown.ends,
        )
        for name, shown in value.specs().items()
    ]


def _choice(section: str, kinds: Mapping[str, type[Kind]], value: Kind) -> list[Setting]:
    """Which kind, and every setting that one of the kinds has."""
    ideas = " ".join(f"{kind}: {kind_class.idea}" for kind, kind_class in kinds.items())
    rows = [Setting(section, toml(value.kind), ideas, "", ", ".join(kinds))]
    names = dict.fromkeys(name for kind_class in kinds.values() for name in kind_class.specs())
    for name in names:
        having = [kind_class for kind_class in kinds.values() if name in kind_class.specs()]
        example, kind_class = having[0](), having[0].specs()[name]
        only = "" if len(having) == len(kinds) else f" Only of {', '.join(kind.kind for kind in having)}."
        default = toml(getattr(value if name in value.specs() else example, name))
        kind = having[0].types()[name]
        may_be, ends = allowed(kind_class, kind), kind_class.ends
        rows.append(Setting(f"{section}.{name}", default, kind_class.meaning + only, kind_class.unit, may_be, ends))
    return rows


def allowed(shown: Spec, kind: Any) -> str:
    """What a setting may be, in words: «0 to 0.9», «a, b, c», «text»."""
    if shown.choices:
        return ", ".join(word or "(empty)" for word in shown.choices)
    if kind is bool:
        return "true, false"
    if shown.low is not None and shown.high is not None:
        several = "".join(f", or {count} such" for count in shown.counts)
        return f"{shown.low:g} to {shown.high:g}{several}"
    if shown.low is not None:
        return f"{shown.low:g} or more"
    return "text" if kind is str else "a number"


def toml(value: Any) -> str:
    """A plain value as TOML."""
    if isinstance(value, bool):
        return "true" if value else "false"
    if isinstance(value, str):
        return json.dumps(value, ensure_ascii=False)
    if isinstance(value, tuple | list):
        return f"[{', '.join(toml(part) for part in value)}]"
    return repr(value)


def commented(plan: Plan) -> str:
    """The plan as a TOML file in which a comment before every key says what it means, its unit, and what it may be.

    What the plan does not have (further layers, blocks and changes, a base) stands at the end of its section, as
    comments to take up.
    """
    lines = [
        "# Everything that decides a run. Settings left out stand at their defaults;",
        "# a network must be there.",
    ]
    lines += [f"format = {plan.write()['format']}", *_key("name", plan.name, NAME), *_key("seed", plan.seed, SEED), ""]
    for section in SECTIONS:
        keys = _keys(getattr(plan, section), idle=frozenset(key.removeprefix(f"{section}.") for key in plan.idle))
        lines += [f"[{section}]", *keys, ""]
    for section, kinds in plan.choices.items():
        if section not in plan.idle:
            lines += _chosen(section, kinds, getattr(plan, section))
    if plan.base is not None:
        lines += ["[base]", *_keys(plan.base), ""]
    else:
        lines += ["# Layers of an earlier run to build on:", *_hidden(["[base]", *_keys(Base(1, "relu 1"))]), ""]
    lines += _augmentation(plan)
    lines += _network(plan)
    return "\n".join(lines).rstrip() + "\n"


def _chosen(section: str, kinds: Mapping[str, type[Kind]], value: Kind) -> list[str]:
    lines = [f"# {value.idea}", f"[{section}]", f"kind = {toml(value.kind)}", *_keys(value)]
    for kind, kind_class in kinds.items():
        if kind != value.kind:
            fields = [name for name in kind_class.specs() if name not in value.specs()]
            having = f", which has {', '.join(fields)} too" if fields else ""
            lines.append(f"# Or {toml(kind)}{having}: {kind_class.idea}")
    return [*lines, ""]


def _augmentation(plan: Plan) -> list[str]:
    lines = [f"# {AUGMENTATION}", ""]
    for step in plan.augmentation:
        lines += [f"# {step.idea}", "[[augmentation]]", f"kind = {toml(step.kind)}", *_keys(step), ""]
    others = [kind for kind in STEPS if kind not in {step.kind for step in plan.augmentation}]
    return lines + _others("kind", "step", "augmentation", STEPS, others)


def _network(plan: Plan) -> list[str]:
    lines = [f"# {NETWORK}", *(f"#   {name}: {meaning}" for name, meaning in FREE.items()), ""]
    explained: set[str] = set()
    for node, table in zip(plan.network.nodes, plan.network.write(), strict=True):
        kind = node.layer.kind
        lines += [f"# {node.layer.idea}"] if kind not in explained else []
        lines += ["[[network]]", f"layer = {toml(kind)}", f"name = {toml(node.name)}"]
        lines += _keys(node.layer, explained=kind not in explained)
        lines += [f"{key} = {toml(table[key])}" for key in ("after", *Learning.specs(), "part_of") if key in table]
        lines.append("")
        explained.add(kind)
    others: dict[str, Mapping[str, type[Any]]] = {"layer": LAYERS, "block": BLOCKS}
    for word, table_of in others.items():
        kinds = [kind for kind in table_of if kind not in explained]
        lines += _others(word, word, "network", table_of, kinds)
    return lines


def _others(key: str, word: str, section: str, table: Mapping[str, type[Any]], kinds: list[str]) -> list[str]:
    """The kinds a plan does not use, named and then written out as comments."""
    lines = [f"# Other {word}s: {', '.join(kinds)}.", ""] if kinds else []
    for kind in kinds:
        value = table[kind]()
        lines += _hidden([f"# {value.idea}", f"[[{section}]]", f"{key} = {toml(kind)}", *_keys(value)])
        lines.append("")
    return lines


def _keys(value: Value, explained: bool = True, idle: Set[str] = frozenset()) -> list[str]:
    types = value.types()
    lines = []
    for name, shown in value.specs().items():
        if name in idle:
            continue
        line = f"{name} = {toml(getattr(value, name))}"
        lines += [_comment(shown, types[name]), line] if explained else [line]
    return lines


def _key(name: str, value: Any, meaning: str) -> list[str]:
    return [f"# {meaning}", f"{name} = {toml(value)}"]


def _comment(shown: Spec, kind: Any) -> str:
    unit = f", {shown.unit}" if shown.unit else ""
    return f"# {shown.meaning} ({allowed(shown, kind)}{unit})"


def _hidden(lines: list[str]) -> list[str]:
    return [f"#{line}" if line.startswith("#") else f"# {line}" for line in lines]
