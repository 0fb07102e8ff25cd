"""The task that writes a run's report: one HTML file that anybody can read without the program."""

from __future__ import annotations

import base64
import platform
import time
from io import BytesIO
from pathlib import Path
from typing import Any

import numpy as np
from PIL import Image

from attentive_lens.core.files import check_folder_of, shown, steerless, write_text
from attentive_lens.core.jobs import Job, Progress, inside
from attentive_lens.core.numbering import place_of
from attentive_lens.core.version import VERSION
from attentive_lens.desk.images.collection import collection
from attentive_lens.desk.images.outlines import known_outlines
from attentive_lens.desk.map_colours import over_image
from attentive_lens.desk.network.design import facts_of
from attentive_lens.desk.requests.cases import CasesTried, TryCases
from attentive_lens.desk.requests.causes import Cause, Causes
from attentive_lens.desk.requests.explaining import DEFAULT, Explain, Explanation
from attentive_lens.desk.requests.images import Prepare
from attentive_lens.desk.requests.models import Score
from attentive_lens.desk.requests.objects import MeasureObjects, ObjectsMeasured
from attentive_lens.desk.requests.reporting import ReportWritten, WriteReport
from attentive_lens.desk.requests.subjects import RunImage
from attentive_lens.desk.results.figures import INK, PETROL, Curve, as_svg, by_confidence, by_epoch
from attentive_lens.desk.tasks.cases import try_cases
from attentive_lens.desk.tasks.causes import causes
from attentive_lens.desk.tasks.explaining import explain
from attentive_lens.desk.tasks.images import prepare
from attentive_lens.desk.tasks.objects import measure_objects
from attentive_lens.desk.tasks.scoring import score
from attentive_lens.desk.training.advising import advice_of
from attentive_lens.desk.training.cautions import cautions_of, changed_since
from attentive_lens.desk.training.runs import RunReader, RunView
from attentive_lens.errors import LensError
from attentive_lens.images.display import shown_as
from attentive_lens.images.pixel_format import PixelArray
from attentive_lens.images.rows import Pixels
from attentive_lens.plan.difference import settings_of
from attentive_lens.plan.plan import Plan
from attentive_lens.scoring.answers import Answer
from attentive_lens.scoring.gaps import gaps_in_words, small_in_words
from attentive_lens.scoring.measures import Overview
from attentive_lens.scoring.scores import Scores
from attentive_lens.workspace import Run, Workspace

SETS = ("training", "validation", "test")
MOST_CLASSES, MOST_PAIRS, MOST_PICTURES = 30, 12, 12
"""Classes up to which the matrix is drawn, pairs told, and pictures of a cause."""
TEMPLATE = "report.html.j2"


def write_report(request: WriteReport) -> Job[ReportWritten]:
    """See `WriteReport`; sets that were not scored yet are left out, but for training and the one that is named."""
    place = Workspace.open(Path(request.workspace))
    run = place.run(request.run)
    plan, view = run.plan(), RunReader(run).view()
    scored: dict[str, Scores] = {}
    rows = collection(place, plan, run)
    for on in SETS:
        if rows.count(on) and (on != "test" or on == request.on or run.scores_file(on).exists()):
            scored[on] = yield from score(Score(request.workspace, request.run, on))
    chosen = scored.get(request.on) or (yield from score(Score(request.workspace, request.run, request.on)))
    explanations: list[Explanation] = []
    for k, answer in enumerate(chosen.wrong[: request.mistakes]):
        yield Progress(k, request.mistakes, "explaining the surest mistakes")
        explanations.append(
            (yield from inside(explain(Explain(RunImage(request.workspace, request.run, answer.image)))))
        )
    groups: tuple[Cause, ...] = ()
    if request.causes and chosen.wrong:
        groups = (yield from causes(Causes(request.workspace, request.run, request.on))).groups
    objects: ObjectsMeasured | None = None
    outlines = known_outlines(place)
    if request.causes and any(answer.image in outlines for answer in chosen.answers):
        objects = yield from measure_objects(MeasureObjects(request.workspace, request.run, request.on))
    cases = yield from try_cases(TryCases(request.workspace))
    prepared = (yield from prepare(Prepare(request.workspace))).opened()
    names = {row.number: shown(row.file) for row in rows.rows}
    values = {
        **_head(place, run, plan, view, scored),
        "on": request.on,
        "classes": chosen.classes,
        "set_names": SETS,
        "data": [
            {"name": name, "counts": [rows.count(on, label) for on in SETS]} for label, name in enumerate(rows.classes)
        ],
        "charts": _charts(view),
        "advice": _advice(place, run, view),
        "cautions": _cautions(place, run, chosen, view, scored),
        **_scores(chosen, scored),
        "mistakes": [_mistake(each, answer, names) for each, answer in zip(explanations, chosen.wrong, strict=False)],
        "method": DEFAULT.label,
        "objects": _objects(objects, prepared),
        "causes": [_cause(group, prepared) for group in groups],
        "cases": _cases(cases, prepared),
        "settings": [{"key": key, "value": value} for key, value in settings_of(plan).items() if "network" not in key],
        "layers": _layers(plan, len(chosen.classes)),
    }
    text = _filled(values)
    file = Path(request.file or f"report-{request.run}.html")
    check_folder_of(file)
    write_text(file, text)
    return ReportWritten(str(file), len(text.encode()), len(explanations), len(groups), len(cases.cases))


def _filled(values: dict[str, Any]) -> str:
    from jinja2 import Environment, PackageLoader, StrictUndefined  # only here: little else needs it

    environment = Environment(
        loader=PackageLoader("attentive_lens.desk", "."),
        autoescape=True,
        undefined=StrictUndefined,
        finalize=lambda value: steerless(value) if type(value) is str else value,
        trim_blocks=True,
        lstrip_blocks=True,
    )
    return environment.get_template(TEMPLATE).render(values)


def _head(place: Workspace, run: Run, plan: Plan, view: RunView, scored: dict[str, Scores]) -> dict[str, Any]:
    sets = []
    for on, scores in scored.items():
        result = scores.measures.overview
        low, high = result.accuracy.low, result.accuracy.high
        sets.append(
            {
                "on": on,
                "images": scores.images,
                "accuracy": f"{scores.accuracy:.1%}",
                "interval": f"{low:.1%} to {high:.1%}" if low is not None and high is not None else "–",
                "chance": _share(result.chance),
                "majority": _share(result.majority),
            }
        )
    return {
        "workspace": shown(place.name),
        "run": run.number,
        "plan_name": plan.name,
        "seed": plan.seed,
        "state": f"{view.state}, {len(view.epochs)} of {view.planned} epochs",
        "written": time.strftime("%Y-%m-%d %H:%M"),
        "version": VERSION,
        "libraries": f"Python {platform.python_version()}, NumPy {np.__version__}",
        "sets": sets,
        "gaps": gaps_in_words(scored),
    }


def _more(views: list[Overview]) -> list[tuple[str, list[str]]]:
    """Measures that packages bring."""
    every = [dict(view.more_in_words) for view in views]
    return [(label, [each.get(label, "–") for each in every]) for label in (every[0] if every else ())]


def _share(value: float | None) -> str:
    return "–" if value is None else f"{value:.1%}"


def _charts(view: RunView) -> list[str]:
    loss, accuracy = [], []
    for name, colour, dashed in (("training", INK, True), ("validation", PETROL, False)):
        figures = [(epoch.epoch, getattr(epoch, name)) for epoch in view.epochs]
        known = [(float(at), each) for at, each in figures if each is not None]
        loss.append(Curve(name, [(at, each.loss) for at, each in known if np.isfinite(each.loss)], colour, dashed))
        accuracy.append(Curve(name, [(at, each.main) for at, each in known], colour, dashed))
    words = "loss by epoch", "accuracy by epoch"
    return [
        as_svg(by_epoch("Loss", loss), words[0]),
        as_svg(by_epoch("Accuracy", accuracy, as_percent=True), words[1]),
    ]


def _advice(place: Workspace, run: Run, view: RunView) -> list[str]:
    try:
        return [finding.sentence for finding in advice_of(place, run, view)]
    except LensError as error:
        return [str(error)]


def _cautions(place: Workspace, run: Run, chosen: Scores, view: RunView, scored: dict[str, Scores]) -> list[str]:
    relabelled = changed_since(run, collection(place, run.plan()))
    result = cautions_of(place, run, chosen, relabelled, view.best)
    return [sentence for sentence in (*result, small_in_words(scored)) if sentence]


def _scores(chosen: Scores, scored: dict[str, Scores]) -> dict[str, Any]:
    views = {on: scores.measures.overview for on, scores in scored.items()}
    rows = [
        ("accuracy", [f"{scores.accuracy:.1%}" for scores in scored.values()]),
        (chosen.loss_function, [f"{scores.loss:.3f}" for scores in scored.values()]),
        ("balanced accuracy", [_share(view.balanced_accuracy) for view in views.values()]),
        ("macro F1", ["–" if view.macro_f1 is None else f"{view.macro_f1:.3f}" for view in views.values()]),
        *_more(list(views.values())),
        ("calibration error", [_error(scores) for scores in scored.values()]),
    ]
    bins = chosen.measures.calibration
    return {
        "measures": [{"name": name, "figures": figures} for name, figures in rows],
        "matrix": _matrix(chosen) if len(chosen.classes) <= MOST_CLASSES else [],
        "pairs": [
            f"{pair.images} of {pair.of} {pair.true} were said to be {pair.predicted}."
            for pair in chosen.measures.confusions[:MOST_PAIRS]
        ],
        "by_class": [
            {
                "name": each.name,
                "precision": _share(each.precision.value),
                "recall": _share(each.recall.value),
                "f1": "–" if each.f1 is None else f"{each.f1:.3f}",
                "images": each.support,
            }
            for each in chosen.measures.by_class
        ],
        "calibration": as_svg(by_confidence(bins), "calibration"),
        "calibration_words": f"Answers are off by {_error(chosen)} from how sure they are." if bins else "",
    }


def _error(scores: Scores) -> str:
    return _share(scores.measures.calibration_error)


def _matrix(scores: Scores) -> list[dict[str, Any]]:
    rows = []
    for true, name in enumerate(scores.classes):
        total = int(scores.confusion[true].sum())
        cells = []
        for predicted, count in enumerate(scores.confusion[true].tolist()):
            part = count / total if total else 0.0
            strength = 0.12 + 0.88 * part if count else 0.0
            base = (0x0F, 0x6B, 0x72) if predicted == true else (0xB5, 0x3A, 0x20)
            colour = tuple(round(0xFA + (channel - 0xFA) * strength) for channel in base)
            ink = "#FFFFFF" if strength > 0.5 else INK
            cells.append({"count": count, "colour": f"rgb({colour[0]},{colour[1]},{colour[2]})", "ink": ink})
        right = f"{scores.confusion[true, true] / total:.1%}" if total else "–"
        rows.append({"name": name, "cells": cells, "right": right})
    return rows


def _mistake(explanation: Explanation, answer: Answer, names: dict[int, str]) -> dict[str, Any]:
    pictures = [{"words": "the image", "data": as_data(explanation.pixels)}]
    for map_ in explanation.maps:
        _, tinted = np.split(over_image(explanation.pixels, map_.values), 2, axis=1)
        pictures.append({"words": f"what speaks for {map_.target} against {map_.against}", "data": as_data(tinted)})
    trust = explanation.maps[0].trust
    result = (
        "the map is zero everywhere" if trust.empty else trust.gain.verdict if trust.gain is not None else "untested"
    )
    return {
        "image": answer.image,
        "predicted": explanation.predicted,
        "true": explanation.true or "",
        "probability": f"{answer.probability:.2f}",
        "file": names.get(answer.image, ""),
        "pictures": pictures,
        "passed": trust.passed,
        "trust": f"map of {explanation.predicted}: {result}",
    }


def _cause(group: Cause, pixels: Pixels) -> dict[str, Any]:
    return {
        "title": f"{len(group.images)} {group.short}",
        "why": group.why,
        "remedy": group.remedy,
        "pictures": [as_data(np.asarray(pixels[place_of(number)])) for number in group.images[:MOST_PICTURES]],
    }


def _objects(objects: ObjectsMeasured | None, pixels: Pixels) -> dict[str, Any] | None:
    """What answers rest on: sentences, a row for right and wrong ones of each class, those right for a wrong reason."""
    if objects is None:
        return None
    numbers = [each.image for each in objects.wrong_reason[:MOST_PICTURES]]
    return {
        "sentences": list(objects.sentences()),
        "rows": [
            {
                "name": f"{row.name or 'all'}, {'right' if row.right else 'wrong'}",
                "images": row.images,
                "rest": row.on_rest,
                "share": f"{row.share:.0%} ({row.low:.0%} to {row.high:.0%})",
                "elsewhere": f"{row.elsewhere:.0%}",
                "without": f"{row.kept_without:.0%} ({row.probability_without:.2f})",
                "alone": f"{row.kept_alone:.0%} ({row.probability_alone:.2f})",
            }
            for row in objects.rows
        ],
        "pictures": [as_data(np.asarray(pixels[place_of(number)])) for number in numbers],
    }


def _cases(tried: CasesTried, pixels: Pixels) -> list[dict[str, Any]]:
    return [
        {
            "number": each.case.number,
            "closed": each.case.closed,
            "image": each.case.image,
            "picture": as_data(np.asarray(pixels[place_of(each.case.image)])) if each.case.image <= len(pixels) else "",
            "predicted": each.case.predicted,
            "true": each.label or "gone",
            "cause": each.case.cause or "–",
            "status": each.status,
            "words": each.words,
            "note": each.case.note,
            "evidence": [f"{one.kind}: {one.words}" for one in each.case.evidence],
        }
        for each in tried.cases
    ]


def _layers(plan: Plan, classes: int) -> list[dict[str, Any]]:
    _, facts = facts_of(plan, classes)
    return [
        {"name": fact.name, "shape": "×".join(map(str, fact.shape)), "weights": f"{fact.weights:,}".replace(",", " ")}
        for fact in facts
    ]


def as_data(pixels: PixelArray) -> str:
    """An image H×W×C as it is shown, as a data URL, PNG."""
    stream = BytesIO()
    shown = shown_as().shown(pixels)
    Image.fromarray(np.ascontiguousarray(shown[:, :, 0] if shown.shape[2] == 1 else shown)).save(stream, "PNG")
    return f"data:image/png;base64,{base64.b64encode(stream.getvalue()).decode()}"
