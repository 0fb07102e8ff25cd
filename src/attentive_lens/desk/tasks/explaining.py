"""Tasks that explain: maps of one image and whether to believe them, filters, and the causes that mistakes share."""

from __future__ import annotations

import contextlib
import json
from dataclasses import replace
from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray

from attentive_lens.desk.data import Data
from attentive_lens.desk.tasks.base import Result
from attentive_lens.desk.tasks.models import answers_of, model_and_data, model_of, score
from attentive_lens.engine.crew import Crew
from attentive_lens.errors import BadValue, LensError, NotHere
from attentive_lens.explaining.causes import Group, grouped
from attentive_lens.explaining.curves import curves
from attentive_lens.explaining.feature_maps import feature_maps, first_filters
from attentive_lens.explaining.likeness import likeness, redrawn, stability
from attentive_lens.explaining.probe import Asked, Probe
from attentive_lens.explaining.regions import found, judged
from attentive_lens.explaining.saliency import DEFAULT, METHODS, MapMethod
from attentive_lens.explaining.trust import deletion
from attentive_lens.formats.bundle import ModelFile
from attentive_lens.images.decoding import decode
from attentive_lens.images.preparation import to_square
from attentive_lens.plan.plan import Plan
from attentive_lens.plan.progress import Job, Progress
from attentive_lens.plan.recipe import Cover
from attentive_lens.plan.values import unknown_word
from attentive_lens.workspace import Run, Workspace

REDRAWN_IMAGES, REDRAWN_COSTLY = 32, 8
"""Images on which drawing the weights anew is measured; fewer for methods of hundreds of passes."""
COSTLY = ("occlusion", "random_masks", "integrated_gradients")
MOST_MISTAKES = 2000


def explain(workspace: str, run: int, image: int, method: str = DEFAULT, target: str | None = None) -> Job[Result]:
    """Why a run's model answered as it did for one image.

    The arrays are ``map said``, ``map true``, ``map difference`` (of said minus true; and ``map for`` with a target),
    S×S float32; ``pixels``, S×S×C uint8; and ``layer 0`` … , every node's output in the network's order.
    """
    place = Workspace.open(Path(workspace))
    model, data = yield from model_and_data(place, place.run(run))
    at = data.place(image)
    row = data.collection.rows[at]
    values, arrays = explain_pixels(model, data.pixels[at], method, int(data.labels[at]), target)
    yield Progress(1, 2, "asking every layer")
    maps = feature_maps(model.network(), model.levels.apply(data.pixels[at][None])[0])
    arrays |= {f"layer {k}": np.asarray(out) for k, out in enumerate(maps.values())}
    layers = [{"name": name, "shape": list(out.shape)} for name, out in maps.items()]
    values |= {"image": image, "file": row.file, "set": data.collection.sets[at], "layers": layers}
    return Result(values, arrays)


def explain_file(model: str, file: str, method: str = DEFAULT, target: str | None = None) -> Job[Result]:
    """As `explain`, for an image file that no workspace knows and a model file; there is no *true* class."""
    source = model_of(Path(model))
    pixels = to_square(decode(Path(file)).pixels, source.preparation)
    values, arrays = explain_pixels(source, pixels, method, None, target)
    yield Progress(1, 2, "asking every layer")
    maps = feature_maps(source.network(), source.levels.apply(pixels[None])[0])
    arrays |= {f"layer {k}": np.asarray(out) for k, out in enumerate(maps.values())}
    layers = [{"name": name, "shape": list(out.shape)} for name, out in maps.items()]
    return Result(values | {"image": None, "file": file, "set": None, "layers": layers}, arrays)


def explain_pixels(
    model: ModelFile, pixels: NDArray[np.uint8], method: str, true: int | None, target: str | None
) -> tuple[dict[str, Any], dict[str, NDArray[Any]]]:
    """Answer, maps and their trust for one image S×S×C uint8 at the working size."""
    chosen = method_of(method)
    network = model.network()
    image = model.levels.apply(pixels[None])[0]
    with Crew(2) as crew:
        probe = Probe(network, crew)
        scores = probe.scores(image[None])[0]
        probabilities = answers_of(scores[None])[0]
        said = int(probabilities.argmax())
        targets = {"said": said}
        if true is not None:
            targets["true"] = true
        if target is not None:
            if target not in model.classes:
                raise unknown_word("class", target, frozenset(model.classes))
            targets["for"] = model.classes.index(target)
        asked = Asked.classes(list(targets.values()), probe.classes)
        if true is not None:
            gap = asked.seeds[0] - asked.seeds[1]
            asked = replace(asked, seeds=np.concatenate([asked.seeds, gap[None]]))
        maps = chosen.maps(probe, image, asked)
        if not np.isfinite(maps).all():
            raise BadValue(f"{chosen.label} gives no map", "some of its values are no numbers", "Choose another method")
        wanted = chosen.should_sum_to(probe, image, asked)
        parts = judged(probe, image, asked, maps[0], found(maps[0]))
    arrays: dict[str, NDArray[Any]] = {"pixels": pixels}
    trust = {}
    for (key, label), map_ in zip(targets.items(), maps, strict=False):
        arrays[f"map {key}"] = map_
        left = deletion(network, image, map_, label)
        trust[key] = {
            "before": left.before,
            "marked_deleted": left.marked,
            "random_deleted": left.random,
            "passed": left.passed,
            "empty": bool(not map_.any()),
        }
    if true is not None:
        arrays["map difference"] = maps[-1]
    if wanted is not None:
        for (key, label), map_, sum_ in zip(targets.items(), maps, wanted, strict=False):
            trust[key] |= _adding_up(map_, float(sum_), float(scores[label]))
    values = {
        "said": model.classes[said],
        "true": model.classes[true] if true is not None else None,
        "targets": {key: model.classes[label] for key, label in targets.items()},
        "probabilities": {name: float(p) for name, p in zip(model.classes, probabilities, strict=True)},
        "method": method,
        "methods": [
            {"key": key, "label": m.label, "shows": m.shows, "misleads": m.misleads, "cost": m.cost}
            for key, m in METHODS.items()
        ],
        "trust": trust,
        "regions": [{**part.as_dict(), "gives": dict(zip(targets, part.gives, strict=False))} for part in parts],
    }
    return values, arrays


def trust(workspace: str, run: int, image: int, method: str = DEFAULT) -> Job[Result]:
    """Everything measured about whether a map can be believed, for *said* and for *true*.

    Deletion and insertion curves against random maps and an edge filter, stability under small noise, completeness
    where the method promises it, agreement with every other method, and what drawing the weights anew does; the last
    is measured once for a run and method and kept beside the run.
    """
    chosen = method_of(method)
    place = Workspace.open(Path(workspace))
    own = place.run(run)
    model, data = yield from model_and_data(place, own)
    at = data.place(image)
    prepared = model.levels.apply(data.pixels[at][None])[0]
    with Crew(2) as crew:
        probe = Probe(model.network(), crew)
        said = int(probe.scores(prepared[None])[0].argmax())
        labels = [said, int(data.labels[at])]
        asked = Asked.classes(labels, probe.classes)
        yield Progress(0, 4, "deleting and restoring pixels")
        maps = chosen.maps(probe, prepared, asked)
        bends = [own_curve.as_dict() for own_curve in curves(probe, prepared, maps, labels)]
        yield Progress(1, 4, "adding a little noise")
        steady = stability(chosen, probe, prepared, asked, maps)
        wanted, scores = chosen.should_sum_to(probe, prepared, asked), probe.scores(prepared[None])[0]
        yield Progress(2, 4, "asking the other methods")
        agreement = {
            key: likeness(maps[0], other.maps(probe, prepared, asked)[0])
            for key, other in METHODS.items()
            if key != method and _works(other, probe, prepared)
        }
        yield Progress(3, 4, "drawing weights anew")
        anew = _redrawn(own, method, probe, model, data)
    values: dict[str, Any] = {"image": image, "method": method, "said": model.classes[said], "redrawn": anew}
    for k, key in enumerate(("said", "true")):
        values[key + "_map"] = {"curves": bends[k], "stability": steady[k]}
        if wanted is not None:
            values[key + "_map"] |= _adding_up(maps[k], float(wanted[k]), float(scores[labels[k]]))
    return Result({**values, "agreement": agreement})


def _works(method: MapMethod, probe: Probe, image: NDArray[Any]) -> bool:
    """Whether a method can be asked of this network at all."""
    try:
        method.maps(probe, image, Asked.classes([0], probe.classes))
    except LensError:
        return False
    return True


def _redrawn(run: Run, method: str, probe: Probe, model: ModelFile, data: Data) -> dict[str, Any]:
    """As measured and kept before, or measured now."""
    file, made = run.folder / f"redrawn-{method}.json", run.model.stat().st_mtime_ns
    try:
        kept = json.loads(file.read_text("utf-8"))
        if kept.pop("model") == made:
            return dict(kept)
    except (OSError, ValueError, KeyError):
        pass
    members = data.members("validation")
    members = members if len(members) else data.members("training")
    count = REDRAWN_COSTLY if method in COSTLY else REDRAWN_IMAGES
    chosen = members[np.linspace(0, len(members) - 1, min(count, len(members))).astype(int)]
    figures = redrawn(METHODS[method], probe, model.levels.apply(data.pixels[chosen])).as_dict()
    with contextlib.suppress(OSError):
        file.write_text(json.dumps({**figures, "model": made}), "utf-8")
    return figures


def _adding_up(map_: NDArray[np.float32], wanted: float, score: float) -> dict[str, float]:
    """What a map adds up to, what it should, the score, and the error as a part of the larger of the last two."""
    total = float(map_.sum(dtype=np.float64))
    error = abs(total - wanted) / max(abs(wanted), abs(score), 1e-6)
    return {"sum": total, "should_sum_to": wanted, "score": score, "completeness_error": error}


def method_of(name: str) -> MapMethod:
    """The method of that name; a sentence with the nearest if there is none."""
    if name not in METHODS:
        raise unknown_word("method", name, frozenset(METHODS))
    return METHODS[name]


def causes(workspace: str, run: int, on: str = "validation", method: str = DEFAULT) -> Job[Result]:
    """What the mistakes of a run on a set have in common, in groups, each with the remedy that fits.

    ``typical 0`` … are the groups' mean maps, 16×16 float32.
    """
    chosen = method_of(method)
    place = Workspace.open(Path(workspace))
    own = place.run(run)
    answers = (yield from score(workspace, run, on)).values["answers"]
    model, data = yield from model_and_data(place, own)
    wrong = [(image, said, true, p) for image, said, true, p in answers if said != true][:MOST_MISTAKES]
    if not wrong:
        raise NotHere(
            "There are no mistakes to group", f"run {run} answers every {on} image rightly", "Choose another set"
        )
    layer = model.plan.nodes[-1].after[0]
    maps, features = [], []
    with Crew(2) as crew:
        probe = Probe(model.network(), crew)
        for number, (image, said, _, _) in enumerate(wrong):
            if number % 8 == 0:
                yield Progress(number, len(wrong), "explaining every mistake")
            prepared = model.levels.apply(data.pixels[data.place(image)][None])[0]
            maps.append(chosen.maps(probe, prepared, Asked.classes([said], probe.classes))[0])
            features.append(probe.outputs(layer, prepared[None])[0].reshape(-1))
    groups = grouped(np.stack(maps), np.stack(features))
    plan = own.plan()
    told = [cause_in_words(group, wrong, model.classes, plan) for group in groups]
    arrays: dict[str, NDArray[Any]] = {f"typical {k}": group.typical for k, group in enumerate(groups)}
    return Result({"run": run, "on": on, "mistakes": len(wrong), "groups": told}, arrays)


def cause_in_words(
    group: Group, wrong: list[tuple[int, int, int, float]], classes: tuple[str, ...], plan: Plan
) -> dict[str, Any]:
    """A group in words, with the plan that should end it where there is one."""
    members = [wrong[k] for k in group.members]
    said = [classes[s] for _, s, _, _ in members]
    common = max(set(said), key=said.count)
    share = said.count(common) / len(said)
    values: dict[str, Any] = {
        "images": [image for image, *_ in members],
        "said": {name: said.count(name) for name in sorted(set(said))},
        "row": group.row,
        "column": group.column,
        "focus": group.focus,
        "gathered": group.gathered,
        "at_one_place": group.at_one_place,
        "plan": None,
    }
    if group.at_one_place:
        step = Cover(row=round(group.row, 3), column=round(group.column, 3))
        others = tuple(own for own in plan.recipe if own.kind != step.kind)
        values["why"] = (
            f"{len(members)} mistakes rest on one place, {group.row:.0%} down and {group.column:.0%} across,"
            f" {share:.0%} of them said to be {common}: a mark, perhaps"
        )
        values["remedy"] = "Cover that place in training images and train again"
        values["plan"] = plan.with_recipe((*others, step)).write()
    elif min(p for *_, p in members) > 0.9:
        values["why"] = f"{len(members)} surely wrong answers on the things themselves, mostly {common}"
        values["remedy"] = "Look at their labels first: correct or exclude what is labelled wrongly"
    else:
        true = [classes[t] for _, _, t, _ in members]
        most = max(set(true), key=true.count)
        values["why"] = f"{len(members)} mistakes on the things themselves, mostly {most} said to be {common}"
        values["remedy"] = f"Add images of {most}, or train longer with a larger network"
    return values


def filters(workspace: str, run: int) -> Job[Result]:
    """The first convolution's filters as pictures, F×K×K×3 float32 in 0–1, under ``filters``."""
    return (yield from filters_of(str(Workspace.open(Path(workspace)).run(run).model)))


def filters_of(model: str) -> Job[Result]:
    """As `filters`, of a model file."""
    found = first_filters(model_of(Path(model)).network())
    yield Progress(1, 1)
    if found is None:
        return Result({"layer": None})
    return Result({"layer": found[0]}, {"filters": found[1]})
