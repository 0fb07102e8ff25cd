"""Where numbers that are not numbers began."""

from __future__ import annotations

from collections.abc import Callable, Mapping

import numpy as np

from attentive_lens.engine.arrays import Array
from attentive_lens.engine.layers import StepContext
from attentive_lens.engine.network import Network, alone

Judge = Callable[[Array, Array], tuple[Array, Array]]
"""Losses N of a network's outputs by the targets, and their gradients."""


def where_it_began(
    network: Network,
    images: Array,
    targets: Array,
    context: StepContext,
    loss: Judge,
    edited: Mapping[str, Array] | None = None,
) -> str:
    """In words, the first place of a step with NaN or infinity: images, a layer's output, the loss, or a gradient.

    Empty where these images have none. Outputs in ``edited`` stand in for what their nodes would give.
    """
    if not np.isfinite(images).all():
        return "in the images themselves"
    names = [node.name for node in network.plan.nodes]
    route = network.route(frozenset(network.weights), nodes=frozenset(names))
    with np.errstate(all="ignore"):
        watch = frozenset(names)
        trace = alone(network.forward_pass(images, route=route, context=context, watch=watch, edited=edited))
        for name in names:
            if not np.isfinite(trace.outputs[name]).all():
                return f"at the layer {name}, going forward"
        losses, grad = loss(trace.outputs[network.output], targets)
        if not (np.isfinite(losses).all() and np.isfinite(grad).all()):
            return "in the loss"
        nodes, gradients = network.backward(trace, {network.output: grad}, route)
        for name in reversed(names):
            arrays = [*gradients.get(name, {}).values(), *(grad for grad in (nodes.get(name),) if grad is not None)]
            if not all(np.isfinite(array).all() for array in arrays):
                return f"at the layer {name}, going back"
    return ""
