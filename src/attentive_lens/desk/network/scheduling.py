"""The learning rate over a run as a curve, and what its handles change in the plan."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

from attentive_lens.engine.schedules import At, learning_rate_factor
from attentive_lens.errors import LensError
from attentive_lens.plan.plan import Plan

POINTS = 240


@dataclass(frozen=True)
class Handle:
    """A point of the curve that can be dragged.

    Attributes
    ----------
    key : str
        The setting it changes, dotted.
    epoch, rate : float
        Where it stands.
    across : bool
        Whether it is dragged along the epochs, and not up and down.
    """

    key: str
    epoch: float
    rate: float
    across: bool


def rates_over(plan: Plan, batches: int) -> tuple[tuple[float, float], ...]:
    """The learning rate of steps spread over the run, by epochs; as if no plateau came.

    Parameters
    ----------
    plan : Plan
        Whose optimiser and schedule.
    batches : int
        Of an epoch.
    """
    whole = plan.training.epochs * batches
    total = min(whole, plan.stopping.batches) if plan.stopping.batches else whole
    steps = sorted({round(k * (total - 1) / POINTS) for k in range(POINTS + 1)})
    rate = plan.optimiser.learning_rate
    return tuple((step / batches, rate * _factor(plan, step, batches)) for step in steps)


def _factor(plan: Plan, step: int, batches: int) -> float:
    return learning_rate_factor(plan.schedule, At(step, batches, plan.training.epochs, (), plan.stopping.batches))


def handles(plan: Plan, batches: int) -> tuple[Handle, ...]:
    """What can be dragged of the curve: the learning rate, the warm-up's end, and what the schedule has."""
    curve, schedule, rate = rates_over(plan, batches), plan.schedule, plan.optimiser.learning_rate
    last, epochs = curve[-1][0], plan.training.epochs
    settings = schedule.specs()
    result = [Handle("schedule.warmup_epochs", min(last, schedule.warmup_epochs), rate, True)]
    if "step_size" in settings:
        result.append(Handle("schedule.step_size", min(last, float(getattr(schedule, "step_size", 0.0))), rate, True))
    if "rise" in settings:
        result.append(Handle("schedule.rise", last * float(getattr(schedule, "rise", 0.0)), rate, True))
    where = last * (0.6 if "rise" in settings else 0.2)  # where no other handle stands
    at = min(curve, key=lambda point: abs(point[0] - where))
    result.append(Handle("optimiser.learning_rate", at[0], at[1], False))
    if "final_factor" in settings:
        result.append(Handle("schedule.final_factor", last, curve[-1][1], False))
    elif schedule.kind == "exponential" and epochs > 1:
        result.append(Handle("schedule.gamma", last, curve[-1][1], False))
    return tuple(result)


def dragged(plan: Plan, handle: Handle, epoch: float, rate: float) -> Plan:
    """The plan with a handle at another place; as it was where that is not allowed."""
    peak, epochs = plan.optimiser.learning_rate, plan.training.epochs
    values: dict[str, Callable[[], float]] = {
        "schedule.warmup_epochs": lambda: round(max(0.0, epoch) * 2) / 2,
        "schedule.step_size": lambda: max(0.5, round(epoch * 2) / 2),
        "schedule.rise": lambda: round(min(0.95, max(0.02, epoch / epochs)), 2),
        "optimiser.learning_rate": lambda: two_digits(peak * rate / max(handle.rate, 1e-12)),
        "schedule.final_factor": lambda: two_digits(min(1.0, max(1e-4, rate / peak))),
        "schedule.gamma": lambda: round(min(1.0, max(0.01, rate / peak)) ** (1 / max(1, epochs)), 3),
    }
    try:
        return plan.changed({handle.key: values[handle.key]()})
    except LensError:
        return plan


def two_digits(number: float) -> float:
    """Rounded to two digits."""
    return float(f"{number:.2g}")


def scaled_rate(plan: Plan, before: int) -> float | None:
    """The learning rate that goes with a changed batch size; None where it stays.

    In proportion for plain descent (Goyal 2017, section 2.1), by the square root for optimisers that divide by the
    gradient's own size (Krizhevsky 2014, section 5).

    Parameters
    ----------
    plan : Plan
        With the new batch size.
    before : int
        The old one.
    """
    power = 1.0 if plan.optimiser.kind == "sgd" else 0.5
    rate = two_digits(plan.optimiser.learning_rate * (plan.training.batch_size / before) ** power)
    return rate if rate != plan.optimiser.learning_rate and 1e-8 <= rate <= 10 else None
