"""Layers that do not learn: dead units, gradients that vanish on their way back or explode."""

from __future__ import annotations

from dataclasses import replace

import numpy as np

from attentive_lens.plan.editing import insert
from attentive_lens.plan.layers import BatchNormalisation, LeakyRelu, Relu, Sigmoid, Tanh
from attentive_lens.plan.plan import Plan
from attentive_lens.training.advice.base import Advice, Finding, Record, changed, set_to, with_rate
from attentive_lens.training.advice.rates import LARGE

DEAD, DEAD_CONNECTED = 0.4, 0.8
"""Part of a layer's channels, and of the units after a fully connected layer, that are never active, from which on
they are named: of many units some answer to rare images alone."""
LOOKS = 2
"""Epochs that must have been looked at."""
VANISHED = 0.02
"""Gradient of the first layer over that of the last before the output, each by the size of its weights, of gradients
that vanish."""
EXPLODED = 10.0
"""Norm of a gradient over that of its weights from which on it explodes."""


class DeadUnits(Advice):
    """Rectified units that are zero for every image."""

    kind = "dead units"
    live = True

    def find(self, run: Record) -> Finding | None:
        """By the layers' health over the last epochs."""
        looked = [epoch for epoch in run.epochs if epoch.health is not None]
        if len(looked) < LOOKS:
            return None
        flat = {node.name for node in run.plan.network.nodes if self._is_flat(run.plan, node.after[0])}
        shares = run.layers("dead").items()
        dead = {name: share for name, share in shares if share >= (DEAD_CONNECTED if name in flat else DEAD)}
        if not dead:
            return None
        worst = max(dead, key=lambda name: dead[name])
        names = [node.name for node in run.plan.network.nodes]
        since = next(
            epoch.epoch
            for epoch in looked
            if epoch.health is not None and (epoch.health.dead[names.index(worst)] or 0.0) >= dead[worst] / 2
        )
        others = f", and {len(dead) - 1} layers more" if len(dead) > 1 else ""
        return Finding(
            self.kind, since,
            f"{dead[worst]:.0%} of the units of «{worst}» were zero for every image looked at{others}",
            "A rectified unit that is never active gets no gradient and never learns again.",
            "Use leaky ReLU in place of ReLU, and half the learning rate.",
            "Units that answer to some images again, and a lower training loss.",
            changed(run.plan, lambda plan: with_rate(leaky(plan), 0.5)),
        )  # fmt: skip

    def _is_flat(self, plan: Plan, name: str) -> bool:
        """Whether a rectifier's source gives single units, not maps."""
        kinds = {node.name: node.layer.kind for node in plan.network.nodes}
        return kinds.get(name) == "fully connected"


def leaky(plan: Plan) -> Plan:
    """With leaky ReLU for every ReLU."""
    nodes = tuple(
        replace(node, layer=LeakyRelu()) if isinstance(node.layer, Relu) else node for node in plan.network.nodes
    )
    return plan.with_network(replace(plan.network, nodes=nodes))


class VanishingGradients(Advice):
    """The first layers hardly get a gradient."""

    kind = "vanishing gradients"
    live = True

    def find(self, run: Record) -> Finding | None:
        """By the gradients of the first and the last layers."""
        gradients = list(run.hidden("gradient").items())
        if len(gradients) < 3 or len(run.epochs) < LOOKS:
            return None
        first, last = gradients[0], gradients[-1]
        if not 0 < first[1] < VANISHED * last[1] or run.last_training()[0] > 0.8:
            return None
        if max(run.layers("dead").values(), default=0.0) >= 1 or (run.updates or 0.0) > LARGE:
            return None  # where units died of long steps the gradient ends, and does not vanish bit by bit
        squashed = any(isinstance(node.layer, Sigmoid | Tanh) for node in run.plan.network.nodes)
        normalised = any(node.layer.kind == "batch normalisation" for node in run.plan.network.nodes)
        remedy = "Use ReLU in place of sigmoid and tanh" if squashed else "Normalise after every convolution"
        with_norm = "" if normalised or not squashed else ", and batch normalisation after every convolution"
        return Finding(
            self.kind, 1,
            f"the gradient of «{first[0]}» is {first[1]:.2g} of the size of its weights, that of «{last[0]}»"
            f" {last[1]:.2g}",
            "On its way back every layer makes the gradient smaller, so that the first ones hardly learn.",
            f"{remedy}{with_norm}; start the weights by He's rule.",
            "Gradients of about one size in all layers, and a loss that falls at once.",
            changed(run.plan, lambda plan: normalised_after(rectified(plan)).changed({"initialisation": "he"})),
        )  # fmt: skip


def rectified(plan: Plan) -> Plan:
    """With ReLU for every sigmoid and tanh in between."""
    nodes = tuple(
        replace(node, layer=Relu()) if isinstance(node.layer, Sigmoid | Tanh) else node for node in plan.network.nodes
    )
    return plan.with_network(replace(plan.network, nodes=nodes))


def normalised_after(plan: Plan) -> Plan:
    """With batch normalisation after every convolution that has none."""
    nodes = plan.network.nodes
    for node in plan.network.nodes:
        if node.layer.kind != "convolution":
            continue
        users = [other for other in nodes if node.name in other.after]
        if users and not any(user.layer.kind == "batch normalisation" for user in users):
            nodes, _ = insert(nodes, node.name, BatchNormalisation())
    return plan.with_network(replace(plan.network, nodes=nodes))


class ExplodingGradients(Advice):
    """Gradients larger than the weights by far."""

    kind = "exploding gradients"
    live = True

    def find(self, run: Record) -> Finding | None:
        """By the largest gradient of a layer, where it is not clipped."""
        gradients = run.hidden("gradient")
        if not gradients or len(run.epochs) < LOOKS or run.plan.training.clip_norm:
            return None
        name = max(gradients, key=lambda key: gradients[key])
        typical = float(np.median(list(gradients.values())))
        if typical < EXPLODED:
            return None
        return Finding(
            self.kind, 1, f"the gradient of «{name}» is {gradients[name]:.0f} times the size of its weights",
            "Every layer makes the gradient larger on its way back; single batches can undo what was learned.",
            "Clip gradients at norm 1, and start the weights by He's rule.",
            "A loss that begins near chance and falls without leaps.",
            changed(run.plan, set_to(training__clip_norm=1.0, initialisation="he"), set_to(training__clip_norm=1.0)),
        )  # fmt: skip
