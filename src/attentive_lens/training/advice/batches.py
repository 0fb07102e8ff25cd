"""Batch sizes that give too few steps, or steps too small for the machine."""

from __future__ import annotations

from attentive_lens.training.advice.base import Advice, Finding, Record, changed, with_rate

FEW_BATCHES, FEW_STEPS = 8, 300
"""Batches of an epoch, and steps of a run, that are too few to learn in."""
TINY = 4
"""Images of a batch below which the machine's time goes into moving from one to the next."""
USUAL = 32
LEARNED = 0.9
"""Training accuracy from which on nothing is said of too few steps."""


class BatchSize(Advice):
    """Few steps of many images, or many steps of few."""

    kind = "batch size"
    live = True

    def find(self, run: Record) -> Finding | None:
        """By the number of batches and of images in one."""
        size, plan = run.plan.training.batch_size, run.plan
        images = sum(run.training)
        if not run.epochs or not images:
            return None
        if size < TINY < images / 4:
            to = min(USUAL, max(TINY, images // 16))
            times = (to / size) ** (1.0 if plan.optimiser.kind == "sgd" else 0.5)
            rate = with_rate(plan, times).optimiser.learning_rate
            return Finding(
                self.kind, 1, f"{run.batches} batches of {size} an epoch, {run.epochs[-1].seconds:.1f} s each epoch",
                "With so few images at a time most of the machine's time goes into moving from one step to the next,"
                " and the gradient of each is little more than chance.",
                f"Train with batches of {to}, the learning rate scaled with them to {rate:g}.",
                "Epochs that take a half or less of the time, and smoother curves.",
                changed(plan, lambda old: with_rate(old, times).changed({"training.batch_size": to})),
            )  # fmt: skip
        steps = run.batches * plan.training.epochs
        if run.batches > FEW_BATCHES or steps > FEW_STEPS or size <= 16 or run.last_training()[0] > LEARNED:
            return None
        to = max(16, min(USUAL, images // 24))
        if to >= size:
            return None
        return Finding(
            self.kind, 1, f"{run.batches} batches of {size} make an epoch, and {steps} steps the whole run",
            "A network learns by steps, and this is a small number of them.",
            f"Train with batches of {to}: {-(-images // to)} steps an epoch at the same cost.",
            "The accuracy of the whole run is reached in a fraction of its epochs.",
            changed(plan, lambda old: old.changed({"training.batch_size": to})),
        )  # fmt: skip
