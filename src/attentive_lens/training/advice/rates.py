"""Divergence, and learning rates that are too high or too low."""

from __future__ import annotations

import numpy as np

from attentive_lens.training.advice.base import FEWEST_EPOCHS, Advice, Finding, Record, changed, set_to, with_rate

ABOVE = 1.15
"""Times the chance loss from which on a loss is worse than none."""
AWAY = 2.0
"""Times the chance loss that one reached from which there was no way back."""
LARGE, SMALL = 2e-2, 2.5e-4
"""Sizes of a step over that of the weights between which a learning rate is usual."""
FALLEN = 0.7
"""Times its first value that the training loss of a rate that is high enough has at most by the end."""
LEAST = 3
"""Epochs from which on rates are judged."""
DIED = 0.75
"""Part of a layer's units that died under long steps."""
RISES = 0.3
"""Part of the epochs in which the training loss rises, with long steps, that tells of a rate too high."""


class Divergence(Advice):
    """Numbers that ran away, or a loss above chance."""

    kind = "divergence"
    live = True

    def find(self, run: Record) -> Finding | None:
        """By the error of the run, or by its training loss."""
        chance, losses = run.chance_loss, run.training_loss
        if "ran away" in run.error:
            epoch = len(run.epochs) + 1
            evidence = f"in epoch {epoch} values became infinite or no numbers at all"
        elif chance is not None and len(losses) >= 2 and run.is_stuck and losses.max() > AWAY * chance:
            epoch = int(losses.argmax()) + 1
            evidence = (
                f"the training loss was {losses.max():.3g} in epoch {epoch} and is {losses[-1]:.3g}, where whoever"
                f" guesses comes to {chance:.3g}"
            )
        elif chance is not None and len(losses) >= 2 and losses[-2:].min() > ABOVE * chance:
            above = np.flatnonzero(losses <= ABOVE * chance)
            epoch = int(above[-1]) + 2 if len(above) else 1
            if len(run.validation_loss) and run.validation_loss[-2:].min() < chance:
                return None  # what makes training hard, as dropout does, is no divergence
            evidence = f"the training loss is {losses[-1]:.3g}, and whoever guesses comes to {chance:.3g}"
        else:
            return None
        rate = run.plan.optimiser.learning_rate
        if rate <= 1e-4 and not run.plan.training.clip_norm:
            return Finding(
                self.kind, epoch, evidence, "Single steps are so long that what was learned is lost.",
                "Clip gradients at norm 1.", "The loss falls below chance within the first epochs.",
                changed(run.plan, set_to(training__clip_norm=1.0)),
            )  # fmt: skip
        times = 0.001 if rate >= 1 else 0.01 if rate >= 0.1 else 0.1
        lower = with_rate(run.plan, times).optimiser.learning_rate
        return Finding(
            self.kind, epoch, evidence, "Steps are so long that they lead out of every valley.",
            f"Train with a learning rate of {lower:g} in place of {rate:g}.",
            "The loss falls below chance within the first epochs.",
            changed(run.plan, lambda plan: with_rate(plan, times)),
        )  # fmt: skip


class RateTooHigh(Advice):
    """Steps so long that nothing or little is learned."""

    kind = "rate too high"

    def find(self, run: Record) -> Finding | None:
        """By the size of the longest steps, with a loss that stays at chance, or goes up and down."""
        updates, losses = run.updates, run.training_loss
        if updates is None or len(losses) < LEAST:
            return None
        rises = float((np.diff(losses) > 0).mean())
        dead = run.layers("dead")
        lost = updates > LARGE / 2 and max(dead.values(), default=0.0) >= DIED
        restless = run.typical_updates > LARGE / 2 and rises > RISES
        if not lost and not (updates > LARGE and run.is_stuck) and not restless:
            return None
        state = "stays at chance" if run.is_stuck else f"rose in {rises:.0%} of the epochs"
        worst = max(dead, key=lambda name: dead[name]) if lost else ""
        died = f", and {dead[worst]:.0%} of «{worst}» answer to no image any more" if lost else ""
        rate = run.plan.optimiser.learning_rate
        return Finding(
            self.kind, 1,
            f"steps changed the weights by up to {updates:.1%} of their size; the training loss {state}{died}",
            "A tenth of a hundredth is usual; longer steps jump over what they look for.",
            f"Train with a learning rate of {with_rate(run.plan, 0.1).optimiser.learning_rate:g} in place of {rate:g}.",
            "The training loss falls from epoch to epoch.",
            changed(run.plan, lambda plan: with_rate(plan, 0.1)),
        )  # fmt: skip


class RateTooLow(Advice):
    """Steps so short that the run ends long before there is anything to learn."""

    kind = "rate too low"
    live = True

    def find(self, run: Record) -> Finding | None:
        """By the size of the steps, with a loss that hardly fell and never rises."""
        updates, losses = run.updates, run.training_loss
        if updates is None or len(losses) < LEAST or updates >= SMALL:
            return None
        if losses[-1] < FALLEN * losses[0] or run.last_training()[0] > 0.9:
            return None
        if len(losses) >= FEWEST_EPOCHS and run.plan.schedule.kind == "plateau" and losses[-1] < losses[0]:
            return None
        times = 30.0 if updates < SMALL / 10 else 10.0
        rate = run.plan.optimiser.learning_rate
        higher = with_rate(run.plan, times).optimiser.learning_rate
        return Finding(
            self.kind, 1,
            f"a step changes the weights by {updates * 100:.2g} % of their size, and after {len(losses)} epochs the"
            f" training loss is still {losses[-1] / losses[0]:.0%} of what it was in the first",
            "A tenth of a hundredth is usual; with shorter steps training takes that much longer.",
            f"Train with a learning rate of {higher:g} in place of {rate:g}.",
            "The loss of the whole run is reached within an epoch or two.",
            changed(run.plan, lambda plan: with_rate(plan, times)),
        )  # fmt: skip
