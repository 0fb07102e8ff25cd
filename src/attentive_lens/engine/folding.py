"""Layers that only scale and shift channels, folded into the weights of the layers before them, for inference."""

from __future__ import annotations

from dataclasses import replace

from attentive_lens.engine.network import Network
from attentive_lens.plan.network import NetworkPlan
from attentive_lens.plan.nodes import IMAGE


def folded(network: Network) -> Network:
    """The same answers with fewer layers, such as batch normalisations that go into filters and bias.

    Only where the output of the layer before is used by nothing else; others stay as they are.
    """
    return _fold(network)[0]


def folded_output(network: Network, node: str) -> tuple[Network, str]:
    """As `folded`, and the node that then has the output of one that may have been folded."""
    whole, instead = _fold(network)
    return whole, instead.get(node, node)


def _fold(network: Network) -> tuple[Network, dict[str, str]]:
    """The network with fewer layers, and which stands in for each that is gone."""
    nodes = {node.name: node for node in network.plan.nodes}
    users: dict[str, int] = {}
    for node in nodes.values():
        for source in node.after:
            users[source] = users.get(source, 0) + 1
    weights = dict(network.weights)
    instead: dict[str, str] = {}
    for node in nodes.values():
        source = node.after[0]
        if source == IMAGE or users[source] > 1 or source in instead:
            continue
        linear = network.layers[node.name].scale_and_shift(weights.get(node.name, {}))
        if linear is None:
            continue
        absorbed = network.layers[source].absorb(weights.get(source, {}), *linear)
        if absorbed is None:
            continue
        weights[source] = absorbed
        del weights[node.name]
        instead[node.name] = source
    if not instead:
        return network, instead
    remaining = [
        replace(node, after=tuple(instead.get(source, source) for source in node.after))
        for node in nodes.values()
        if node.name not in instead
    ]
    return Network(NetworkPlan(tuple(remaining)), network.image_shape, weights, network.kernels), instead
