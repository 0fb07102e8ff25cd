"""The answer shared out backward, layer by layer."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from attentive_lens.core.jobs import breathe
from attentive_lens.engine.arrays import Array
from attentive_lens.engine.folding import folded
from attentive_lens.engine.layers import INFERENCE
from attentive_lens.engine.layers.base import AnyLayer
from attentive_lens.engine.network import Network
from attentive_lens.explaining.methods import ContributionSettings
from attentive_lens.explaining.probe import Probe, Targets
from attentive_lens.explaining.saliency.base import MapMethod
from attentive_lens.plan.layers import (
    Concatenate,
    Flatten,
    GlobalPooling,
    MaxPooling,
    Multiply,
)
from attentive_lens.plan.layers.base import SameShape
from attentive_lens.plan.nodes import IMAGE

EPSILON = 1e-2
"""Of a layer's strongest output: what steadies a division."""
ABSENT = 1e-6
"""Of a layer's strongest sum: below it, nothing spoke on that side."""

Shared = tuple[tuple[Array, ...], Array]
"""The shares of a layer's inputs, and what its biases keep of each image's, N."""


class Contribution(MapMethod):
    """Every layer's share of the number is handed to its inputs in proportion to what they added (Bach 2015).

    Its settings' rule is "epsilon" (Bach 2015, eq. 58): all additions alike, steadied; or "alpha-beta" (eq. 60, α = 2,
    β = 1): twice what spoke for, less once what spoke against, apart; where only one side spoke, it gets all.

    Notes
    -----
    Units of the number. What steadying takes from a division is handed out too, in proportion to the strength of
    what was added, so that nothing is lost in it. Activations, normalisations, dropout, flattening and max pooling
    pass their share on whole; average and power pooling hand theirs out by what each value added; gates are taken as
    constants; batch normalisations are folded into the convolutions before them. Biases keep what they added: the
    map and their part add up to the number.
    """

    @property
    def rule(self) -> str:
        """How a layer's share is handed on."""
        return self.settings.rule if isinstance(self.settings, ContributionSettings) else ContributionSettings.rule

    def maps(self, probe: Probe, image: Array, targets: Targets) -> NDArray[np.float32]:
        """See `MapMethod.maps`."""
        return self._shared_out(probe, image, targets)[0]

    def should_sum_to(self, probe: Probe, image: Array, targets: Targets) -> Array | None:
        """The number less what the biases keep of it; all channels together make it."""
        if self.channel is not None:
            return None
        biases = self._shared_out(probe, image, targets)[1]
        scores = probe.scores(image[None])[0]
        return np.asarray(targets.weights @ scores - biases)

    def _shared_out(self, probe: Probe, image: Array, targets: Targets) -> tuple[NDArray[np.float32], Array]:
        """Maps T×H×W, and what the biases of all layers keep, T."""
        short = folded(probe.network)
        network = Network(short.plan, short.image_shape, short.weights, "direct")  # its sums of like signs are exact
        copies = np.repeat(image[None], len(targets.weights), axis=0)
        outs = {IMAGE: copies, **network.forward(copies, watch=frozenset(network.layers)).outputs}
        shares: dict[str, Array] = {
            network.output: outs[network.output] * probe.predictor.output.gather(targets.weights.astype(image.dtype))
        }
        biases = np.zeros(len(copies))
        for node in reversed(network.plan.nodes):
            share = shares.pop(node.name, None)
            if share is None:
                continue
            breathe()
            layer, weights = network.layers[node.name], network.weights.get(node.name, {})
            inputs = tuple(outs[source] for source in node.after)
            parts, bias = self._back(layer, weights, inputs, share)
            biases += bias
            for source, part in zip(node.after, parts, strict=True):
                shares[source] = shares[source] + part if source in shares else part
        return self.parts(shares[IMAGE]).sum(axis=3).astype(np.float32), biases

    def _back(self, layer: AnyLayer, weights: dict[str, Array], inputs: tuple[Array, ...], share: Array) -> Shared:
        kind = layer.settings
        none = np.zeros(len(share))
        if isinstance(kind, Multiply):
            return (share, *(np.zeros_like(values) for values in inputs[1:])), none
        if isinstance(kind, SameShape):
            return (share,), none
        whole = isinstance(kind, Flatten | MaxPooling | Concatenate)
        if whole or (isinstance(kind, GlobalPooling) and kind.mode == "max"):
            _, saved = layer.forward(inputs if kind.joins else inputs[0], weights, INFERENCE)
            return _onward(layer, share.copy(), saved, weights), none
        weighed = "bias" in weights
        if self.rule == "alpha-beta" and weighed:
            part, bias = _apart(layer, weights, inputs[0], share)
            return (part,), bias
        return _steadied(layer, weights, inputs, share)


def _onward(layer: AnyLayer, grad: Array, saved: object, weights: dict[str, Array]) -> tuple[Array, ...]:
    """The gradients of all inputs of a layer."""
    onward, _ = layer.backward(grad, saved, weights, True, False)
    return onward if isinstance(onward, tuple) else (np.asarray(onward),)


def _steadied(layer: AnyLayer, weights: dict[str, Array], inputs: tuple[Array, ...], share: Array) -> Shared:
    """By what each input added, steadied; what the steadying takes, by the strength of what was added."""
    joins = layer.settings.joins
    out, saved = layer.forward(inputs if joins else inputs[0], weights, INFERENCE)
    floor = EPSILON * np.abs(out).max() + np.finfo(out.dtype).tiny
    scaled = share / (out + np.where(out >= 0, floor, -floor).astype(out.dtype))
    left = share - scaled * out
    bias = _over_images(scaled * weights["bias"]) if "bias" in weights else np.zeros(len(share))
    grads = _onward(layer, scaled, saved, weights)
    parts = [values * grad for values, grad in zip(inputs, grads, strict=True)]
    strengths = tuple(np.abs(values) for values in inputs)
    strong = {name: np.zeros_like(a) if name == "bias" else np.abs(a) for name, a in weights.items()}
    sums, saved = layer.forward(strengths if joins else strengths[0], strong, INFERENCE)
    some = sums > ABSENT * np.abs(sums).max()
    grads = _onward(layer, np.where(some, left / np.where(some, sums, 1), 0), saved, strong)
    for part, values, grad in zip(parts, strengths, grads, strict=True):
        part += values * grad
    return tuple(parts), bias + _over_images(np.where(some, 0, left))


def _apart(layer: AnyLayer, weights: dict[str, Array], inputs: Array, share: Array) -> tuple[Array, Array]:
    """Twice to what spoke for, less once to what spoke against; all to one side where the other did not speak."""
    high, low = np.maximum(inputs, 0), np.minimum(inputs, 0)
    sides = []
    for sign in (1, -1):
        runs = []
        for values, keeps in ((high, sign), (low, -sign)):
            cut = {name: np.maximum(a, 0) if keeps > 0 else np.minimum(a, 0) for name, a in weights.items()}
            cut["bias"] = np.zeros_like(weights["bias"])
            runs.append((values, cut, *layer.forward(values, cut, INFERENCE)))
        bias = sign * np.maximum(sign * weights["bias"], 0)
        sides.append((runs, bias, runs[0][2] + runs[1][2] + bias))
    most = max(float(np.abs(total).max()) for _, _, total in sides)
    spoke = [np.abs(total) > ABSENT * most for _, _, total in sides]
    both = spoke[0] & spoke[1]
    factors = (np.where(both, 2, spoke[0]), np.where(both, -1, spoke[1]))
    part = np.zeros_like(inputs)
    bias_share = _over_images(np.where(spoke[0] | spoke[1], 0, share))
    for (runs, bias, total), has, factor in zip(sides, spoke, factors, strict=True):
        scaled = (factor * share / np.where(has, total, 1)).astype(share.dtype)
        bias_share = bias_share + _over_images(scaled * bias)
        for values, cut, _, saved in runs:
            part += values * layer.backward(scaled.copy(), saved, cut, True, False)[0]
    return part, bias_share


def _over_images(values: Array) -> Array:
    """Sum of all values of each image, N."""
    return np.asarray(values.reshape(len(values), -1).sum(axis=1, dtype=np.float64))
