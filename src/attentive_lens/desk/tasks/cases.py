"""The task that tries all cases again."""

from __future__ import annotations

from collections import Counter
from collections.abc import Sequence
from dataclasses import replace
from pathlib import Path

import numpy as np

from attentive_lens.core.jobs import Job, Progress
from attentive_lens.core.keeping import key_of
from attentive_lens.core.numbering import label_of, place_of
from attentive_lens.desk.case_status import RunAnswer, status_of
from attentive_lens.desk.images.collection import collection
from attentive_lens.desk.images.data import references
from attentive_lens.desk.images.outlines import regions_of
from attentive_lens.desk.requests.cases import CasesTried, CaseTried, TryCases
from attentive_lens.desk.results.models import THREADS, model_of_run
from attentive_lens.engine.threads import ThreadPool
from attentive_lens.errors import LensError
from attentive_lens.images.pixel_format import PixelArray
from attentive_lens.images.preprocessing import cropped
from attentive_lens.plan.labels import labels_in, of_one
from attentive_lens.plan.plan import Plan
from attentive_lens.predicting import Predictor
from attentive_lens.workspace import ImageRow, Run, Workspace
from attentive_lens.workspace.cases import Case, read_cases
from attentive_lens.workspace.corrections import EXCLUDED, GONE


def try_cases(request: TryCases) -> Job[CasesTried]:
    """See `TryCases`; a run whose model is gone or cannot be read, or draws, answers nothing."""
    place = Workspace.open(Path(request.workspace))
    book = read_cases(place.folder)
    now = collection(place, Plan())
    numbers = sorted({case.image for case in book.cases if case.image <= len(now.rows)})
    rows = [now.rows[place_of(number)] for number in numbers]
    pictures = _pictures(place, rows)
    answers: dict[tuple[str, int], list[RunAnswer]] = {}
    labels = sorted({label_of(case.run) for case in book.cases})
    runs = place.runs()
    with ThreadPool(THREADS) as thread_pool:
        for k, run in enumerate(runs):
            yield Progress(k, len(runs), "trying the cases again")
            for label in labels:
                known = _answers(place, run, label, pictures, now.classes, rows, thread_pool)
                for number, answer in known.items():
                    answers.setdefault((label, number), []).append(answer)
    tried = []
    for case in book.cases:
        there = case.image in pictures
        row = now.rows[place_of(case.image)] if case.image <= len(now.rows) else None
        own_label = label_of(case.run)
        now_label = _class_of(now.classes[row.label], own_label) if row is not None and there else None
        is_used = row is not None and row.given_set not in (EXCLUDED, GONE)
        own = tuple(answers.get((own_label, case.image), ()))
        status = status_of(case, own, now_label, is_used)
        in_set = _set_of(place, case, now.sets)
        tried.append(CaseTried(case, now_label, in_set, status.word, status.words, own))
    by_status = Counter(each.status for each in tried)
    by_cause = Counter(each.case.cause or "not said yet" for each in tried)
    return CasesTried(tuple(tried), dict(by_status.most_common()), dict(by_cause.most_common()))


def plan_key(plan: Plan) -> str:
    """What runs that differ in seed and name alone have in common."""
    return key_of(replace(plan, seed=0, name="any").write())[:16]


def _pictures(place: Workspace, rows: Sequence[ImageRow]) -> dict[int, PixelArray]:
    """The images that can be opened, by number, whole."""
    result = {}
    for row, reference in zip(rows, references(place, rows), strict=True):
        if reference is not None:
            try:
                result[row.number] = reference.picture().pixels
            except LensError:
                continue  # told as gone
    return result


def _class_of(name: str, label: str) -> str:
    """An image's class; by one of several labels, where a case is about that."""
    return of_one(label)[int(label in labels_in(name))] if label else name


def _answers(
    place: Workspace,
    run: Run,
    label: str,
    pictures: dict[int, PixelArray],
    classes: Sequence[str],
    rows: Sequence[ImageRow],
    thread_pool: ThreadPool,
) -> dict[int, RunAnswer]:
    """A run's answers to images that it can answer, by number: about a label, where it has that, or as to classes."""
    if not pictures:
        return {}
    try:
        model, plan = model_of_run(run.about_label(label)), run.plan()
    except LensError:
        return {}
    if model.draws or model.several:
        return {}
    key = plan_key(plan)
    predictor = Predictor.of(model, thread_pool)
    regions = regions_of(place, rows, model.preprocessor.settings)
    seen = [cropped(pixels, regions.get(number)) for number, pixels in pictures.items()]
    images = np.stack([model.preprocessor.resized(pixels) for pixels in seen])
    scores = predictor.scores(predictor.prepare(images))
    labels = {row.number: _class_of(classes[row.label], label) for row in rows}
    answers = zip(pictures, predictor.predicted(scores).tolist(), predictor.output.answers(scores), strict=True)
    return {
        number: RunAnswer(
            run.number, key, model.classes[predicted], float(row[predicted]), model.classes[predicted] == labels[number]
        )
        for number, predicted, row in answers
        if labels[number] in model.classes
    }


def _set_of(place: Workspace, case: Case, sets: Sequence[str]) -> str:
    """The set that a case's image was in when it was opened; as it is now where the run is gone."""
    try:
        noted = place.run(case.run).images()
    except LensError:
        noted = None
    if noted is not None and case.image <= len(noted[1]):
        return noted[1][place_of(case.image)]
    return sets[place_of(case.image)] if case.image <= len(sets) else ""
