"""Trouble of runs that draw: codes that carry nothing, over-fitting, and an end that came too early."""

from __future__ import annotations

from dataclasses import replace

import numpy as np

from attentive_lens.plan.augmentation import DEFAULT_AUGMENTATION
from attentive_lens.plan.network import NetworkPlan
from attentive_lens.plan.plan import Plan
from attentive_lens.plan.tasks import Encode
from attentive_lens.training.advice.base import FEWEST_EPOCHS, LAST, Advice, Finding, Record, changed, set_to
from attentive_lens.training.advice.fitting import WEIGHT_DECAY, longer

CARRIED = 0.5
"""Nats of divergence an image below which codes tell images apart no more."""
LOST = 0.1
"""Part of all that the bound of validation images gained that it must have lost again for over-fitting to be named."""
GAINED = 0.04
"""Part of all that it gained which a last fifth of the epochs must have brought for a run to end too early."""


def bounds(run: Record, part: str) -> np.ndarray:
    """Lower bound of the images of a part, after every evaluated epoch."""
    return np.array([getattr(epoch, part).main for epoch in run.judged])


class CodesUnused(Advice):
    """The divergence is nearly 0: every image has the same codes, and every drawing is the mean image."""

    kind = "codes unused"
    live = True

    def find(self, run: Record) -> Finding | None:
        """By the divergence over the last epochs."""
        task, codes = run.plan.task, run.plan.network.code.layer
        if not isinstance(task, Encode) or not codes.is_variational or len(run.epochs) < LAST:
            return None
        if not task.weight_at(len(run.epochs), 0):
            return None
        carried = float(np.mean([epoch.training.more.get("divergence", 0.0) for epoch in run.epochs[-LAST:]]))
        if carried >= CARRIED:
            return None
        remedy, plan = self._remedy(run.plan, task)
        return Finding(
            self.kind, 0,
            f"the codes' distributions are {carried:.2g} nats from the standard normal one over the last {LAST} epochs",
            "All images have the same codes, so all are drawn as their mean: to say nothing costs least.",
            remedy, "A divergence of several nats, and drawings that differ.", plan,
        )  # fmt: skip

    def _remedy(self, plan: Plan, task: Encode) -> tuple[str, Plan | None]:
        if not task.warmup_epochs:
            epochs = max(2, plan.training.epochs // 3)
            words = f"Let the divergence's weight rise from 0 over the first {epochs} epochs."
            return words, changed(plan, lambda old: replace(old, task=task.with_(warmup_epochs=epochs)))
        last = plan.network.nodes[-1]
        deviation = getattr(last.layer, "deviation", 0.3) / 2
        nodes = (*plan.network.nodes[:-1], replace(last, layer=last.layer.with_(deviation=deviation)))
        words = f"Halve the drawing's standard deviation, to {deviation:g}: differences from the image then cost more."
        return words, changed(plan, lambda old: old.with_network(NetworkPlan(nodes)))


class OverFittingDrawn(Advice):
    """The bound of validation images falls while that of training images rises."""

    kind = "over-fitting"
    live = True

    def find(self, run: Record) -> Finding | None:
        """By both bounds, and since when."""
        if len(run.judged) < FEWEST_EPOCHS:
            return None
        held_out, learned = bounds(run, "validation"), bounds(run, "training")
        best, now = int(held_out.argmax()), float(held_out[-LAST:].mean())
        gained, lost = float(held_out[best] - held_out[0]), float(held_out[best] - now)
        if best >= len(held_out) - LAST or lost < LOST * gained or learned[-LAST:].mean() <= learned[best]:
            return None
        remedy, plan = self._remedy(run.plan)
        since = run.judged[best].epoch + 1
        return Finding(
            self.kind, since,
            f"since epoch {since} the lower bound of validation images fell from {held_out[best]:,.0f} to {now:,.0f}"
            f" nats while that of training images rose to {learned[-1]:,.0f}",
            "What is learned now is single images; the best epoch is kept.",
            remedy, "A bound of validation images that rises longer.", plan,
        )  # fmt: skip

    def _remedy(self, plan: Plan) -> tuple[str, Plan | None]:
        if not plan.augmentation:
            words = "Augment the training images; more images help most."
            return words, changed(plan, lambda old: old.with_augmentation(DEFAULT_AUGMENTATION))
        words = f"Use weight decay {WEIGHT_DECAY:g}; more images help most."
        return words, changed(plan, set_to(optimiser__weight_decay=WEIGHT_DECAY))


class StillImprovingDrawn(Advice):
    """The run ended while the bound of validation images rose."""

    kind = "still improving"

    def find(self, run: Record) -> Finding | None:
        """By the bound over the last fifth of the epochs."""
        if run.state != "done" or len(run.judged) < FEWEST_EPOCHS:
            return None
        held_out = bounds(run, "validation")
        part = max(2, len(held_out) // 5)
        rose = float(held_out[-part:].mean() - held_out[-2 * part : -part].mean())
        if rose < GAINED * (held_out.max() - held_out[0]):
            return None
        epochs = run.plan.training.epochs
        return Finding(
            self.kind, len(run.epochs),
            f"the lower bound of validation images rose by another {rose:,.0f} nats over the last {part} epochs",
            "The run ended before it had learned what it could.",
            f"Train {2 * epochs} epochs in place of {epochs}.",
            "A higher bound, and sharper drawings.", changed(run.plan, longer),
        )  # fmt: skip
