"""Batch normalisations folded into the convolutions before them, for inference."""

from __future__ import annotations

from dataclasses import replace

import numpy as np

from attentive_lens.engine.network import Network
from attentive_lens.plan.layers import BatchNormalisation, Convolution
from attentive_lens.plan.network import IMAGE, NetworkPlan


def folded(network: Network) -> Network:
    """The same answers with fewer layers: scale and shift go into filters and bias.

    Only where the convolution's output is used by nothing but the normalisation; others stay as they are.
    """
    nodes = {node.name: node for node in network.plan.nodes}
    users: dict[str, int] = {}
    for node in nodes.values():
        for source in node.after:
            users[source] = users.get(source, 0) + 1
    weights = dict(network.weights)
    instead: dict[str, str] = {}
    for node in nodes.values():
        source = node.after[0]
        if not isinstance(node.layer, BatchNormalisation) or source == IMAGE or users[source] > 1:
            continue
        if not isinstance(nodes[source].layer, Convolution):
            continue
        own, before = weights.pop(node.name), weights[source]
        factor = own["scale"] / np.sqrt(own["variance"].astype(np.float64) + node.layer.tiny)
        bias = (before["bias"] - own["mean"]) * factor + own["shift"]
        dtype = before["kernel"].dtype
        weights[source] = {"kernel": (before["kernel"] * factor).astype(dtype), "bias": bias.astype(dtype)}
        instead[node.name] = source
    if not instead:
        return network
    kept = [
        replace(node, after=tuple(instead.get(source, source) for source in node.after))
        for node in nodes.values()
        if node.name not in instead
    ]
    return Network(NetworkPlan(tuple(kept)), network.image, weights, network.kernels)
