"""The request for what to do next after a run."""

from __future__ import annotations

from dataclasses import dataclass
from typing import ClassVar

from attentive_lens.core.records import PlainTable
from attentive_lens.core.telling import Rows, Words, signed
from attentive_lens.core.values import spec
from attentive_lens.desk.requests.base import Request
from attentive_lens.plan.difference import Difference
from attentive_lens.plan.measures import MEASURES

MOST = 6
"""Remedies that are tried unless another number is named."""


@dataclass(frozen=True)
class Forecast:
    """What a remedy should gain over the run, of the measure that its plan chooses its best epoch by.

    Attributes
    ----------
    measure : str
        Of `plan.measures`, where more is better.
    gain, low, high : float
        Expected, and between which limits four of five outcomes should lie, in the measure's unit.
    trial, control : float
        The measure after the short training of the remedy and of the plan as it is.
    epochs : int
        Of the control's short training.
    kind : str
        What it changes, see `NextStep.change`.
    run : int
        The run for which it was tried: another one than the list's where that is all there is to go by.
    """

    measure: str
    gain: float
    low: float
    high: float
    trial: float
    control: float
    epochs: int
    kind: str
    run: int

    @property
    def helps(self) -> bool:
        """Whether it is more likely to help than not."""
        return self.gain > 0

    @property
    def words(self) -> str:
        """In figures: «+2.1 (−0.3 to +4.5)», in points."""
        return f"{points(self.gain)} ({points(self.low)} to {points(self.high)})"


@dataclass(frozen=True)
class NextStep:
    """A remedy, prepared: where it comes from, what it changes, and what it should gain.

    Attributes
    ----------
    kind : str
        The trouble by its name in `training.advice`, the cause by that in `explaining.causes`, or the change by that
        in `remedies.changes`.
    source : str
        "advice", "causes" or "settings", as the three are named above; "together" for several remedies at once.
    epoch : int
        From which on there is trouble, from 1; 0 where it is no epoch's.
    remedy : str
        What to do, a sentence.
    evidence, meaning : str
        The figures it is seen by, without a full stop, and what they mean, sentences; empty where it is only often
        worth a try.
    expected : str
        What it should bring, in words; empty where that is said by the forecast alone.
    change : str
        The change of settings that it amounts to, by its name in `remedies.changes`; its own kind where it is none.
    changes : tuple of Difference
        In the plan.
    plan : dict or None
        With the remedy in it; None where it is nothing that a plan decides.
    seconds : float or None
        About how long it trains; None where that is not known.
    forecast : Forecast or None
        None where it was not tried.
    tried : bool
        Whether the forecast stands on a trial for this very run.
    problem : str
        Why it cannot be tried, or why its trial failed; empty where it can.
    run : int or None
        The run that trained it, whatever its seed.
    gain : float or None
        What that gained over this run, in the unit of its measure.
    effect : str
        The same in words.
    """

    kind: str
    source: str
    epoch: int
    remedy: str
    evidence: str
    meaning: str
    expected: str
    change: str
    changes: tuple[Difference, ...]
    plan: PlainTable | None
    seconds: float | None = None
    forecast: Forecast | None = None
    tried: bool = False
    problem: str = ""
    run: int | None = None
    gain: float | None = None
    effect: str = ""

    @property
    def can_be_tried(self) -> bool:
        """Whether a trial could tell something that is not known yet."""
        return self.plan is not None and not self.tried and self.run is None and not self.problem

    @property
    def verdict(self) -> str:
        """What is known of its gain, short."""
        if self.gain is not None:
            return f"gained {points(self.gain)}"
        if self.forecast is not None:
            measure = "" if self.forecast.measure == "accuracy" else f" {MEASURES[self.forecast.measure].label}"
            of = "" if self.tried or self.source == "together" else f", as for run {self.forecast.run}"
            return f"{self.forecast.words}{measure}{of}" + ("" if self.forecast.helps else ": not expected to help")
        return "not tried" if self.plan is not None and not self.problem else "–"


@dataclass(frozen=True)
class NextSteps:
    """What to do next after a run, what should gain most first.

    Attributes
    ----------
    run : int
        Its number.
    state : str
        How it stands.
    measure : str
        What its plan chooses the best epoch by.
    value : float or None
        That, of the best epoch; None without a validation set.
    images : int
        Validation images.
    steps : tuple of NextStep
        Expected to help, not tried, not expected to help, and what no plan decides.
    seconds : float
        About how long trials of the next `MOST` remedies take that were not tried.
    calibration : str
        How good forecasts were in this workspace, a sentence; empty where none was put to the test.
    under_way : int
        Trials that are still to come of those that were asked for.
    plain : float or None
        Part of the same validation images that a classifier on plain features has right, learned from the same training
        images; None until remedies were tried.
    accuracy : float or None
        That of the run; None without a validation set.
    """

    run: int
    state: str
    measure: str
    value: float | None
    images: int
    steps: tuple[NextStep, ...]
    seconds: float = 0.0
    calibration: str = ""
    under_way: int = 0
    plain: float | None = None
    accuracy: float | None = None

    @property
    def comparison(self) -> str:
        """What the run has learned beside what needs no network, in a sentence; empty where that is not known."""
        if self.plain is None or self.accuracy is None:
            return ""
        words = f"A classifier on plain features has {self.plain:.1%} of the same images right"
        if self.plain > self.accuracy:
            return f"{words}, this run {self.accuracy:.1%}: it has not learned what needs no network yet."
        return f"{words}, this run {self.accuracy:.1%}."

    def words(self) -> Words:
        """Trouble first, then all steps as a table, and how far forecasts can be trusted."""
        for step in self.steps:
            if step.source in ("advice", "causes"):
                since = f" from epoch {step.epoch}" if step.epoch else ""
                yield f"{step.kind}{since}: {step.evidence}. {step.meaning}".rstrip()
                if step.effect:
                    yield f"  {step.effect}"
        if self.value is not None and self.steps:
            yield f"What to do next after run {self.run} ({MEASURES[self.measure].label} {self.value:.1%}), in points:"
        if self.comparison:
            yield self.comparison
        rows = [(f"{k}", step.remedy, step.verdict, step.kind) for k, step in enumerate(self.steps, 1)]
        if rows:
            yield Rows(("", "remedy", "expected gain", "because of"), tuple(rows))
        problems = dict.fromkeys(f"«{step.kind}»: {step.problem}" for step in self.steps if step.problem)
        yield from problems
        left = sum(step.can_be_tried for step in self.steps)
        if left and self.state != "training":
            some = min(left, MOST)
            yield f"{left} were not tried: --try {some} trains {some} of them for a short while{_about(self.seconds)}."
        if self.calibration:
            yield self.calibration
        if not self.steps:
            yield f"There is nothing to advise of run {self.run}."


@dataclass(frozen=True)
class WhatNext(Request[NextSteps]):
    """List what to do next after a run: remedies for its trouble and its mistakes, and what is often worth a try."""

    result: ClassVar[type[object]] = NextSteps
    task: ClassVar[str] = "remedies.what_next"
    doing: ClassVar[str] = "trying remedies"
    workspace: str
    run: int
    tries: int = spec(
        0,
        label="try",
        low=0,
        high=100,
        meaning="Train so many remedies and the plan as it is for a part of the epochs: what should each gain?",
    )


def points(part: float) -> str:
    """A part of one as points with its sign."""
    value = round(100 * part, 1)
    return signed(value, ".1f") if value else "0.0"


def _about(seconds: float) -> str:
    if not seconds:
        return ""
    return f" (about {seconds:.0f} s)" if seconds < 90 else f" (about {seconds / 60:.0f} min)"
