"""Over-fitting, under-fitting, a plateau, and an end that came too early."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace

import numpy as np

from attentive_lens.plan.augmentation import DEFAULT_AUGMENTATION
from attentive_lens.plan.layers import Convolution
from attentive_lens.plan.plan import Plan
from attentive_lens.training.advice.base import FEWEST_EPOCHS, LAST, Advice, Finding, Record, changed, set_to
from attentive_lens.training.journal import EpochEvent

RISES = 1.08
"""Times its least that the validation loss must be at the end for over-fitting to be named."""
FALLS = 0.96
"""Times the fifth of the epochs before that the validation loss of the last fifth must be, at most, to still fall."""
LEARNED = 0.75
"""Accuracy of training images, under augmentation and dropout, and of validation images below which a network may
under-fit."""
APART = 0.05
"""Accuracy by which training may be ahead of validation in a network that under-fits."""
STILL = 0.01
"""Part by which the training loss may change over the epochs of a plateau."""
NEARLY_ALL = 0.98
"""Validation accuracy above which losses are so small that their rise means nothing."""
WEIGHT_DECAY = 0.02
"""What is set against over-fitting where there is less."""
LONG = 12
"""Epochs that a plateau has at least."""


def over_fits_since(epochs: Sequence[EpochEvent]) -> int | None:
    """The epoch from which the validation loss rose while the training loss fell on; None without it."""
    validation = np.array([epoch.validation.loss for epoch in epochs if epoch.validation is not None])
    training = np.array([epoch.training.loss for epoch in epochs])
    means = np.convolve(validation, np.ones(LAST) / LAST, "valid")
    least = int(means.argmin())
    if least >= len(means) - LAST or means[-1] < RISES * means[least]:
        return None
    if training[-LAST:].mean() >= training[least : least + LAST].mean():
        return None
    return epochs[least + LAST // 2].epoch + 1


def still_falls(epochs: Sequence[EpochEvent]) -> bool:
    """Whether the validation loss fell on until the last epochs."""
    validation = np.array([epoch.validation.loss for epoch in epochs if epoch.validation is not None])
    part = max(2, len(validation) // 5)
    late = int(validation.argmin()) >= len(validation) - max(2, len(validation) // 10)
    return bool(late and validation[-part:].mean() <= FALLS * validation[-2 * part : -part].mean())


class OverFitting(Advice):
    """The validation loss rises while the training loss falls on."""

    kind = "over-fitting"
    live = True

    def find(self, run: Record) -> Finding | None:
        """By both losses, and since when."""
        if len(run.judged) < FEWEST_EPOCHS or len(run.judged) < len(run.epochs):
            return None
        since = over_fits_since(run.judged)
        if since is None:
            return None
        training, validation = run.last_training()[0], run.last_validation() or 0.0
        if validation > NEARLY_ALL:
            return None
        remedy, plan = self._remedy(run.plan)
        return Finding(
            self.kind, since,
            f"since epoch {since} the validation loss rises while the training loss falls, training"
            f" {run.right_word} is {training:.1%} and validation {run.right_word} {validation:.1%}",
            "What is learned now is single images, not classes; the best epoch is kept.",
            remedy, "A validation loss that keeps falling longer, and a smaller distance between the curves.", plan,
        )  # fmt: skip

    def _remedy(self, plan: Plan) -> tuple[str, Plan | None]:
        if not plan.augmentation:
            words = "Augment the training images; more images help most."
            return words, changed(plan, lambda old: old.with_augmentation(DEFAULT_AUGMENTATION))
        if plan.optimiser.weight_decay < WEIGHT_DECAY:
            words = (
                f"Use weight decay {WEIGHT_DECAY:g} and stop after 8 epochs without a better loss; more images help"
                " most."
            )
            return words, changed(plan, set_to(optimiser__weight_decay=WEIGHT_DECAY, stopping__patience=8))
        words = "Smooth labels by 0.1, or strengthen the augmentation; more images help most."
        return words, changed(plan, set_to(loss__label_smoothing=0.1))


class UnderFitting(Advice):
    """The training images themselves are not learned, and no epoch brings more."""

    kind = "under-fitting"

    def find(self, run: Record) -> Finding | None:
        """By the training accuracy at the end of a run that no longer improves."""
        if len(run.judged) < FEWEST_EPOCHS or still_falls(run.judged) or still_learns(run):
            return None
        training, validation = run.last_training()[0], run.last_validation() or 0.0
        if max(training, validation) >= LEARNED or training - validation > APART or run.is_stuck:
            return None
        annealed = run.plan.schedule.kind != "constant"  # the loss stays because the learning rate fell
        return Finding(
            self.kind, 0,
            f"{training:.1%} of the training images are right as they are learned from, and the loss no longer falls",
            "The run is too short, or the network too small, or too much is taken from it by dropout and augmentation,"
            " to learn even these.",
            "Train twice the epochs; a larger network, or less augmentation and dropout, help too."
            if annealed
            else "Train a network with twice the filters; less augmentation and dropout help too.",
            "A higher training accuracy, and validation accuracy with it.",
            changed(run.plan, *((longer, widened) if annealed else (widened, longer))),
        )  # fmt: skip


def still_learns(run: Record) -> bool:
    """Whether the training loss fell clearly over the last third of the epochs."""
    third = max(2, len(run.training_loss) // 3)
    losses = run.training_loss[-third:]
    half = max(1, third // 2)
    return bool(losses[-half:].mean() < 0.95 * losses[:half].mean())


def longer(plan: Plan) -> Plan:
    """With twice the epochs."""
    return plan.changed({"training.epochs": 2 * plan.training.epochs})


def widened(plan: Plan) -> Plan:
    """With twice the filters in every convolution."""
    nodes = tuple(
        replace(node, layer=node.layer.with_(filters=2 * node.layer.filters))
        if isinstance(node.layer, Convolution) and node.layer.groups == 1
        else node
        for node in plan.network.nodes
    )
    return plan.with_network(replace(plan.network, nodes=nodes))


class Plateau(Advice):
    """Nothing moves any more, while the training images are not all learned."""

    kind = "plateau"

    def find(self, run: Record) -> Finding | None:
        """By the training loss over the last epochs, at a learning rate that stays."""
        losses = run.training_loss
        if len(losses) < LONG or run.plan.schedule.kind != "constant" or run.rates_changed:
            return None
        part = max(LONG // 2, len(losses) // 4)
        now, before = losses[-part:].mean(), losses[-2 * part : -part].mean()
        if now < (1 - STILL * part / LONG * 2) * before or run.last_training()[0] > 0.98:
            return None
        if run.is_stuck:
            return None
        since = len(losses) - 2 * part + 1
        return Finding(
            self.kind, since,
            f"from epoch {since} on the training loss has stayed at {now:.3g}, at a learning rate of"
            f" {run.plan.optimiser.learning_rate:g} throughout",
            "Steps of the same length go to and fro across the valley without getting deeper into it.",
            "Let the learning rate fall along a cosine over the same epochs.",
            "A drop of the training loss in the second half of the run.",
            changed(run.plan, set_to(schedule="cosine")),
        )  # fmt: skip


class StillImproving(Advice):
    """The run ended while the validation loss fell."""

    kind = "still improving"

    def find(self, run: Record) -> Finding | None:
        """By the validation loss of the last epochs."""
        if run.state != "done" or len(run.judged) < FEWEST_EPOCHS or not still_falls(run.judged):
            return None
        epochs = run.plan.training.epochs
        part = max(2, len(run.judged) // 5)
        fell = 1 - run.validation_loss[-part:].mean() / run.validation_loss[-2 * part : -part].mean()
        return Finding(
            self.kind, len(run.epochs),
            f"the validation loss fell by another {fell:.0%} over the last {part} epochs",
            "The run ended before it had learned what it could.",
            f"Train {2 * epochs} epochs in place of {epochs}.",
            "A lower validation loss; about as much again as the last epochs brought.",
            changed(run.plan, lambda plan: plan.changed({"training.epochs": 2 * epochs, "stopping.patience": 0})),
        )  # fmt: skip
