"""Runs side by side: what their plans differ in, how good each came to be, and whether that can be chance."""

from __future__ import annotations

import contextlib
import math
import statistics
from collections.abc import Mapping
from dataclasses import dataclass, replace

from attentive_lens.desk.network.design import facts_of
from attentive_lens.desk.results.manifest import Changes, changes, manifest
from attentive_lens.desk.training.advising import advice_of
from attentive_lens.desk.training.runs import RunReader, RunView
from attentive_lens.errors import BadUsage, LensError, NotHere
from attentive_lens.plan.difference import Difference, differences, settings_of
from attentive_lens.plan.plan import Plan
from attentive_lens.scoring.intervals import Z, interval
from attentive_lens.scoring.paired import Paired, in_words, paired
from attentive_lens.scoring.scores import Scores
from attentive_lens.workspace import Run, Workspace

NETWORK = "network"
UNTOLD = ("name",)
"""Keys that no column is made of: they stand in one already."""


@dataclass(frozen=True)
class RunRow:
    """A run in the table of all.

    Attributes
    ----------
    run : int
        Its number.
    name, state : str
        Its own, or that of its plan; how it stands.
    epochs, best_epoch : int
        Finished; the best of them, 0 without any.
    images : int
        Validation images that judged it.
    accuracy, low, high, loss : float or None
        Validation accuracy of the best epoch with its 95 % interval, and the loss; None without a validation set.
    seconds : float
        Of all epochs.
    settings : dict
        What it was trained with, of the settings in which the runs differ, by key.
    advice : str
        Kinds of advice for it, or why it failed.
    note : str
        What somebody wrote down of it.
    pinned : bool
        Whether it stands first.
    rates_changed : bool
        Whether another learning rate was set while it trained.
    main_in_words : str
        Accuracy, or what stands for a run that draws; empty without a validation set.
    """

    run: int
    name: str
    state: str
    epochs: int
    best_epoch: int
    images: int
    accuracy: float | None
    low: float | None
    high: float | None
    loss: float | None
    seconds: float
    settings: dict[str, str]
    advice: str
    note: str = ""
    pinned: bool = False
    rates_changed: bool = False
    main_in_words: str = ""


@dataclass(frozen=True)
class RunsTable:
    """All runs, and the keys of the settings in which they differ."""

    keys: tuple[str, ...]
    rows: tuple[RunRow, ...]


@dataclass(frozen=True)
class RunsCompared:
    """Two runs: what their plans differ in, their rows, what to make of the difference, and image by image.

    All figures are of one set, ``on``; ``images_differ`` says which images the runs saw otherwise.
    """

    one: RunRow
    other: RunRow
    differences: tuple[Difference, ...]
    points: float | None
    chance: float | None
    advice: str
    paired: Paired | None = None
    on: str = "validation"
    images_differ: tuple[str, ...] = ()

    def judged_on(self, one: Scores, other: Scores) -> RunsCompared:
        """Image by image on the set of both scores; of another set than validation all figures are of that set."""
        pairs = paired(one, other)
        if one.on == "validation":
            return replace(self, paired=pairs)
        rows = []
        for row, scores in ((self.one, one), (self.other, other)):
            low, high = scores.measures.overview.accuracy.bounds
            made = replace(row, images=scores.images, accuracy=scores.accuracy, loss=scores.loss, low=low, high=high)
            rows.append(made)
        advice = in_words(pairs, self.one.run, self.other.run)
        return replace(
            self,
            one=rows[0],
            other=rows[1],
            points=pairs.difference,
            chance=None,
            advice=advice,
            paired=pairs,
            on=one.on,
        )


@dataclass(frozen=True)
class Spread:
    """Runs that differ in the seed alone: what their validation accuracies come to.

    Attributes
    ----------
    runs : tuple of int
        Their numbers.
    mean, deviation : float
        Of the best epochs' accuracies; the deviation of single runs about it (n − 1).
    lowest, highest : float
        Of them.
    low, high : float
        95 % interval of the mean, by Student's t (1908).
    advice : str
        The same in a sentence.
    """

    runs: tuple[int, ...]
    mean: float
    deviation: float
    lowest: float
    highest: float
    low: float
    high: float
    advice: str


def spread(workspace: Workspace, plan: Plan) -> Spread | None:
    """Of all done runs whose plans are this one but for seed and name; None of fewer than two."""
    result = [row for row in alike(workspace, plan) if row.accuracy is not None]
    if len(result) < 2:
        return None
    from scipy.stats import t  # only here: little else is slower to load

    values = [row.accuracy for row in result if row.accuracy is not None]
    mean, deviation = statistics.fmean(values), statistics.stdev(values)
    half = float(t.ppf(0.975, len(values) - 1)) * deviation / math.sqrt(len(values))
    low, high = max(0.0, mean - half), min(1.0, mean + half)
    advice = (
        f"{len(values)} runs that differ in the seed alone: {mean:.1%} on average (95 %: {low:.1%} to {high:.1%}), from"
        f" {min(values):.1%} to {max(values):.1%}. Single runs lie {deviation * 100:.1f} points about it: less than"
        f" {2 * math.sqrt(2) * deviation * 100:.1f} points between two runs may be the seed."
    )
    return Spread(tuple(row.run for row in result), mean, deviation, min(values), max(values), low, high, advice)


def seeds_in_words(workspace: Workspace, plan: Plan) -> str:
    """How far apart single runs of a plan come by their seeds; empty of fewer than two."""
    values = [row.accuracy for row in alike(workspace, plan) if row.accuracy is not None]
    if len(values) < 2:
        return ""
    apart = 2 * math.sqrt(2) * statistics.stdev(values) * 100
    return (
        f"{len(values)} runs of this plan differ in the seed alone and lie between {min(values):.1%} and"
        f" {max(values):.1%}: less than {apart:.1f} points between two runs may be the seed."
    )


def alike(workspace: Workspace, plan: Plan) -> tuple[RunRow, ...]:
    """Runs that are done and whose plans are this one but for seed and name."""
    result = []
    for run in workspace.runs():
        with contextlib.suppress(LensError):
            if run.plan().is_like(plan):
                result.append(row_of(workspace, run))
    return tuple(row for row in result if row.state == "done" and not row.rates_changed)


def free_seed(workspace: Workspace, plan: Plan) -> int:
    """The plan's seed, or the next that no run of it has."""
    used = set()
    for run in workspace.runs():
        with contextlib.suppress(LensError):
            theirs = run.plan()
            if theirs.is_like(plan):
                used.add(theirs.seed)
    seed = plan.seed
    while seed in used:
        seed += 1
    return seed


def folds_told(workspace: Workspace, plan: Plan) -> str:
    """What the folds of a plan's cross-validation come to together; nothing until all are done."""
    count, done = plan.split.folds, dict[int, RunRow]()
    for run in workspace.runs() if count else ():
        with contextlib.suppress(LensError):
            theirs = run.plan()
            fold = theirs.split.validation_fold
            if replace(theirs, name=plan.name, split=replace(theirs.split, validation_fold=1)) != replace(
                plan, split=replace(plan.split, validation_fold=1)
            ):
                continue
            row = row_of(workspace, run)
            if row.state == "done" and row.accuracy is not None and row.images:
                done[fold] = row
    if not count or len(done) < count:
        return f"{len(done)} of {count} folds are done." if count else ""
    images = sum(row.images for row in done.values())
    accuracy = sum((row.accuracy or 0.0) * row.images for row in done.values()) / images
    low, high = interval(accuracy, images)
    return (
        f"{count} folds together: {accuracy:.1%} of {images} images right (95 %: {low:.1%} to {high:.1%}), each by a"
        " model that never saw it."
    )


def seeds_left(workspace: Workspace, plan: Plan, times: int) -> tuple[int, ...]:
    """Seeds with which a plan is still to be trained to be done so often: first those of interrupted runs of it."""
    left = times - len(alike(workspace, plan))
    seeds = list[int]()
    for run in workspace.runs():
        with contextlib.suppress(LensError):
            if run.plan().is_like(plan) and RunReader(run).view().state in ("stopped", "broken off", "failed"):
                seeds.append(run.plan().seed)
    free = free_seed(workspace, plan)
    while len(seeds) < left:
        seeds.append(free)
        free = free_seed(workspace, replace(plan, seed=free + 1))
    return tuple(dict.fromkeys(seeds))[: max(0, left)]


def runs_table(workspace: Workspace, views: Mapping[int, RunView] | None = None) -> RunsTable:
    """All runs of a workspace in their order; a run whose plan cannot be read has no settings.

    ``views`` of runs, by number, are taken as they are: reading whole journals takes long.
    """
    settings: dict[int, dict[str, str]] = {}
    today = workspace.catalogue.classes()
    for run in workspace.runs():
        with contextlib.suppress(LensError):
            settings[run.number] = _folded(run.plan(), len(run.classes() or today))
    every = list(dict.fromkeys(key for own in settings.values() for key in own))
    keys = tuple(key for key in every if key not in UNTOLD and len({own.get(key) for own in settings.values()}) > 1)
    rows = []
    for run in workspace.runs():
        own = settings.get(run.number, {})
        differing = {key: own.get(key, "–") for key in keys} if own else {}
        rows.append(row_of(workspace, run, differing, (views or {}).get(run.number)))
    return RunsTable(keys, tuple(rows))


def compare(workspace: Workspace, one: int, other: int) -> RunsCompared:
    """Two runs of a workspace.

    Raises
    ------
    LensError
        If there is no such run, or a plan cannot be read.
    """
    if one == other:
        raise BadUsage("A run was not compared", f"run {one} was named twice", "Name two runs")
    first, second = workspace.run(one), workspace.run(other)
    result = differences(first.plan(), second.plan())
    rows = row_of(workspace, first), row_of(workspace, second)
    for row in rows:
        if not row.epochs:
            raise NotHere(f"Run {row.run} cannot be compared", "it has not finished an epoch", "Train it further")
    points, chance, advice = judged(rows[0], rows[1], result)
    saw = [manifest(workspace, run) if run.images() is not None else () for run in (first, second)]
    apart = changes(*saw) if all(saw) else Changes()
    sentences = tuple(apart.words(f"run {one}", f"run {other}"))
    return RunsCompared(*rows, result, points, chance, advice, images_differ=sentences)


def judged(one: RunRow, other: RunRow, result: tuple[Difference, ...]) -> tuple[float | None, float | None, str]:
    """By how much the second is ahead, how far chance alone reaches (95 %), and both in a sentence."""
    if one.accuracy is None or other.accuracy is None or not one.images or not other.images:
        return None, None, "Without validation images nothing tells which is better."
    points = other.accuracy - one.accuracy
    both = (one.accuracy * one.images + other.accuracy * other.images) / (one.images + other.images)
    chance = Z * math.sqrt(
        max(both * (1 - both), 1 / (one.images + other.images)) * (1 / one.images + 1 / other.images)
    )
    ahead = other if points > 0 else one
    apart = f"Run {ahead.run} is {abs(points) * 100:.1f} points ahead" if points else "Both are right equally often"
    reach = f"chance alone reaches {chance * 100:.1f} points on so few images"
    by_seed = [row.key for row in result] == ["seed"]
    if by_seed:
        beyond = f", though so few images account for {chance * 100:.1f} only" if abs(points) > chance else ""
        more = "The plans differ in the seed alone: so far do seeds move this plan. Repeat it before choosing by less."
        return points, chance, f"{apart}{beyond}. {more}"
    if abs(points) <= chance:
        more = "Repeat both with other seeds, or hold more images out, before choosing by it."
        return points, chance, f"{apart}, and {reach}. {more}"
    return points, chance, f"{apart}, more than the {chance * 100:.1f} that chance reaches."


def row_of(
    workspace: Workspace, run: Run, settings: dict[str, str] | None = None, known: RunView | None = None
) -> RunRow:
    """A run as a row of the table; ``settings`` are those in which it differs from others, ``known`` what was read."""
    view = known or RunReader(run).view()
    best = view.best
    validation = best.validation if best is not None else None
    noted = run.images()
    images = noted[1].count("validation") if noted is not None else 0
    about = run.about()
    accuracy = validation.accuracy if validation is not None else None
    low, high = interval(accuracy, images) if accuracy is not None and images else (None, None)
    return RunRow(
        run.number,
        about.name or view.name or _planned_name(run),
        view.state,
        len(view.epochs),
        best.epoch if best is not None else 0,
        images,
        accuracy,
        low,
        high,
        validation.loss if validation is not None else None,
        round(sum(epoch.seconds for epoch in view.epochs), 3),
        settings or {},
        view.error or ", ".join(finding.kind for finding in advice_of(workspace, run, view)),
        about.note,
        about.pinned,
        bool(view.rates),
        validation.main_in_words if validation is not None else "",
    )


def _planned_name(run: Run) -> str:
    """Of a run that has not begun."""
    try:
        return run.plan().name
    except LensError:
        return ""


def _folded(plan: Plan, classes: int) -> dict[str, str]:
    """A plan's settings by key, its network for so many classes in a few words."""
    table = settings_of(plan)
    folded = {key: value for key, value in table.items() if not key.startswith(f"{NETWORK}.")}
    _, facts = facts_of(plan, classes)
    weights = sum(fact.weights for fact in facts)
    return folded | {NETWORK: f"{len(plan.network.nodes)} layers, {weights} weights"}
