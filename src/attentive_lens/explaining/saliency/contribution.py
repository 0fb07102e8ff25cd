"""The answer shared out backward, layer by layer."""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray

from attentive_lens.engine.arrays import Array
from attentive_lens.engine.folding import folded
from attentive_lens.engine.layers import INFERENCE, Layer
from attentive_lens.explaining.probe import Asked, Probe
from attentive_lens.explaining.saliency.base import MapMethod
from attentive_lens.plan.layers import Answers, Connected, Convolution, Multiply
from attentive_lens.plan.layers.base import SameShape
from attentive_lens.plan.network import IMAGE

TINY = 1e-2
"""Of a layer's strongest output: what steadies a division."""


class Contribution(MapMethod):
    """Every layer's share of the number is handed to its inputs in proportion to what they added (Bach 2015).

    Parameters
    ----------
    rule : str
        "epsilon" (Bach 2015, eq. 58): all additions alike, steadied; "alpha-beta" (eq. 60, α = 2, β = 1):
        twice what spoke for, less once what spoke against, apart.

    Notes
    -----
    Units of the number. Activations pass their share on; gates are taken as constants; normalisations are folded into
    the convolutions before them. What the biases added is handed to nobody.
    """

    label = "contribution"
    shows = "The score shared out to the pixels, layer by layer, by what each added."
    misleads = "The rule decides much: two rules may share out the same score differently."
    cost = "one pass each way, four with alpha-beta"
    signed = True

    def __init__(self, rule: str = "epsilon") -> None:
        self.rule = rule
        if rule == "alpha-beta":
            self.label = "contribution α2 β1"  # type: ignore[misc]

    def maps(self, probe: Probe, image: Array, asked: Asked) -> NDArray[np.float32]:
        """See `MapMethod.maps`."""
        network = folded(probe.network)
        every = frozenset(network.layers)
        copies = np.repeat(image[None], len(asked.seeds), axis=0)
        outs = {IMAGE: copies, **network.forward(copies, watch=every).outputs}
        shares: dict[str, Array] = {network.answers: outs[network.answers] * asked.seeds.astype(image.dtype)}
        for node in reversed(network.plan.nodes):
            share = shares.pop(node.name, None)
            if share is None:
                continue
            layer, weights = network.layers[node.name], network.weights.get(node.name, {})
            given = tuple(outs[source] for source in node.after)
            for source, part in zip(node.after, self._back(layer, weights, given, share), strict=True):
                shares[source] = shares[source] + part if source in shares else part
        return shares[IMAGE].sum(axis=3).astype(np.float32)

    def _back(
        self, layer: Layer[Any], weights: dict[str, Array], given: tuple[Array, ...], share: Array
    ) -> tuple[Array, ...]:
        kind = layer.settings
        if isinstance(kind, Multiply):
            return (share, *(np.zeros_like(own) for own in given[1:]))
        if isinstance(kind, SameShape) and not weights:
            return (share,)
        weighed = isinstance(kind, Convolution | Connected | Answers)
        if self.rule == "alpha-beta" and weighed:
            return (2 * _signed(layer, weights, given[0], share, 1) - _signed(layer, weights, given[0], share, -1),)
        out, kept = layer.forward(given if kind.joins else given[0], weights, INFERENCE)
        parts, _ = layer.backward(share / _steady(out), kept, weights, True, False)
        parts = parts if kind.joins else (parts,)
        return tuple(own * part for own, part in zip(given, parts, strict=True))


def _steady(out: Array) -> Array:
    floor = TINY * np.abs(out).max() + np.finfo(out.dtype).tiny
    return out + np.where(out >= 0, floor, -floor).astype(out.dtype)


def _signed(layer: Layer[Any], weights: dict[str, Array], given: Array, share: Array, sign: int) -> Array:
    """The share of what spoke for (1) or against (-1): inputs and weights of equal, or of unequal sign."""
    high, low = np.maximum(given, 0), np.minimum(given, 0)
    parts = []
    for own, side in ((high, sign), (low, -sign)):
        cut = {name: np.maximum(a, 0) if side > 0 else np.minimum(a, 0) for name, a in weights.items()}
        cut["bias"] = np.zeros_like(weights["bias"])
        out, kept = layer.forward(own, cut, INFERENCE)
        parts.append((own, cut, out, kept))
    bias = np.maximum(sign * weights["bias"], 0) * sign
    whole = _steady(parts[0][2] + parts[1][2] + bias)
    found = np.zeros_like(given)
    for own, cut, _, kept in parts:
        found += own * layer.backward(share / whole, kept, cut, True, False)[0]
    return found
