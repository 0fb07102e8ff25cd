"""The task that looks for faults, and what it needs to know besides the pictures."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace
from pathlib import Path

import numpy as np
from numpy.typing import NDArray

from attentive_lens.core.jobs import Job, Progress
from attentive_lens.desk.images.data import Data, gather
from attentive_lens.desk.network.usual import in_own_channels
from attentive_lens.desk.requests.images import Fault, FaultAction, FaultsFound, FindFaults, Skipped
from attentive_lens.desk.results.models import model_of_run
from attentive_lens.engine.outputs import OUTPUTS
from attentive_lens.engine.threads import ThreadPool
from attentive_lens.errors import LensError
from attentive_lens.explaining.trials import tried
from attentive_lens.formats.bundle import ModelFile
from attentive_lens.images.faults import FAULTS, Action, Evidence, Finding, find_faults
from attentive_lens.images.faults.base import OWN_CHANNELS
from attentive_lens.images.split import LEFT_OUT, SETS
from attentive_lens.plan.labels import label_set, labels_in, labels_of, of_one
from attentive_lens.plan.plan import Plan
from attentive_lens.predicting import Predictor
from attentive_lens.workspace import Run, Workspace

OF_IMAGES, OF_LABELS = ("duplicates", "tiles", "poor images"), ("marks", "colour", "doubtful labels")
"""Finders for which classes do not matter much, and those that ask what a class goes with: of several labels, each."""
MOST_RUNS = 12
"""Runs asked about labels, the latest first."""
AT_ONCE = 64
TRIED = 96
"""Images with a mark, and images of other classes, on which a model is asked about it."""


def find(request: FindFaults) -> Job[FaultsFound]:
    """See `FindFaults`."""
    place = Workspace.open(Path(request.workspace))
    plan = Plan.read(request.plan) if request.plan is not None else Plan()
    seen = in_own_channels(place, Plan().preprocessing)
    data = yield from gather(place, replace(Plan(), split=plan.split, preprocessing=seen))
    collection = data.collection
    used = np.flatnonzero(np.isin(np.array(collection.sets), (*SETS, LEFT_OUT)))
    finders = request.finders or tuple(FAULTS)
    one_label = not collection.several and "doubtful labels" in finders
    answers = (yield from unseen_answers(place, data)) if one_label else None
    evidence = Evidence(
        data.pixels,
        data.labels[used],
        tuple(collection.sets[k] for k in used),
        tuple(collection.classes),
        np.array([[collection.rows[k].height, collection.rows[k].width] for k in used], np.int64).reshape(-1, 2),
        used,
        None if answers is None else answers[used],
        tuple(collection.rows[k].name for k in used),
        OWN_CHANNELS if seen.channel_names else plan.preprocessing.colour_space,
    )
    if collection.several:
        findings = yield from _of_labels(place, data, evidence, finders)
    else:
        findings = yield from find_faults(evidence, finders)
        findings = yield from with_marks_measured(place, evidence, findings)
    numbers = (used + 1).tolist()
    return FaultsFound(
        tuple(_fault(finding, numbers) for finding in findings),
        tuple(Skipped(file.encode("utf-8", "backslashreplace").decode(), why) for file, why in collection.skipped),
    )


def _of_labels(place: Workspace, data: Data, evidence: Evidence, finders: Sequence[str]) -> Job[list[Finding]]:
    """Findings about images that may have several labels: what is about classes is looked for label by label."""
    collection, used = data.collection, evidence.rows if evidence.rows is not None else np.arange(len(evidence))
    findings = yield from find_faults(evidence, [name for name in finders if name in OF_IMAGES])
    own_finders = [name for name in finders if name in OF_LABELS]
    for label in labels_of(collection.classes) if own_finders else ():
        there = collection.targets([label])[:, 0].astype(np.int64)
        about = replace(data, labels=there[data.labels])
        answers = (yield from unseen_answers(place, about, label)) if "doubtful labels" in own_finders else None
        own_evidence = replace(
            evidence,
            labels=about.labels[used],
            classes=of_one(label),
            answers=None if answers is None else answers[used],
            probing=False,
        )
        own = yield from find_faults(own_evidence, own_finders)
        own = yield from with_marks_measured(place, own_evidence, own, label)
        findings += [with_sets(finding, label, collection.classes, evidence.labels) for finding in own]
    return findings


def with_sets(finding: Finding, label: str, classes: Sequence[str], labels: NDArray[np.int64]) -> Finding:
    """A finding about one label, whose actions give images other sets of labels, of those that some image has."""
    numbers = {name: number for number, name in enumerate(classes)}

    def relabelled(place: int, on: int) -> int | None:
        own = set(labels_in(classes[labels[place]]))
        return numbers.get(label_set(own | {label} if on else own - {label}))

    actions = []
    for action in finding.actions:
        pairs = tuple((place, to) for place, on in action.relabel if (to := relabelled(place, on)) is not None)
        if pairs or not action.relabel:
            actions.append(replace(action, relabel=pairs))
    return replace(finding, why=f"«{label}»: {finding.why}", actions=tuple(actions))


def _answering(run: Run, label: str) -> ModelFile | None:
    """A run's best model, about a label if one is named; None if it draws, or answers otherwise."""
    model = model_of_run(run.about_label(label))
    return None if model.draws or model.several else model


def with_marks_measured(
    place: Workspace, evidence: Evidence, findings: list[Finding], label: str = ""
) -> Job[list[Finding]]:
    """The findings; where there is a run that knows these classes, it was asked whether it goes by the marks found."""
    if not any(finding.spot for finding in findings):
        return findings
    for run in reversed(place.runs()):
        try:
            model = _answering(run, label)
            if model is None or model.classes != evidence.classes:
                continue
            data = yield from gather(place, run.plan(), run, model.preprocessor.settings)
        except LensError:
            continue
        answered = []
        with ThreadPool(2) as thread_pool:
            predictor = Predictor.of(model, thread_pool)
            for finding in findings:
                yield Progress(0, 1, f"asking run {run.number} about marks")
                answered.append(_asked(predictor, run.number, evidence, data, finding) if finding.spot else finding)
        return answered
    return findings


def _asked(predictor: Predictor, number: int, evidence: Evidence, data: Data, finding: Finding) -> Finding:
    label = int(evidence.labels[finding.places[0]])
    rows = evidence.rows if evidence.rows is not None else np.arange(len(evidence))
    others = np.flatnonzero((evidence.labels != label) & (np.array(evidence.sets) != "test"))
    carriers, others = _few(np.array(finding.places)), _few(others)
    if finding.spot is None:
        return finding
    truth = evidence.labels[others]
    trial = tried(predictor, data.pixels[rows[carriers]], data.pixels[rows[others]], truth, label, finding.spot)
    if trial is None:
        return finding
    name = evidence.classes[label]
    tested = (
        f"put into images of other classes it turns {trial.pasted:.0%} of run {number}'s answers to «{name}», covered"
        f" it turns {trial.covered:.0%} away; the mirrored place {trial.pasted_elsewhere:.0%} and"
        f" {trial.covered_elsewhere:.0%}"
    )
    why = finding.why.split(": a mark")[0]
    if trial.decides:
        remedy = "Cover places at random while training, or crop it away"
        return replace(finding, why=f"{why}, and run {number} goes by it: {tested}", remedy=remedy)
    flag = tuple(action for action in finding.actions if action.step is None)
    remedy = "Look whether it belongs to the thing: then there is nothing to do"
    return replace(finding, why=f"{why}, but run {number} does not go by it: {tested}", remedy=remedy, actions=flag)


def _few(places: NDArray[np.int64]) -> NDArray[np.int64]:
    chosen = np.linspace(0, len(places) - 1, min(TRIED, len(places))).astype(int)
    return np.asarray(places[chosen], np.int64)


def unseen_answers(place: Workspace, data: Data, label: str = "") -> Job[NDArray[np.float32] | None]:
    """Mean probabilities, N×K, of models for images they did not train on (NaN for others); None without any.

    A run answers for the validation images it noted, if its classes are those of today; one built on another run's
    layers does not, for that run may have trained on them.
    """
    classes = of_one(label) if label else data.collection.classes
    sums = np.zeros((len(data.labels), len(classes)), np.float32)
    counts = np.zeros(len(data.labels), np.int64)
    runs_asked, names = 0, {name: number for number, name in enumerate(classes)}
    for run in reversed(place.runs()):
        if runs_asked == MOST_RUNS:
            break
        members = _held_out(run, len(data.labels))
        if members is None:
            continue
        try:
            model = _answering(run, label)
            columns = [names[name] for name in model.classes if name in names] if model is not None else []
            if model is None or len(columns) < len(model.classes) or not OUTPUTS[model.output].is_probability:
                continue
            prepared = yield from gather(place, run.plan(), run, model.preprocessor.settings)
        except LensError:
            continue
        runs_asked += 1
        with ThreadPool(2) as thread_pool:
            predictor = Predictor.of(model, thread_pool)
            for first in range(0, len(members), AT_ONCE):
                yield Progress(first, len(members), f"asking run {run.number} about labels")
                part = members[first : first + AT_ONCE]
                sums[part[:, None], np.array(columns)] += predictor.answers(predictor.prepare(prepared.pixels[part]))
                counts[part] += 1
    if not runs_asked:
        return None
    with np.errstate(invalid="ignore"):
        return np.where(counts[:, None] > 0, sums / np.maximum(counts, 1)[:, None], np.nan).astype(np.float32)


def _held_out(run: Run, images: int) -> NDArray[np.int64] | None:
    """Places of the images a finished run was judged with, if it noted them and did not build on another run."""
    noted = run.images()
    try:
        if noted is None or len(noted[1]) > images or run.plan().base is not None:
            return None
    except LensError:
        return None
    members = np.flatnonzero(np.array(noted[1]) == "validation")
    return members if len(members) and (run.checkpoints / "best.alens").exists() else None


def _fault(finding: Finding, numbers: list[int]) -> Fault:
    return Fault(
        finding.kind,
        finding.why,
        finding.remedy,
        tuple(numbers[p] for p in finding.places),
        tuple(tuple(numbers[p] for p in group) for group in finding.groups),
        tuple(_action(action, numbers) for action in finding.actions),
    )


def _action(action: Action, numbers: list[int]) -> FaultAction:
    return FaultAction(
        action.word,
        tuple(numbers[p] for p in action.exclude),
        tuple(numbers[p] for p in action.flag),
        tuple((numbers[p], label) for p, label in action.relabel),
        tuple(tuple(numbers[p] for p in group) for group in action.together),
        action.step.write_kind() if action.step else None,
        action.settings,
    )
