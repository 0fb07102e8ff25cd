"""The learning-rate schedules' settings. To add one: a class and a line here, a function and a line in the engine."""

from __future__ import annotations

from dataclasses import dataclass
from typing import ClassVar

from attentive_lens.core.extensions import take_kinds
from attentive_lens.core.values import Kind, spec


@dataclass(frozen=True)
class ScheduleSettings(Kind):
    """Base of the schedules' settings."""

    section: ClassVar[str] = "schedule"
    needs_validation: ClassVar[bool] = False
    """Whether it follows the validation loss."""

    warmup_epochs: float = spec(
        0.0,
        label="warm-up",
        unit="epochs",
        low=0.0,
        high=1e5,
        meaning="Epochs over which the learning rate rises from zero.",
        ends="Usual: 0 to 5. At 0 the first steps are the largest; as long as the run, the rate never gets there.",
    )


@dataclass(frozen=True)
class Constant(ScheduleSettings):
    """Never changes."""

    kind: ClassVar[str] = "constant"
    idea: ClassVar[str] = "The learning rate stays as it is."


@dataclass(frozen=True)
class Step(ScheduleSettings):
    """Falls after every so many epochs."""

    kind: ClassVar[str] = "step"
    idea: ClassVar[str] = "The learning rate falls by a factor after every so many epochs."

    step_size: float = spec(
        10.0,
        label="step size",
        unit="epochs",
        low=0.01,
        high=1e5,
        meaning="Epochs from one fall to the next.",
        ends="Usual: a third of the run. Shorter: the rate is gone early; longer than the run: it never falls.",
    )
    gamma: float = spec(
        0.1,
        label="gamma",
        low=0.0001,
        high=1.0,
        meaning="Factor of each fall.",
        ends="Usual: 0.1 to 0.5. At 1 nothing falls; small ones stop learning at once.",
    )


@dataclass(frozen=True)
class Exponential(ScheduleSettings):
    """Falls evenly."""

    kind: ClassVar[str] = "exponential"
    idea: ClassVar[str] = "The learning rate falls a little with every batch, by a factor each epoch."

    gamma: float = spec(
        0.95,
        label="gamma",
        low=0.0001,
        high=1.0,
        meaning="Factor of an epoch.",
        ends="Usual: 0.9 to 0.98. At 1 nothing falls; at 0.5 it is a thousandth after ten epochs.",
    )


@dataclass(frozen=True)
class Cosine(ScheduleSettings):
    """Half a cosine."""

    kind: ClassVar[str] = "cosine"
    idea: ClassVar[str] = "The learning rate falls along half a cosine over the whole run (cosine annealing)."

    final_factor: float = spec(
        0.001,
        label="final factor",
        low=0.0,
        high=1.0,
        meaning="Part of the learning rate left at the end.",
        ends="Usual: 0 to 0.01. At 1 nothing falls; at 0 the last steps change nothing.",
    )


@dataclass(frozen=True)
class OneCycle(ScheduleSettings):
    """Up and down once."""

    kind: ClassVar[str] = "one cycle"
    idea: ClassVar[str] = "The learning rate rises along a cosine and falls along one, once over the whole run."

    rise: float = spec(
        0.3,
        label="rise",
        low=0.01,
        high=0.99,
        meaning="Part of the run in which it rises.",
        ends="Usual: 0.2 to 0.4. Short: the peak comes before the weights are ready; long: little time to settle.",
    )
    final_factor: float = spec(
        0.001,
        label="final factor",
        low=0.0,
        high=1.0,
        meaning="Part of the learning rate at both ends.",
        ends="Usual: 0.001 to 0.04. At 1 the rate is the same all along.",
    )


@dataclass(frozen=True)
class Plateau(ScheduleSettings):
    """Falls when the validation loss no longer does."""

    kind: ClassVar[str] = "plateau"
    idea: ClassVar[str] = "The learning rate falls by a factor when the validation loss has stopped falling."
    needs_validation: ClassVar[bool] = True

    patience: int = spec(
        10,
        label="patience",
        unit="epochs",
        low=1,
        high=100_000,
        meaning="Epochs without a better loss before a fall.",
        ends="Usual: 5 to 10. Few: chance alone makes it fall; many: the run ends before it does.",
    )
    gamma: float = spec(
        0.1,
        label="gamma",
        low=0.0001,
        high=1.0,
        meaning="Factor of each fall.",
        ends="Usual: 0.1 to 0.5. At 1 nothing falls; small ones stop learning at once.",
    )


SCHEDULES: dict[str, type[ScheduleSettings]] = {
    schedule.kind: schedule
    for schedule in (
        Constant,
        Step,
        Exponential,
        Cosine,
        OneCycle,
        Plateau,
    )
}
take_kinds(SCHEDULES, "plan.schedules", ScheduleSettings)
