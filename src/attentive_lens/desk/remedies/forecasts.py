"""What a remedy should gain: from a short trial, by what such trials were worth before; and what came of it."""

from __future__ import annotations

import contextlib
import hashlib
import json
import math
from collections.abc import Mapping, Sequence
from dataclasses import asdict, dataclass, replace
from functools import lru_cache

from attentive_lens.core.files import write_text
from attentive_lens.desk.remedies.trials import better
from attentive_lens.desk.requests.remedies import Forecast, NextStep
from attentive_lens.desk.training.runs import RunReader
from attentive_lens.errors import LensError
from attentive_lens.plan.plan import Plan
from attentive_lens.training.figures import Figures
from attentive_lens.workspace import Run, Workspace

FILE, USED = "forecasts.json", "forecasts-used.json"
"""Forecasts that stand on a trial for the run, and those of remedies that were used without one."""
USUAL = 0.5
"""Part of the images that was wrong, about, where `EXPERIENCE` was gathered."""
WITHIN = 0.8
"""Part of the outcomes that an interval should hold."""
Z = 1.2816
"""Standard deviations to either side that hold so much of a normal distribution."""
CARRIED, CARRIED_SPREAD = 0.6, 0.015
"""Part of a forecast that holds for another run of the workspace, and how far it may be off besides."""
TOGETHER = 0.7
"""Part of the sum of their gains that several remedies bring together."""
SEED = 0.02
"""Standard deviation of a run's accuracy by its seed, about."""


@dataclass(frozen=True)
class Experience:
    """What a kind of change was worth where it was trained in full.

    Attributes
    ----------
    mean, spread : float
        Of the gains over the sets, in the measure's own unit: parts of the images, 0–1.
    trial : float
        What its trials gain in the mean: what learns faster is ahead after a few epochs, and what only pays at the end
        of a run is behind.
    slope : float
        Part of what a trial gains beyond that, that the whole training kept.
    rest : float
        Standard deviation of gains about that.
    """

    mean: float
    spread: float
    trial: float = 0.0
    slope: float = 0.35
    rest: float = 0.02

    def seen(self, gain: float) -> float:
        """What a trial's gain alone would say."""
        return self.mean + self.slope * (gain - self.trial)


ANY = Experience(0.0, 0.02)
"""Of a change of which nothing is known."""
EXPERIENCE: dict[str, Experience] = {
    "longer": Experience(0.035, 0.03, 0.04),
    "falling rate": Experience(0.01, 0.03, -0.01),
    "higher rate": Experience(0.02, 0.04, -0.003),
    "lower rate": Experience(-0.01, 0.03),
    "nothing turned": Experience(0.01, 0.025, 0.02),
    "no augmentation": Experience(0.02, 0.03, 0.014),
    "more augmentation": Experience(-0.015, 0.02, -0.004),
    "three double blocks": Experience(0.01, 0.03, -0.013, slope=0.6),
    "normalised blocks": Experience(0.05, 0.04, 0.03, slope=0.5, rest=0.03),
    "residual": Experience(0.03, 0.04, 0.02, slope=0.5, rest=0.03),
    "label smoothing": Experience(0.005, 0.02, 0.016),
    "weight decay": Experience(0.006, 0.02, 0.013),
    "averaged weights": Experience(-0.005, 0.02, 0.01),
    "together": Experience(0.05, 0.04, 0.05, slope=0.6),
}
"""By kind of change, in accuracy: from trainings in full and their trials on three sets of real pictures
(`benchmarks/real/experience.py`); how well they hold on others tells `following.py` there."""


def forecast(
    kind: str, value: float, trial: Figures, control: Figures, measure: str, images: int, epochs: int, run: int
) -> Forecast | None:
    """Experience with such changes, moved by the trial as far as that can be trusted.

    A normal distribution about the experience is multiplied with the likelihood of the trial's gain; the limits allow
    for what the outcome itself will vary by: the seed, and so few images. What there is to gain is less where little
    is wrong: experience is that of sets of which `USUAL` is.

    Parameters
    ----------
    kind
        Of the change, in `EXPERIENCE`.
    value
        The measure after the run itself, 0–1.
    trial, control
        Figures after the short training of the remedy, and of the plan as it is.
    measure, images, epochs, run
        Which measure, how many validation images, epochs of the control, and the run's number.

    Returns
    -------
    Forecast or None
        None where a training did not know the measure.
    """
    one, other = trial.of(measure), control.of(measure)
    if one is None or other is None:
        return None
    known, room = EXPERIENCE.get(kind, ANY), min(1.0, (1 - value) / USUAL)
    noise = math.hypot(_chance(other, images), SEED)  # of a difference on the same images, which go half together
    seen = room * known.seen(one - other)
    variance = room**2 * ((known.slope * noise) ** 2 + known.rest**2)
    spread = room**2 * known.spread**2
    weight = spread / max(1e-12, spread + variance)
    gain = min(room * known.mean + weight * (seen - room * known.mean), 1 - value)
    reach = Z * math.sqrt(weight * variance + _chance(value, images) ** 2 + (room * SEED) ** 2)
    return Forecast(measure, gain, gain - reach, min(gain + reach, 1 - value), one, other, epochs, kind, run)


def _chance(part: float, images: int) -> float:
    """Standard error of a part of so many images; where all or none is right, that of half an image."""
    count = max(1, images)
    bounded = min(1 - 0.5 / count, max(0.5 / count, part))
    return math.sqrt(bounded * (1 - bounded) / count)


def borrowed(made: Forecast, value: float) -> Forecast:
    """For another run, that came to a value, than the one it was tried for: less of it, and less sure."""
    gain = min(CARRIED * made.gain, 1 - value)
    reach = math.hypot((made.high - made.low) / 2, Z * CARRIED_SPREAD)
    return replace(made, gain=gain, low=gain - reach, high=min(gain + reach, 1 - value))


def together(made: Sequence[Forecast], value: float) -> Forecast:
    """Of several remedies at once, for a run that came to a value: less than their sum, for some do the same."""
    first = made[0]
    gain = min(TOGETHER * sum(each.gain for each in made), 1 - value)
    reach = math.sqrt(sum(((each.high - each.low) / 2) ** 2 for each in made))
    trial = first.control + sum(each.trial - each.control for each in made)
    high = min(gain + reach, 1 - value)
    return replace(first, gain=gain, low=gain - reach, high=high, trial=trial, kind="together")


@dataclass(frozen=True)
class Outcome:
    """A forecast whose remedy was trained: what it gained, in which run."""

    forecast: Forecast
    run: int
    gain: float

    @property
    def within(self) -> bool:
        """Whether it came to lie between the limits."""
        return self.forecast.low <= self.gain <= self.forecast.high


def digest_of(plan: Plan) -> str:
    """The same for plans that are alike but for name and seed."""
    alike = replace(plan, name="plan", seed=0).write()
    return hashlib.sha256(json.dumps(alike, sort_keys=True).encode()).hexdigest()[:24]


def keep_forecasts(run: Run, forecasts: Mapping[str, Forecast], file: str = FILE) -> None:
    """Note what remedies should gain, by the digests of their plans; what was forecast first stays.

    Raises
    ------
    BadFile
        If the run's folder cannot be written.
    """
    table = {digest: asdict(made) for digest, made in {**forecasts, **kept_forecasts(run, file)}.items()}
    write_text(run.folder / file, json.dumps(table, indent=1))


def kept_forecasts(run: Run, file: str = FILE) -> dict[str, Forecast]:
    """By the digest of the remedy's plan; none where they cannot be read."""
    try:
        table = json.loads((run.folder / file).read_text("utf-8"))
        return {str(digest): Forecast(**row) for digest, row in table.items()}
    except (OSError, ValueError, TypeError, AttributeError):
        return {}


def note_use(workspace: Workspace, number: int, step: NextStep) -> None:
    """Note what was expected of a remedy that is used, so that it can be held against what comes.

    Where the run cannot be written nothing is noted: using it must not fail by that.
    """
    if step.plan is not None and step.forecast is not None and workspace.writable:
        with contextlib.suppress(LensError):
            digest = digest_of(Plan.read(step.plan))
            keep_forecasts(workspace.run(number), {digest: step.forecast}, USED)


class Tried:
    """The runs of a workspace by what they trained, so that it can be said what became of a remedy.

    Parameters
    ----------
    workspace : Workspace
        As it is now.
    """

    def __init__(self, workspace: Workspace) -> None:
        self.runs: dict[str, list[Run]] = {}
        for run in workspace.runs():
            with contextlib.suppress(LensError):
                self.runs.setdefault(_digest_of(run), []).append(run)

    def gained(self, run: Run, digest: str, measure: str) -> tuple[int, float] | None:
        """What a run of a plan gained over another, after its number: the last with its seed, else the last of all.

        None where it was not trained. Another seed may judge by other images.
        """
        others = [other for other in self.runs.get(digest, ()) if other != run]
        before = RunReader(run).view().best if others else None
        if before is None or before.validation is None:
            return None
        seed = run.plan().seed
        for other in sorted(others, key=lambda each: (each.plan().seed == seed, each.number), reverse=True):
            view = RunReader(other).view()
            best = view.best
            if view.state == "done" and not view.rates and best is not None and best.validation is not None:
                gain = better(measure, best.validation, before.validation)
                if gain is not None:
                    return other.number, gain
        return None

    def forecasts(self, but: Run) -> dict[str, Forecast]:
        """The latest of other runs, by the kind of the remedy."""
        runs = sorted((run for runs in self.runs.values() for run in runs if run != but), key=lambda run: run.number)
        return {made.kind: made for run in runs for made in kept_forecasts(run).values()}

    def outcomes(self) -> tuple[Outcome, ...]:
        """All forecasts whose remedies were trained."""
        result = []
        for run in (run for runs in self.runs.values() for run in runs):
            for digest, made in {**kept_forecasts(run, USED), **kept_forecasts(run)}.items():
                came = self.gained(run, digest, made.measure)
                if came is not None:
                    result.append(Outcome(made, *came))
        return tuple(result)


@lru_cache(4096)
def _digest_of(run: Run) -> str:
    """Of the plan of a run, which never changes."""
    return digest_of(run.plan())


def calibration(results: tuple[Outcome, ...]) -> str:
    """How good the forecasts were so far, in a sentence; empty without outcomes."""
    if not results:
        return ""
    inside = sum(each.within for each in results)
    off = sum(each.gain - each.forecast.gain for each in results) / len(results)
    were = "forecast was" if len(results) == 1 else "forecasts were"
    return (
        f"{len(results)} {were} put to the test here: {inside} came to lie within their limits, where {WITHIN:.0%}"
        f" should; in the mean remedies gained {abs(off) * 100:.1f} points {'more' if off >= 0 else 'less'} than"
        " expected."
    )
