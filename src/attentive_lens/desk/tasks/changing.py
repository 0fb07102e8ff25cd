"""The task that tries changes on one image."""

from __future__ import annotations

from pathlib import Path

import numpy as np
from numpy.typing import NDArray

from attentive_lens.core.jobs import Job
from attentive_lens.core.records import PlainTable
from attentive_lens.core.values import unknown_word
from attentive_lens.desk.models import THREADS, asked_image, by_class, model_and_data
from attentive_lens.desk.requests.inspecting import SmallestCover, Tried, TriedChange, TryChanges
from attentive_lens.desk.tasks.choosing import method_of
from attentive_lens.engine.threads import ThreadPool
from attentive_lens.errors import BadUsage
from attentive_lens.explaining.changes import CHANGES, LIMITS, mixed
from attentive_lens.explaining.probe import Probe, Targets
from attentive_lens.explaining.smallest import Search, smallest_cover
from attentive_lens.predicting import Predictor
from attentive_lens.workspace import Workspace

MIX = "mix"
"""The change that takes another image of the workspace besides."""


def try_changes(request: TryChanges) -> Job[Tried]:
    """See `TryChanges`; if asked, also the smallest square whose covering changes the answer."""
    asked = yield from asked_image(request.workspace, request.run, request.image, request.model, request.file)
    model, pixels = asked.model, asked.pixels
    changed = []
    for change in request.changes:
        if change.get("change") == MIX:
            changed.append((yield from _mixed(request, pixels, change)))
        else:
            changed.append(_changed(pixels, change))
    maps = None
    with ThreadPool(THREADS) as thread_pool:
        predictor = Predictor.of(model, thread_pool)
        images = predictor.prepare(np.stack([pixels, *changed]))
        scores = predictor.scores(images)
        answers, said = predictor.checked(scores), predictor.said(scores)
        if request.method:
            method, probe = method_of(request.method), Probe(predictor)
            of = [Targets.classes([int(label)], probe.classes) for label in said[1:]]
            each = [method.maps(probe, image, target)[0] for image, target in zip(images[1:], of, strict=True)]
            maps = np.stack(each) if each else np.zeros((0, *pixels.shape[:2]), np.float32)
        search = (yield from smallest_cover(Probe(predictor), images[0])) if request.smallest else None
    rows = [
        TriedChange(dict(change), model.classes[label], by_class(model.classes, row))
        for change, label, row in zip(({}, *request.changes), said.tolist(), answers, strict=True)
    ]
    cover = _cover(search, model.classes) if search is not None else None
    shown = np.stack(changed) if changed else np.zeros((0, *pixels.shape), np.uint8)
    return Tried(request.image, request.file, rows[0], tuple(rows[1:]), cover, shown, maps)


def _cover(search: Search, classes: tuple[str, ...]) -> SmallestCover:
    cover = search.cover
    if cover is None:
        return SmallestCover(search.complete)
    said = classes[cover.said]
    return SmallestCover(search.complete, cover.pixels, cover.row, cover.column, cover.side, said)


def _mixed(request: TryChanges, pixels: NDArray[np.uint8], change: PlainTable) -> Job[NDArray[np.uint8]]:
    """The image mixed with another one of the workspace."""
    if not request.workspace:
        why = "it takes another image of a workspace, and a model file has none"
        raise BadUsage("The change mix could not be made", why, "Ask the run in its workspace")
    settings = _numbers(MIX, ("with", "share"), {name: value for name, value in change.items() if name != "change"})
    number = settings.get("with", 0.0)
    if "share" not in settings or number != int(number):
        why = "it takes with, the number of another image, and share"
        raise BadUsage("The change mix could not be made", why, "Write «mix with=12 share=0.4»")
    place = Workspace.open(Path(request.workspace))
    _, data = yield from model_and_data(place, place.run(request.run), int(number))
    return mixed(pixels, data.pixels[data.place(int(number))], settings["share"])


def _changed(pixels: NDArray[np.uint8], change: PlainTable) -> NDArray[np.uint8]:
    rest = dict(change)
    kind = str(rest.pop("change", ""))
    if kind not in CHANGES:
        raise unknown_word("change", kind, frozenset({*CHANGES, MIX}))
    code = CHANGES[kind].__code__
    names = code.co_varnames[1 : code.co_argcount]
    settings = _numbers(kind, names, rest)
    try:
        return CHANGES[kind](pixels, **settings)
    except (TypeError, ValueError, OverflowError):
        raise _not_numbers(kind, names) from None


def _numbers(kind: str, names: tuple[str, ...], settings: PlainTable) -> dict[str, float]:
    """A change's settings as numbers within their limits."""
    try:
        values = {name: float(str(value)) for name, value in settings.items()}
    except (TypeError, ValueError, OverflowError):
        raise _not_numbers(kind, names) from None
    if not all(np.isfinite(value) for value in values.values()):
        raise _not_numbers(kind, names)
    for name, value in values.items():
        low, high = LIMITS.get(name, (-np.inf, np.inf))
        if not low <= value <= high:
            why = f"its {name} is {low:g} to {high:g}, got {value:g}"
            raise BadUsage(f"The change {kind} could not be made", why, "Choose one in between")
    return values


def _not_numbers(kind: str, names: tuple[str, ...]) -> BadUsage:
    return BadUsage(f"The change {kind} could not be made", f"it takes {', '.join(names)} as numbers", "Give these")
