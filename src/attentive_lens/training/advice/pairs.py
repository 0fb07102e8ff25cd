"""Trouble of adversarial pairs: one side has won, drawings alike, squares from the stride, values at their limit."""

from __future__ import annotations

from dataclasses import replace

import numpy as np

from attentive_lens.plan.layers import Convolution, Resampling, TransposedConvolution
from attentive_lens.plan.network import NetworkPlan
from attentive_lens.plan.nodes import Names, Node
from attentive_lens.plan.plan import Plan
from attentive_lens.plan.tasks import Generate
from attentive_lens.training.advice.base import FEWEST_EPOCHS, LAST, Advice, Finding, Record, changed, set_to

WON, LOST = 0.995, 0.52
"""Part of the pairs of a real training image and a drawing that are ranked right from which the discriminator has won,
and below which it has lost."""
LONG, PART = 10, 0.25
"""Epochs, and part of the planned ones, from which on a side can have won: at first the discriminator always leads."""
ALIKE = 0.4
"""Variety of drawings below which they are alike."""
GRID, AT_LIMIT = 0.1, 0.2
"""By how much steps of even and odd pixels differ, and part of the values at their limits, beyond real images'."""


def last_of(run: Record, part: str, measure: str) -> float:
    """A measure of a part over the last epochs that were evaluated; not a number where it is not known."""
    values = [getattr(epoch, part).more.get(measure, np.nan) for epoch in run.judged[-LAST:]]
    return float(np.mean(values)) if values else float("nan")


class OneSideHasWon(Advice):
    """The discriminator ranks all right, or no more than by chance, of what it learns from."""

    kind = "one side has won"
    live = True

    def find(self, run: Record) -> Finding | None:
        """By what is told apart over the last epochs of training."""
        least = min(LONG, run.plan.training.epochs) if run.is_over else max(LONG, PART * run.plan.training.epochs)
        if len(run.judged) < max(FEWEST_EPOCHS, least) or not isinstance(run.plan.task, Generate):
            return None
        apart = last_of(run, "training", "told_apart")
        if not (apart >= WON or apart <= LOST):
            return None
        if apart >= WON:
            side, meaning = "discriminator", "What it says no longer tells the generator which way is better."
            remedy, plan = self._against_discriminator(run.plan, run.plan.task)
        else:
            side, meaning = "generator", "It learns from a discriminator that tells nothing apart."
            steps = run.plan.task.discriminator_steps + 1
            remedy = f"Let the discriminator learn from {steps} batches for each step of the generator."
            plan = changed(run.plan, set_to(task__discriminator_steps=steps))
        return Finding(
            self.kind, 0,
            f"the {side} has: of {apart:.1%} of the pairs of a real training image and a drawing the real one scores"
            f" higher over the last {LAST} epochs",
            meaning, remedy, "Both sides' losses that stay apart, and drawings that go on changing.", plan,
        )  # fmt: skip

    def _against_discriminator(self, plan: Plan, task: Generate) -> tuple[str, Plan | None]:
        if not task.spectral_normalisation:
            words = "Normalise the discriminator's weights (spectral normalisation): it stays smooth."
            return words, changed(plan, set_to(task__spectral_normalisation=True))
        if task.discriminator_steps > 1:
            steps = task.discriminator_steps - 1
            words = f"Let the discriminator learn from {steps} batches for each step of the generator."
            return words, changed(plan, set_to(task__discriminator_steps=steps))
        rate = float(f"{plan.discriminator_optimiser.learning_rate / 2:.2g}")
        words = f"Halve the discriminator's learning rate, to {rate:g}."
        return words, changed(plan, set_to(discriminator_optimiser__learning_rate=rate))


class DrawingsAlike(Advice):
    """The generator draws nearly one image, whatever the noise."""

    kind = "drawings alike"

    def find(self, run: Record) -> Finding | None:
        """By the distances among drawings against those among images."""
        variety = last_of(run, "validation", "variety")
        if len(run.judged) < FEWEST_EPOCHS or not variety < ALIKE:
            return None
        remedy, plan = self._remedy(run.plan)
        return Finding(
            self.kind, 0,
            f"two drawings are {variety:.0%} as far apart as two images are, over the last {LAST} epochs",
            "The generator has found a few images that pass, and draws no others (mode collapse).",
            remedy, "Drawings that differ as images do.", plan,
        )  # fmt: skip

    def _remedy(self, plan: Plan) -> tuple[str, Plan | None]:
        task = plan.task
        if isinstance(task, Generate) and not task.spectral_normalisation:
            words = "Normalise the discriminator's weights (spectral normalisation)."
            return words, changed(plan, set_to(task__spectral_normalisation=True))
        rates = [float(f"{each.learning_rate / 2:.2g}") for each in (plan.optimiser, plan.discriminator_optimiser)]
        words = f"Halve both learning rates, to {rates[0]:g} and {rates[1]:g}, and train twice as long."
        change = set_to(
            optimiser__learning_rate=rates[0],
            discriminator_optimiser__learning_rate=rates[1],
            training__epochs=min(100_000, 2 * plan.training.epochs),
        )
        return words, changed(plan, change)


class SquaresFromStride(Advice):
    """Drawings have a grid that images have not: transposed convolutions paint some pixels more often than others."""

    kind = "squares from the stride"

    def find(self, run: Record) -> Finding | None:
        """By steps between neighbouring pixels at even and at odd places."""
        grid = last_of(run, "validation", "grid")
        if len(run.judged) < FEWEST_EPOCHS or not grid > GRID:
            return None
        plan = changed(run.plan, without_transposed)
        return Finding(
            self.kind, 0,
            f"steps between pixels differ by {grid:.0%} from even to odd places, beyond those of images",
            "Transposed convolutions paint some pixels more often than their neighbours.",
            "Repeat pixels and convolve in place of transposed convolutions.",
            "Drawings without a grid.", plan,
        )  # fmt: skip


class ValuesAtLimit(Advice):
    """Much of the drawings is wholly black or white where images are not."""

    kind = "values at their limit"

    def find(self, run: Record) -> Finding | None:
        """By the part of the values that are at their limits."""
        limit = last_of(run, "validation", "at_limit")
        if len(run.judged) < FEWEST_EPOCHS or not limit > AT_LIMIT:
            return None
        rate = float(f"{run.plan.optimiser.learning_rate / 2:.2g}")
        return Finding(
            self.kind, 0,
            f"{limit:.0%} of the drawings' values are at their limits, beyond those of images",
            "What is drawn lies where its last function is flat, and learns no more.",
            f"Halve the generator's learning rate, to {rate:g}.",
            "Drawings with the tones of images.", changed(run.plan, set_to(optimiser__learning_rate=rate)),
        )  # fmt: skip


def without_transposed(plan: Plan) -> Plan:
    """A plan whose transposed convolutions are repeated pixels and a convolution of as many maps."""
    nodes: list[Node] = []
    names = Names(node.name for node in plan.network.nodes)
    for node in plan.network.nodes:
        layer = node.layer
        if not isinstance(layer, TransposedConvolution):
            nodes.append(node)
            continue
        before: tuple[str, ...] = node.after
        if layer.stride > 1:
            resampling = Resampling(factor=layer.stride)
            before = (names.free(resampling),)
            nodes.append(Node(before[0], resampling, node.after, part_of=node.part_of))
        convolution = Convolution(filters=layer.filters, kernel_size=3)
        nodes.append(replace(node, layer=convolution, after=before))
    return plan.with_network(NetworkPlan(tuple(nodes)))
