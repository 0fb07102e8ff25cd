"""Units that a graph writes out in small operators, put back together before its nodes become layers."""

from __future__ import annotations

import math
from dataclasses import dataclass, replace

from attentive_lens.formats.onnx.operators import Node, Values
from attentive_lens.formats.onnx.reading import OnnxModel, carried_out

CLOSE = 1e-4
"""By which a number may differ from the one that is meant, as a part of it."""
LONGEST = 4
"""Products behind an error function, at most."""


def joined(model: OnnxModel) -> OnnxModel:
    """The graph with every x · ½ · (1 + erf(x / √2)) as one «Gelu» (Hendrycks 2016), in any order of its factors."""
    sought = _Sought.of(model)
    gone: set[str] = set()
    units: dict[str, Node] = {}
    for node in model.nodes:
        is_one = node.operator == "Erf" and len(node.inputs) == len(node.outputs) == 1
        unit = sought.gelu(node) if is_one else None
        if unit is not None:
            members, made = unit
            gone |= {member.outputs[0] for member in members}
            units[made.outputs[0]] = made
    ends = [node.outputs[0] if node.outputs else "" for node in model.nodes]
    pairs = zip(ends, model.nodes, strict=True)
    return replace(model, nodes=tuple(units.get(end, node) for end, node in pairs if end in units or end not in gone))


@dataclass(frozen=True)
class _Sought:
    """A graph by what makes and what takes each value."""

    model: OnnxModel
    makers: dict[str, Node]
    takers: dict[str, list[Node]]

    @classmethod
    def of(cls, model: OnnxModel) -> _Sought:
        """Of a graph as strangers make it: a node may have more or fewer inputs than its operator takes."""
        takers: dict[str, list[Node]] = {}
        for node in model.nodes:
            for name in node.inputs:
                takers.setdefault(name, []).append(node)
        return cls(model, {name: node for node in model.nodes for name in node.outputs}, takers)

    def gelu(self, erf: Node) -> tuple[list[Node], Node] | None:
        """The nodes of the unit around an error function, the last one last, and what stands for them."""
        narrow, plus = self.makers.get(erf.inputs[0]), self._only(erf.outputs[0], "Add")
        if narrow is None or plus is None or not self._is_once(erf.inputs[0]):
            return None
        x, factor = self._scaled(narrow)
        if not x or not _is(factor, math.sqrt(0.5)) or not _is(self._other(plus, erf.outputs[0]), 1.0):
            return None
        members, value, product, meets = [narrow, erf, plus], plus.outputs[0], 1.0, False
        for _ in range(LONGEST):
            times = self._only(value, "Mul") or self._only(value, "Div")
            if times is None:
                return None
            (beside,) = [name for name in times.inputs if name != value] or [""]
            number, half = self._other(times, value), self.makers.get(beside)
            source, part = self._scaled(half) if half is not None and self._is_once(beside) else ("", None)
            if number:
                product *= number if times.operator == "Mul" else 1 / number
            elif times.operator == "Mul" and beside == x and not meets:
                meets = True
            elif times.operator == "Mul" and half is not None and source == x and part is not None and not meets:
                members.append(half)
                product, meets = product * part, True
            else:
                return None
            members.append(times)
            value = times.outputs[0]
            if meets and _is(product, 0.5):
                return members, Node(erf.name, "Gelu", 20, (x,), (value,))
        return None

    def _only(self, name: str, operator: str) -> Node | None:
        """The one node that takes a value, if it is of an operator of two inputs and nothing else takes it."""
        (taker,) = self.takers[name] if self._is_once(name) else (None,)
        return taker if taker is not None and taker.operator == operator and _is_of_two(taker) else None

    def _is_once(self, name: str) -> bool:
        return len(self.takers.get(name, [])) == 1 and name not in self.model.outputs

    def _scaled(self, node: Node) -> tuple[str, float | None]:
        """What is multiplied by one number or divided by it, and the factor; nothing where that is not so."""
        if node.operator not in ("Mul", "Div") or not _is_of_two(node):
            return "", None
        for place, name in enumerate(node.inputs):
            number = self._number(node.inputs[1 - place])
            if number and (node.operator == "Mul" or place == 0):
                return name, number if node.operator == "Mul" else 1 / number
        return "", None

    def _other(self, node: Node, name: str) -> float | None:
        """The number that stands beside a value; as divisor only where it is divided by it."""
        if node.operator == "Div" and node.inputs[0] != name:
            return None
        (other,) = [each for each in node.inputs if each != name] or [""]
        return self._number(other)

    def _number(self, name: str) -> float | None:
        """The one number of an array of the graph's own; one of more axes than a row may add axes to what it meets."""
        array: Values | None = self.model.arrays.get(name)
        maker = self.makers.get(name)
        if array is None and maker is not None and maker.operator == "Constant":
            array = carried_out(maker, {}).get(name)
        plain = array is not None and array.size == 1 and array.ndim <= 1 and array.dtype.kind in "fiu"
        return float(array.reshape(-1)[0]) if array is not None and plain else None


def _is_of_two(node: Node) -> bool:
    return len(node.inputs) == 2 and len(node.outputs) == 1


def _is(number: float | None, wanted: float) -> bool:
    return number is not None and abs(number - wanted) <= CLOSE * abs(wanted)
