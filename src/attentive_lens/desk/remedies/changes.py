"""Changes of settings that an engineer tries next, whatever a run's figures say.

To add one: a function that makes the changed plan, or None where there is nothing to change, and a line in `CHANGES`.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

from attentive_lens.plan.augmentation import Contrast, Erasing, Scale
from attentive_lens.plan.layers import BatchNormalisation, GroupNormalisation
from attentive_lens.plan.plan import Plan
from attentive_lens.plan.schedules import Constant

SMOOTHED = 0.1
"""Label smoothing where there is none."""
DECAY = 0.05
"""Weight decay where there is less."""
FASTER, FASTEST = 3.0, 0.01
"""Times the learning rate from which a cosine falls, and the highest that it begins with."""
SLOWER, SLOWEST = 1 / 3, 1e-5
"""Times the learning rate, and the lowest that is offered; `FASTER` and `FASTEST` are the same for a higher one."""
LONGEST = 400
"""Epochs beyond which nobody is told to train longer."""
LARGER, LARGEST = 1.5, 256
"""Times the input size, and the largest."""
PLACES = ("flip", "rotate", "rotate 90")
"""Augmentation steps that change what is up, or left."""
DEEPER = ("three double blocks", "normalised blocks", "residual")
"""Starting networks that are tried, in this order; what has normalisation already goes on with the next."""


@dataclass(frozen=True)
class Change:
    """A change of settings.

    Attributes
    ----------
    kind : str
        Its name.
    words : callable
        What to do, a sentence, from the changed plan and the one before.
    make : callable
        The changed plan; None where there is nothing to change. The second argument is the side of the files, pixels.
    """

    kind: str
    words: Callable[[Plan, Plan], str]
    make: Callable[[Plan, int], Plan | None]


def _longer(plan: Plan, _side: int) -> Plan | None:
    epochs = 2 * plan.training.epochs
    return plan.changed({"training.epochs": epochs, "stopping.patience": 0}) if epochs <= LONGEST else None


def _cosine(plan: Plan, _side: int) -> Plan | None:
    if not isinstance(plan.schedule, Constant):
        return None
    rate = float(f"{min(FASTEST, FASTER * plan.optimiser.learning_rate):.2g}")
    return plan.changed({"schedule": "cosine", "optimiser.learning_rate": max(rate, plan.optimiser.learning_rate)})


def _slower(plan: Plan, _side: int) -> Plan | None:
    rate = float(f"{SLOWER * plan.optimiser.learning_rate:.2g}")
    return plan.changed({"optimiser.learning_rate": rate}) if rate >= SLOWEST else None


def _faster(plan: Plan, _side: int) -> Plan | None:
    rate = float(f"{FASTER * plan.optimiser.learning_rate:.2g}")
    return plan.changed({"optimiser.learning_rate": rate}) if rate <= FASTEST else None


def _no_turning(plan: Plan, _side: int) -> Plan | None:
    left = tuple(step for step in plan.augmentation if step.kind not in PLACES)
    return plan.with_augmentation(left) if len(left) < len(plan.augmentation) else None


def _plain(plan: Plan, _side: int) -> Plan | None:
    return plan.with_augmentation(()) if plan.augmentation else None


def _stronger(plan: Plan, _side: int) -> Plan | None:
    known = {step.kind for step in plan.augmentation}
    more = tuple(step for step in (Scale(range=(0.8, 1.25)), Contrast(), Erasing()) if step.kind not in known)
    return plan.with_augmentation((*plan.augmentation, *more)) if more else None


def _network(name: str) -> Callable[[Plan, int], Plan | None]:
    def make(plan: Plan, _side: int) -> Plan | None:
        kinds = {type(node.layer) for node in plan.network.nodes}
        if plan.base is not None or (name == DEEPER[0] and kinds & {BatchNormalisation, GroupNormalisation}):
            return None
        changed = plan.changed({"network": name})
        return changed if changed.network != plan.network else None

    return make


def _smoothed(plan: Plan, _side: int) -> Plan | None:
    smoothing = getattr(plan.loss, "label_smoothing", None)
    return plan.changed({"loss.label_smoothing": SMOOTHED}) if smoothing == 0 else None


def _decayed(plan: Plan, _side: int) -> Plan | None:
    return plan.changed({"optimiser.weight_decay": DECAY}) if plan.optimiser.weight_decay < DECAY / 2 else None


def _larger(plan: Plan, side: int) -> Plan | None:
    size = min(plan.preprocessing.sides)
    larger = min(round(LARGER * size), side, LARGEST)
    if plan.base is not None or plan.preprocessing.keeps_scale or larger < 1.25 * size:
        return None
    return plan.changed({"preprocessing.input_size": plan.preprocessing.sized(larger)})


def _averaged(plan: Plan, _side: int) -> Plan | None:
    if plan.averaging.kind != "none":
        return None
    return plan.changed({"averaging": "exponential moving average"})


def _epochs(after: Plan, before: Plan) -> str:
    return f"Train {after.training.epochs} epochs in place of {before.training.epochs}."


def _falling(after: Plan, _before: Plan) -> str:
    return f"Let the learning rate fall from {after.optimiser.learning_rate:g} along a cosine."


def _at_rate(after: Plan, before: Plan) -> str:
    return f"Set the learning rate to {after.optimiser.learning_rate:g} in place of {before.optimiser.learning_rate:g}."


def _without(after: Plan, before: Plan) -> str:
    gone = [step.kind for step in before.augmentation if step not in after.augmentation]
    return f"Leave {' and '.join(gone)} out of the augmentation."


def _with(after: Plan, before: Plan) -> str:
    more = [step.kind for step in after.augmentation if step not in before.augmentation]
    return f"Augment with {', '.join(more)} besides."


CHANGES: dict[str, Change] = {
    change.kind: change
    for change in (
        Change("longer", _epochs, _longer),
        Change("falling rate", _falling, _cosine),
        Change("higher rate", _at_rate, _faster),
        Change("lower rate", _at_rate, _slower),
        Change("nothing turned", _without, _no_turning),
        Change("no augmentation", lambda *_: "Train on the images as they are, without augmentation.", _plain),
        Change("more augmentation", _with, _stronger),
        *(
            Change(name, lambda after, _, name=name: f"Take the network «{name}».", _network(name))  # type: ignore[misc]
            for name in DEEPER
        ),
        Change("label smoothing", lambda *_: f"Smooth the labels by {SMOOTHED:g}.", _smoothed),
        Change("weight decay", lambda *_: f"Use weight decay {DECAY:g}.", _decayed),
        Change("averaged weights", lambda *_: "Average the weights over the last epochs.", _averaged),
        Change("larger input", lambda after, _: f"Show images of {after.preprocessing.size_in_words} pixels.", _larger),
    )
}
"""Every change by its name."""
