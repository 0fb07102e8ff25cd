"""A plan as the text beside the bench: only what is not usual of each layer, and faults by their line.

What stands in the text may be half broken; whatever can be read is, and the rest is told by line. Comments are no part
of a plan: `written` makes none.
"""

from __future__ import annotations

import contextlib
import re
import tomllib
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from typing import Any

from attentive_lens.errors import BadValue, LensError
from attentive_lens.plan.base import Base
from attentive_lens.plan.blocks import Builder, read_part
from attentive_lens.plan.layers import GlobalPooling, LayerSettings, Output
from attentive_lens.plan.network import NetworkPlan
from attentive_lens.plan.nodes import IMAGE, Node
from attentive_lens.plan.outline import toml
from attentive_lens.plan.plan import DRAWING, FORMAT, SECTIONS, Plan
from attentive_lens.plan.preprocessing import Preprocessing
from attentive_lens.plan.starters import STARTERS

MOST_BYTES = 1 << 22
_FITS_ANY = NetworkPlan.stack([GlobalPooling(), Output()])
_HEADER = re.compile(r"^\s*(\[\[|\[)\s*([\w-]+)\s*(\]\]|\])\s*(#.*)?$")


@dataclass(frozen=True)
class TextFault:
    """A fault of the text: its line (from 1; 0 if it is none's), the layer it is about if there is one, and why."""

    line: int
    node: str
    error: LensError


@dataclass(frozen=True)
class Reading:
    """What a text says.

    Attributes
    ----------
    settings : Plan or None
        Everything but the network and the base, which are stand-ins; None if a section cannot be read.
    base : Base or None
        What the network is built on.
    nodes : tuple of Node or None
        As written, sound or not; None if a layer cannot be read.
    faults : tuple of TextFault
        Why something could not be read.
    lines : mapping
        Line of each node's section, by name.
    """

    settings: Plan | None
    base: Base | None
    nodes: tuple[Node, ...] | None
    faults: tuple[TextFault, ...]
    lines: Mapping[str, int] = field(default_factory=dict)


def written(plan: Plan, nodes: Sequence[Node]) -> str:
    """A plan's text, with these nodes for its network; settings of a layer that are as usual are left out."""
    return written_lines(plan, nodes)[0]


def written_lines(plan: Plan, nodes: Sequence[Node]) -> tuple[str, dict[str, int]]:
    """As `written`, and the line in which each node's section begins, by name."""
    lines = [f"format = {FORMAT}", f"name = {toml(plan.name)}", f"seed = {plan.seed}"]
    places = dict[str, int]()
    before = IMAGE
    if not nodes:
        lines.append("network = []")
    for node in nodes:
        places[node.name] = len(lines) + 2
        lines += ["", "[[network]]", *_pairs(node_table(node, before))]
        before = node.name
    if plan.base is not None:
        lines += ["", "[base]", *_pairs(plan.base.write())]
    for section in SECTIONS:
        lines += ["", f"[{section}]", *_pairs(getattr(plan, section).write())]
    for section in plan.choices:
        lines += ["", f"[{section}]", *_pairs(getattr(plan, section).write_kind())]
    for step in plan.augmentation:
        lines += ["", "[[augmentation]]", *_pairs(step.write_kind())]
    return "\n".join(lines) + "\n", places


_USUAL: dict[type[LayerSettings], dict[str, Any]] = {}
"""Settings as they usually are, by kind of layer; filled as they are asked for."""


def node_table(node: Node, before: str) -> dict[str, Any]:
    """The table of one node that stands after ``before`` in the text: its first setting, and all that are not usual."""
    kind = type(node.layer)
    if kind not in _USUAL:
        _USUAL[kind] = kind().write()
    usual = _USUAL[kind]
    settings = node.layer.write()
    first = next(iter(settings), "")
    return {
        "layer": node.layer.kind,
        "name": node.name,
        **{key: value for key, value in settings.items() if key == first or value != usual[key]},
        **({} if node.after == (before,) else {"after": node.after[0] if len(node.after) == 1 else list(node.after)}),
        **node.learning.written(),
        **({"part_of": node.part_of} if node.part_of else {}),
    }


def stretch_text(stretch: Sequence[Node]) -> str:
    """Some nodes as ``[[network]]`` sections, for the clipboard."""
    lines, before = [], ""
    for node in stretch:
        lines += ["[[network]]", *_pairs(node_table(node, before)), ""]
        before = node.name
    return "\n".join(lines)


def read_stretch(text: str) -> tuple[Node, ...]:
    """Nodes from the clipboard's text; `BadValue` if it is no list of layers."""
    reading = read_text(text)
    for fault in reading.faults:
        raise BadValue("The clipboard holds no layers", str(fault.error), "Copy layers on a bench, or of a plan's text")
    if not reading.nodes:
        raise BadValue("The clipboard holds no layers", "there is no [[network]] section in it", "Copy some layers")
    return reading.nodes


def read_text(text: str) -> Reading:
    """What a plan's text says, as far as it can be read."""
    try:
        if len(text) > MOST_BYTES:
            raise BadValue("The text is no plan", f"it has more than {MOST_BYTES >> 20} MiB", "Shorten it")
        table = tomllib.loads(text)
    except tomllib.TOMLDecodeError as error:
        return _unreadable(text, str(error))
    except (ValueError, RecursionError) as error:
        return _unreadable(text, str(error))
    except LensError as error:
        return Reading(None, None, None, (TextFault(0, "", error),))
    places = _Places(text)
    network = table.pop("network", ())
    nodes, lines, faults = _read_nodes(network, table, places)
    base = None
    try:
        if "base" in table:
            base = Base.read(table["base"]) if isinstance(table["base"], Mapping) else _no_section("base")
    except LensError as error:
        faults.append(TextFault(places.of_error(error, "base"), "", error))
    table.pop("base", None)
    settings = None
    try:
        starts = isinstance(network, str) and network in DRAWING  # it brings settings of its own
        settings = Plan.read({**table, "network": network if starts else _that_fits(table)})
    except LensError as error:
        faults.append(TextFault(places.of_error(error), "", error))
    return Reading(settings, base, nodes, tuple(faults), lines)


def _that_fits(table: Mapping[str, Any]) -> Any:
    """A network for the text's task, in place of its own, by which all the rest is read."""
    task = table.get("task")
    kind = task.get("kind") if isinstance(task, Mapping) else task
    for starter in DRAWING.values():
        if starter.task.kind == kind:
            with contextlib.suppress(LensError):  # of what cannot be prepared so is told where it is read
                seen = Preprocessing.read(table.get("preprocessing", {}))
                return starter.network_for(seen.input_size, seen.channels).write()
    return _FITS_ANY.write()


def _read_nodes(
    tables: Any, table: Mapping[str, Any], places: _Places
) -> tuple[tuple[Node, ...] | None, dict[str, int], list[TextFault]]:
    """The network's nodes, each with its line; what cannot be read is told section by section."""
    lines, faults = dict[str, int](), list[TextFault]()
    if isinstance(tables, str) and tables in STARTERS:
        return STARTERS[tables].network.nodes, lines, faults
    if isinstance(tables, str) and tables in DRAWING:
        try:
            return Plan.read({**table, "network": tables}).network.nodes, lines, faults
        except LensError:  # told of the settings
            return None, lines, faults
    if isinstance(tables, str | Mapping) or not isinstance(tables, Sequence):
        why, remedy = f"a list of layers is needed, got {tables!r:.60}", "Write [[network]] sections"
        fault = TextFault(places.key("", "network"), "", BadValue("plan.network", why, remedy))
        return None, lines, [fault]
    onto = Builder()
    for number, table in enumerate(tables):
        before = len(onto.nodes)
        line = places.section("network", number)
        try:
            read_part(table, onto)
        except LensError as error:
            name = table.get("name", "") if isinstance(table, Mapping) else ""
            at = places.of_error(error, "network", number)
            faults.append(TextFault(at, name if isinstance(name, str) else "", error))
        for node in onto.nodes[before:]:
            lines[node.name] = line
    return (None if faults else tuple(onto.nodes)), lines, faults


def _no_section(name: str) -> Base:
    raise BadValue(f"plan.{name}", "a section is needed", f"Write it under [{name}]")


def _unreadable(text: str, reason: str) -> Reading:
    place = re.search(r"\(at (?:line (\d+), column \d+|end of document)\)", reason)
    line = 0 if place is None else int(place[1]) if place[1] else text.count("\n") + 1
    why = re.sub(r"\s*\(at [^)]*\)", "", reason)
    why = why[:1].lower() + why[1:]
    error = BadValue("The text cannot be read" + (f" in line {line}" if line else ""), why, "Mend it")
    return Reading(None, None, None, (TextFault(line, "", error),))


def _pairs(table: Mapping[str, Any]) -> list[str]:
    return [f"{key} = {toml(value)}" for key, value in table.items()]


class _Places:
    """Where sections and keys stand in a text."""

    def __init__(self, text: str) -> None:
        self._lines = text.split("\n")
        self._sections: dict[str, list[int]] = {}
        for number, line in enumerate(self._lines, 1):
            header = _HEADER.match(line)
            if header is not None:
                self._sections.setdefault(header[2], []).append(number)
        self._starts = sorted(number for numbers in self._sections.values() for number in numbers)

    def section(self, name: str, number: int = 0) -> int:
        """Line of a section's head, the ``number``-th of its name; 0 if it has none."""
        heads = self._sections.get(name, [])
        return heads[number] if number < len(heads) else 0

    def key(self, section: str, key: str, number: int = 0) -> int:
        """Line of a key, or of its section's head where it does not stand; 0 for none."""
        start = self.section(section, number) if section else 0
        if section and not start:
            return 0
        end = next((line for line in self._starts if line > start), len(self._lines) + 1)
        pattern = re.compile(rf'^\s*"?{re.escape(key)}"?\s*=')
        for line in range(start + 1, end):
            if pattern.match(self._lines[line - 1]):
                return line
        return start

    def of_error(self, error: LensError, section: str = "", number: int = 0) -> int:
        """The line an error is about, by the setting it begins with: «convolution.filters is …»."""
        named = re.match(r"([^.:]+)\.([\w-]+)", error.what)
        if named is None:
            return self.section(section, number) if section else 0
        if section:
            return self.key(section, named[2], number)
        owner = named[1].strip()
        if owner == "plan":
            return self.section(named[2]) or self.key("", named[2])
        for known, heads in self._sections.items():
            if owner == known:
                lines = [self.key(known, named[2], k) for k in range(len(heads))]
                return next((line for line, head in zip(lines, heads, strict=True) if line != head), heads[0])
        return 0
