"""A network that runs: weights for a plan's nodes, forward and backward through them."""

from __future__ import annotations

import hashlib
from collections.abc import Mapping
from dataclasses import dataclass, field
from typing import Any

import numpy as np

from attentive_lens.engine.arrays import Array, Weights
from attentive_lens.engine.layers import LAYERS, Layer, Moment
from attentive_lens.plan.chance import chance
from attentive_lens.plan.network import IMAGE, NetworkPlan


@dataclass(frozen=True)
class Route:
    """What a backward pass is for: whose weights, and whether the image's own gradient is wanted.

    Attributes
    ----------
    trainable : frozenset of str
        Nodes whose weights' gradients are wanted.
    walked : frozenset of str
        Nodes (and perhaps the image) that the gradient must reach or pass; nothing below is walked.
    """

    trainable: frozenset[str]
    walked: frozenset[str]


@dataclass
class Trace:
    """One forward pass: outputs by node, and what backward needs."""

    outputs: dict[str, Array] = field(default_factory=dict)
    kept: dict[str, Any] = field(default_factory=dict)


class Network:
    """The nodes of a plan with their weights.

    Parameters
    ----------
    plan : NetworkPlan
        With its answers filled in for the classes.
    image : tuple of int
        (rows, columns, channels) of a prepared image.
    weights : dict
        Node → array name → array; their dtype is the network's.
    """

    def __init__(self, plan: NetworkPlan, image: tuple[int, int, int], weights: Weights) -> None:
        self.plan = plan
        self.image = image
        self.weights = weights
        self.layers: dict[str, Layer[Any]] = {
            node.name: LAYERS[node.layer.kind](node.name, node.layer) for node in plan.nodes
        }
        self._sources = {node.name: node.after[0] for node in plan.nodes}
        self._uses: dict[str, int] = {}
        for source in self._sources.values():
            self._uses[source] = self._uses.get(source, 0) + 1
        self.answers = plan.nodes[-1].name

    @classmethod
    def start(cls, plan: NetworkPlan, image: tuple[int, int, int], seed: int, dtype: type = np.float32) -> Network:
        """A network with starting weights; each node's are a function of the seed and its name."""
        weights: Weights = {}
        for node, facts in zip(plan.nodes, plan.facts(image), strict=True):
            layer = LAYERS[node.layer.kind](node.name, node.layer)
            random = chance(seed, f"starting weights of {node.name}")
            arrays = layer.start(facts.given, random, np.dtype(dtype))
            if arrays:
                weights[node.name] = arrays
        return cls(plan, image, weights)

    @property
    def dtype(self) -> np.dtype[Any]:
        """Of the weights."""
        for arrays in self.weights.values():
            for array in arrays.values():
                return array.dtype
        return np.dtype(np.float32)

    def route(self, trainable: frozenset[str] = frozenset(), image: bool = False) -> Route:
        """The way back to the weights of ``trainable`` nodes and, if asked, to the image."""
        walked = {IMAGE} if image else set()
        for name, source in self._sources.items():
            if source in walked or (name in trainable and name in self.weights):
                walked.add(name)
        return Route(trainable & self.weights.keys(), frozenset(walked))

    def forward(
        self,
        images: Array,
        *,
        route: Route | None = None,
        moment: Moment | None = None,
        watch: frozenset[str] = frozenset(),
    ) -> Trace:
        """Run a piece of a batch.

        Parameters
        ----------
        images : ndarray, N×H×W×C
            Prepared images, of the network's dtype.
        route : Route, optional
            The way a later `backward` will take; without it nothing is kept for one.
        moment : Moment, optional
            When in training; None is inference: no dropout.
        watch : frozenset of str
            Nodes whose outputs are wanted besides the answers'.

        Returns
        -------
        Trace
            With the outputs of the watched nodes and the raw scores under `answers`.
        """
        trace = Trace()
        values: dict[str, Array] = {IMAGE: images}
        uses = dict(self._uses)
        for name, source in self._sources.items():
            layer = self.layers[name]
            given = values[source]
            uses[source] -= 1
            overwrite = (
                layer.may_overwrite
                and source != IMAGE
                and self._uses[source] == 1
                and source not in watch
                and not self.layers[source].keeps_output
            )
            out, kept = layer.forward(given, self.weights.get(name, {}), moment, overwrite)
            if route is not None and name in route.walked:
                trace.kept[name] = kept
            if uses[source] == 0:
                del values[source]
            values[name] = out
            if name in watch or name == self.answers:
                trace.outputs[name] = out
        return trace

    def backward(self, trace: Trace, seeds: Mapping[str, Array], route: Route) -> tuple[Array | None, Weights]:
        """Walk back from the gradients of some outputs.

        Parameters
        ----------
        trace : Trace
            Of a forward pass with this route; it is used up.
        seeds : mapping
            Node → gradient of a scalar by that node's output.
        route : Route
            What is wanted.

        Returns
        -------
        image : ndarray or None
            Gradient by the images, if the route asked for it.
        weights : dict
            Gradients of the trainable nodes' weights.
        """
        grads: dict[str, Array] = {name: np.array(seed) for name, seed in seeds.items()}
        found: Weights = {}
        for name in reversed(self._sources):
            grad = grads.pop(name, None)
            if grad is None or name not in route.walked:
                continue
            source = self._sources[name]
            onward, own = self.layers[name].backward(
                grad,
                trace.kept.pop(name),
                self.weights.get(name, {}),
                source in route.walked,
                name in route.trainable,
            )
            if own:
                found[name] = own
            if onward is not None and source in route.walked:
                grads[source] = grads[source] + onward if source in grads else onward
        return grads.get(IMAGE), found

    def copy_weights(self) -> Weights:
        """The weights as they are now, copied."""
        return {node: {name: a.copy() for name, a in arrays.items()} for node, arrays in self.weights.items()}

    def fingerprint(self) -> str:
        """SHA-256 of all weights' names, shapes and bytes."""
        return fingerprint(self.weights)


def fingerprint(weights: Weights) -> str:
    """SHA-256 of all weights' names, shapes and bytes, in the order of their names."""
    digest = hashlib.sha256()
    for node in sorted(weights):
        for name in sorted(weights[node]):
            array = weights[node][name]
            digest.update(f"{node}/{name}{array.shape}{array.dtype}".encode())
            digest.update(np.ascontiguousarray(array).data)
    return digest.hexdigest()
