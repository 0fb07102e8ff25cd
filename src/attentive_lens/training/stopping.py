"""Whether a run has come to its end by one of its rules."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass

from attentive_lens.core.extensions import Parts, raising
from attentive_lens.errors import BadFile, LensError
from attentive_lens.plan.measures import MEASURES
from attentive_lens.plan.stopping import NO_RULE, Stopping


@dataclass(frozen=True)
class Course:
    """What a run has come to.

    Attributes
    ----------
    batches : int
        Done.
    seconds : float
        Of training, pauses not counted.
    history : sequence of mappings
        Of every epoch, its figures by measure under ``training`` and ``validation``; without the latter where it was
        not evaluated.
    """

    batches: int
    seconds: float
    history: Sequence[Mapping[str, Mapping[str, float]]] = ()


def out_of_patience(rules: Stopping, course: Course) -> str:
    """No better value for as many epochs as patience allows; epochs without an evaluation count."""
    if not rules.patience:
        return ""
    measure, best, since = MEASURES[rules.patience_measure], None, 0
    for figures in course.history:
        since += 1
        value = figures.get("validation", {}).get(measure.name)
        if value is None:
            continue
        gain = rules.least_gain if measure.higher else -rules.least_gain
        if best is None or measure.better(value, best + gain):
            best, since = value, 0
    if since < rules.patience:
        return ""
    return f"early stopping: the validation {measure.label} has not become better for {since} epochs"


def target(rules: Stopping, course: Course) -> str:
    """The measure of the last epoch is there."""
    if not rules.target or not course.history:
        return ""
    measure = MEASURES[rules.target_measure]
    value = course.history[-1].get(rules.target_set, {}).get(measure.name)
    if value is None or measure.better(rules.target, value):
        return ""
    return f"target reached: the {rules.target_set} {measure.label} is {value:.4g}, asked was {rules.target:g}"


def time_limit(rules: Stopping, course: Course) -> str:
    """So many minutes were trained."""
    over = rules.minutes and course.seconds >= rules.minutes * 60
    return f"time limit: {rules.minutes:g} minutes of training are over" if over else ""


def batch_limit(rules: Stopping, course: Course) -> str:
    """So many batches were trained."""
    over = rules.batches and course.batches >= rules.batches
    return f"batch limit: {rules.batches} batches are done" if over else ""


RULES: Parts[Callable[[Course, float], str]] = Parts(
    {}, "training.stopping", raising, lambda thing: thing if callable(thing) else None
)
"""Rules that packages bring: what a run has come to, and the rule's value; why it ends, or nothing."""


def further_rule(rules: Stopping, course: Course) -> str:
    """What a package's rule says."""
    if rules.rule == NO_RULE:
        return ""
    try:
        return str(RULES[rules.rule](course, rules.rule_value) or "")
    except LensError:
        raise
    except Exception as error:  # noqa: BLE001  # it is somebody else's code: whatever it raises is told
        why = f"{type(error).__name__}: {error}"[:300]
        raise BadFile(f"The stop rule «{rules.rule}» failed", why, "Mend the package that brings it") from None


WITHIN_EPOCHS: tuple[Callable[[Stopping, Course], str], ...] = (time_limit, batch_limit)
"""Rules asked after every batch."""
AFTER_EPOCHS: tuple[Callable[[Stopping, Course], str], ...] = (target, out_of_patience, further_rule)
"""Rules asked after every epoch."""


def ended(
    rules: Stopping,
    course: Course,
    checks: tuple[Callable[[Stopping, Course], str], ...] = WITHIN_EPOCHS + AFTER_EPOCHS,
) -> str:
    """Why a run is at its end by one of these rules; nothing if it is not."""
    return next(filter(None, (rule(rules, course) for rule in checks)), "")
