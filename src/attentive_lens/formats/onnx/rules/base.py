"""What the rules are made of."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np

from attentive_lens.errors import BadValue
from attentive_lens.formats.onnx.operators import Node, Values
from attentive_lens.formats.onnx.recognising import Live, Recogniser
from attentive_lens.plan.layers import LayerSettings

Rule = Callable[[Recogniser, Node], None]
LEAST = float(np.finfo(np.float32).min)
"""Beside which any number is the greatest."""
UNBOUNDED = 1e6
"""What stands for a limit that is left out."""


def made(to: Recogniser, node: Node, live: Live) -> None:
    """What a node makes."""
    to.live[node.outputs[0]] = live


def fitting(to: Recogniser, node: Node, make: Callable[[], LayerSettings]) -> LayerSettings:
    """Settings of a layer; refused by the node where they are beyond what the layer takes."""
    try:
        return make()
    except BadValue as error:
        raise to.refused(node, f"{error.what}: {error.why}") from None


def added(
    to: Recogniser, node: Node, layer: LayerSettings, source: Live, weights: dict[str, Values] | None = None
) -> Live:
    """A layer behind another; refused by the node where it cannot stand there."""
    try:
        return to.add(layer, (source,), weights)
    except BadValue as error:
        raise to.refused(node, error.why) from None


def same(make: Callable[[Node], LayerSettings]) -> Rule:
    """A layer whose output is as its input: what is done to every value by itself."""

    def rule(to: Recogniser, node: Node) -> None:
        source = to.taken(node)
        layer = fitting(to, node, lambda: make(node))
        made(to, node, to.add(layer, (source,), None, source.standing, source.order))

    return rule


def passed(to: Recogniser, node: Node) -> None:
    """Nothing is done at inference."""
    made(to, node, to.live[node.inputs[0]])
