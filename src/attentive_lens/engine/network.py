"""A network that runs: weights for a plan's nodes, forward and backward through them."""

from __future__ import annotations

import hashlib
from collections.abc import Generator, Mapping
from dataclasses import dataclass, field, replace
from functools import cached_property
from typing import Any, TypeVar

import numpy as np

from attentive_lens.core.jobs import breathe
from attentive_lens.core.random import random_generator
from attentive_lens.engine.arrays import Array, Dtype, Weights
from attentive_lens.engine.layers import INFERENCE, LAYERS, Call, Rule, StepContext
from attentive_lens.engine.layers.base import AnyLayer
from attentive_lens.plan.examination import Facts
from attentive_lens.plan.initialisations import INITIALISATIONS, He, InitialisationSettings
from attentive_lens.plan.layers import Shape
from attentive_lens.plan.network import NetworkPlan
from attentive_lens.plan.nodes import AS_PLANNED, IMAGE

T = TypeVar("T")
Pass = Generator[Array, Array, T]
"""A walk through the network that may stop to hand out a piece's sums and take those of the whole batch."""


@dataclass(frozen=True)
class Route:
    """What a backward pass is for: whose weights, and the gradient by which nodes' outputs.

    Attributes
    ----------
    trainable : frozenset of str
        Nodes whose weights' gradients are wanted.
    nodes : frozenset of str
        Nodes (`IMAGE` for the image) whose output's gradient is wanted.
    walked : frozenset of str
        Nodes (and perhaps the image) that the gradient must reach or pass; nothing below is walked.
    normalising : frozenset of str
        Nodes that normalise by the batch: those that learn, by whichever route.
    """

    trainable: frozenset[str]
    nodes: frozenset[str]
    walked: frozenset[str]
    normalising: frozenset[str]


@dataclass
class Trace:
    """One forward pass: outputs by node, what backward needs, and sums of layers that normalise over the batch."""

    outputs: dict[str, Array] = field(default_factory=dict)
    saved: dict[str, Any] = field(default_factory=dict)
    sums: dict[str, Array] = field(default_factory=dict)


class Network:
    """The nodes of a plan with their weights.

    Parameters
    ----------
    plan : NetworkPlan
        With its answers filled in for the classes.
    image_shape : tuple of int
        (rows, columns, channels) of a prepared image.
    weights : dict
        Node → array name → array; their dtype is the network's. Arrays without a gradient are among them.
    kernels : str or mapping
        Which kernels convolutions run by, one of `kernels.choice.KERNELS`, for all or by node.
    """

    def __init__(
        self,
        plan: NetworkPlan,
        image_shape: Shape,
        weights: Weights,
        kernels: str | Mapping[str, str] = "auto",
    ) -> None:
        self.plan = plan
        self.image_shape = image_shape
        self.weights = weights
        self.kernels = kernels
        self.layers: dict[str, AnyLayer] = {}
        self._sources: dict[str, tuple[str, ...]] = {}
        self._uses: dict[str, int] = {}
        for node in plan.nodes:
            layer = self.layers[node.name] = LAYERS[node.layer.kind](node.name, node.layer)
            layer.kernels = kernels if isinstance(kernels, str) else kernels.get(node.name, "auto")
            self._sources[node.name] = node.after
            for source in node.after:
                self._uses[source] = self._uses.get(source, 0) + 1
        self.output = plan.nodes[-1].name
        self._fused_activations = {
            node.after[0]: node.name
            for node in plan.nodes
            if node.layer.is_rectifier
            and node.after[0] != IMAGE
            and self._uses[node.after[0]] == 1
            and self.layers[node.after[0]].can_activate
        }
        """Layers that do the ReLU after them at once: their names, and the ReLUs'."""

    @classmethod
    def start(
        cls,
        plan: NetworkPlan,
        image_shape: Shape,
        seed: int,
        dtype: type = np.float32,
        initialisation: InitialisationSettings = He(),  # noqa: B008  # a frozen value
        kernels: str | Mapping[str, str] = "auto",
    ) -> Network:
        """A network with starting weights; each node's are a function of the seed and its name."""
        weights: Weights = {}
        for node, facts in zip(plan.nodes, plan.facts(image_shape), strict=True):
            layer = LAYERS[node.layer.kind](node.name, node.layer)
            rng = random_generator(seed, f"starting weights of {node.name}")
            own = node.learning.initialisation
            drawn = initialisation if own == AS_PLANNED else INITIALISATIONS[own]()
            arrays = layer.start(facts.input_shape, rng, np.dtype(dtype), drawn)
            if arrays:
                weights[node.name] = arrays
        return cls(plan, image_shape, weights, kernels)

    def head(self, node: str) -> Network:
        """What stands after a node through which everything goes, with that node's output for its image.

        Weights are shared: what one learns the other knows.
        """
        before = self.plan.up_to(node)
        shapes = {fact.name: fact.shape for fact in self.facts}
        nodes = tuple(
            replace(each, after=tuple(IMAGE if source == node else source for source in each.after))
            for each in self.plan.nodes
            if each.name not in before
        )
        weights = {name: arrays for name, arrays in self.weights.items() if name not in before}
        return Network(NetworkPlan(nodes), shapes[node], weights, self.kernels)

    def used_kernels(self) -> dict[str, str]:
        """What each layer that has several kernels runs by, for a network that is to run the same way later."""
        shapes = {fact.name: fact.input_shape for fact in self.facts}
        used = {name: layer.kernel(shapes[name]) for name, layer in self.layers.items()}
        return {name: kernel for name, kernel in used.items() if kernel is not None}

    @cached_property
    def facts(self) -> tuple[Facts, ...]:
        """Of all nodes in their order."""
        return self.plan.facts(self.image_shape)

    @cached_property
    def multiply_adds(self) -> int:
        """Of one image, forward."""
        return sum(fact.multiply_adds for fact in self.facts)

    @property
    def dtype(self) -> Dtype:
        """Of the weights."""
        for arrays in self.weights.values():
            for array in arrays.values():
                return array.dtype
        return np.dtype(np.float32)

    def route(
        self,
        trainable: frozenset[str] = frozenset(),
        image: bool = False,
        nodes: frozenset[str] = frozenset(),
    ) -> Route:
        """The way back to the weights of ``trainable`` nodes, to the image if asked, and to other nodes' outputs."""
        asked_nodes = nodes | {IMAGE} if image else nodes
        walked = set(asked_nodes)
        for name, sources in self._sources.items():
            if walked.intersection(sources) or (name in trainable and name in self.weights):
                walked.add(name)
        return Route(trainable & self.weights.keys(), frozenset(asked_nodes), frozenset(walked), trainable)

    def prepared(self) -> dict[str, object]:
        """What the layers work out of their weights once for many pieces; holds until the weights change."""
        ready = {f.name: self.layers[f.name].prepare(self.weights.get(f.name, {}), f.input_shape) for f in self.facts}
        return {name: each for name, each in ready.items() if each is not None}

    def forward(
        self,
        images: Array,
        *,
        route: Route | None = None,
        context: StepContext | None = None,
        watch: frozenset[str] = frozenset(),
        ready: Mapping[str, object] | None = None,
        edited: Mapping[str, Array] | None = None,
        answers: bool = True,
    ) -> Trace:
        """Run images, or a piece of a batch on its own.

        Parameters
        ----------
        images : ndarray, N×H×W×C
            Prepared images; they are computed with in the network's dtype.
        route : Route, optional
            The way a later `backward` will take; without it nothing is saved for one.
        context : StepContext, optional
            When in training; None is inference: no dropout, running figures in normalisations.
        watch : frozenset of str
            Nodes whose outputs are wanted besides the answers'.
        ready : mapping, optional
            From `prepared`.
        edited : mapping, optional
            Node → output that stands in for what it would give; what only such nodes need is not run.
        answers : bool
            Whether the network's own output is wanted; if not, what only it needs is not run.

        Returns
        -------
        Trace
            With the outputs of the watched nodes and the raw scores under `answers`.
        """
        more: Any = {"route": route, "context": context, "watch": watch, "ready": ready, "edited": edited}
        with np.errstate(over="ignore", invalid="ignore"):  # who asks looks whether the answers are numbers
            return alone(self.forward_pass(images, **more, answers=answers))

    def forward_pass(
        self,
        images: Array,
        *,
        route: Route | None = None,
        context: StepContext | None = None,
        watch: frozenset[str] = frozenset(),
        ready: Mapping[str, object] | None = None,
        edited: Mapping[str, Array] | None = None,
        answers: bool = True,
    ) -> Pass[Trace]:
        """`forward`, stopping where a layer needs sums of the whole batch."""
        trace = Trace()
        ready = ready or {}
        edited = edited or {}
        values: dict[str, Array] = {IMAGE: images.astype(self.dtype, copy=False), **edited}
        trace.outputs.update({name: out for name, out in edited.items() if name in watch})
        needed = self._needed(edited, watch, answers)
        uses = dict.fromkeys(values, 0)
        for name in needed:
            for source in self._sources[name]:
                uses[source] = uses.get(source, 0) + 1
        for name, sources in self._sources.items():
            if name not in needed:
                continue
            breathe()
            layer, weights = self.layers[name], self.weights.get(name, {})
            # Any, here and where it goes back: what `AnyLayer` takes and keeps
            inputs: Any = tuple(values[source] for source in sources)
            for source in sources:
                uses[source] -= 1
            source = sources[0]
            fused = self._fused_activations.get(name)
            activate = fused is not None and name not in watch and fused in needed
            if self._fused_activations.get(source) == name and source not in watch and source not in edited:
                out = inputs[0]  # its ReLU is done
                saved: Any = out
            else:
                sums = None
                if layer.settings.whole_batch and context is not None and (route is None or name in route.normalising):
                    sums = trace.sums[name] = yield layer.sums(inputs[0])
                overwrite = (
                    layer.may_overwrite
                    and source not in (IMAGE, *edited, *watch)
                    and self._uses[source] == 1
                    and not self.layers[source].keeps_output
                )
                call = INFERENCE
                if context is not None or overwrite or activate or name in ready:
                    call = Call(context, overwrite, activate, ready.get(name), sums)
                out, saved = layer.forward(inputs if layer.settings.joins else inputs[0], weights, call)
            if route is not None and name in route.walked:
                trace.saved[name] = saved
            for source in sources:
                if uses[source] == 0 and source in values:
                    del values[source]
            values[name] = out
            if name in watch or name == self.output:
                trace.outputs[name] = out
        return trace

    def _needed(self, edited: Mapping[str, Array], watch: frozenset[str], answers: bool) -> set[str]:
        """Nodes that must run for the watched outputs, and for the answers where they are wanted."""
        needed, waiting = set[str](), [*([self.output] if answers else []), *watch]
        while waiting:
            name = waiting.pop()
            if name != IMAGE and name not in edited and name not in needed:
                needed.add(name)
                waiting.extend(self._sources[name])
        return needed

    def backward(
        self, trace: Trace, seeds: Mapping[str, Array], route: Route, relu: Rule | None = None
    ) -> tuple[dict[str, Array], Weights]:
        """Pass back from the gradients of some outputs.

        Parameters
        ----------
        trace : Trace
            Of a forward pass with this route; it is used up.
        seeds : mapping
            Node → gradient of a scalar by that node's output.
        route : Route
            What is wanted.
        relu : Rule, optional
            Stands in for the gradient of every ReLU.

        Returns
        -------
        nodes : dict
            Gradients by the outputs of the nodes the route asked for, the image's under `IMAGE`.
        weights : dict
            Gradients of the trainable nodes' weights.
        """
        return alone(self.backward_pass(trace, seeds, route, relu))

    def backward_pass(
        self, trace: Trace, seeds: Mapping[str, Array], route: Route, relu: Rule | None = None
    ) -> Pass[tuple[dict[str, Array], Weights]]:
        """`backward`, stopping where a layer needs sums of the whole batch."""
        grads: dict[str, Array] = {name: np.array(seed) for name, seed in seeds.items()}
        weight_gradients, nodes = Weights(), dict[str, Array]()
        for name in reversed(self._sources):
            grad = grads.pop(name, None)
            if grad is None:
                continue
            if name in route.nodes:
                nodes[name] = grad.copy()
            if name not in route.walked or name not in trace.saved:
                continue
            breathe()
            layer, sources = self.layers[name], self._sources[name]
            saved = trace.saved.pop(name)
            needed = [source in route.walked for source in sources]
            if name in trace.sums and any(needed):
                part = layer.gradient_sums(grad, saved)
                saved = layer.with_sums(saved, part, (yield part))
            if relu is not None and layer.settings.is_rectifier:
                onward: Any = relu(grad, saved)
                layer_gradients: dict[str, Array] = {}
            else:
                weights = self.weights.get(name, {})
                onward, layer_gradients = layer.backward(grad, saved, weights, any(needed), name in route.trainable)
            if layer_gradients:
                weight_gradients[name] = layer_gradients
            if not any(needed):
                continue
            parts = onward if layer.settings.joins else (onward,)
            for source, want, part in zip(sources, needed, parts, strict=True):
                if want:
                    grads[source] = grads[source] + part if source in grads else part
        if IMAGE in route.nodes and IMAGE in grads:
            nodes[IMAGE] = grads[IMAGE]
        return nodes, weight_gradients

    def absorb(self, sums: Mapping[str, Array]) -> None:
        """Move the running figures of normalisations by the sums of a step."""
        for name, layer_sums in sums.items():
            self.weights[name].update(self.layers[name].state(self.weights[name], layer_sums))

    def restate(self, sums: Mapping[str, Array]) -> None:
        """Set the running figures of normalisations to those of some sums, whatever they were."""
        for name, layer_sums in sums.items():
            layer = self.layers[name]
            anew = LAYERS[layer.settings.kind](name, layer.settings.with_(momentum=0.0))
            self.weights[name].update(anew.state(self.weights[name], layer_sums))

    def copy_weights(self) -> Weights:
        """The weights as they are now, copied."""
        return {node: {name: a.copy() for name, a in arrays.items()} for node, arrays in self.weights.items()}

    def fingerprint(self) -> str:
        """See `fingerprint`."""
        return fingerprint(self.weights)


def alone(walk: Pass[T]) -> T:
    """Finish a walk whose piece is the whole batch."""
    try:
        sums = next(walk)
        while True:
            sums = walk.send(sums)
    except StopIteration as end:
        result: T = end.value
        return result


def fingerprint(weights: Weights) -> str:
    """SHA-256 of all weights' names, shapes and bytes, in the order of their names."""
    digest = hashlib.sha256()
    for node in sorted(weights):
        for name in sorted(weights[node]):
            array = weights[node][name]
            digest.update(f"{node}/{name}{array.shape}{array.dtype}".encode())
            digest.update(np.ascontiguousarray(array).data)
    return digest.hexdigest()
