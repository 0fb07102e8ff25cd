"""Tasks that look inside a trained network: a layer's filters, neighbours of an image, changes tried on one."""

from __future__ import annotations

import contextlib
import hashlib
import json
import os
import zipfile
from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray

from attentive_lens.desk.tasks.base import Result
from attentive_lens.desk.tasks.models import model_and_data
from attentive_lens.engine.crew import Crew
from attentive_lens.errors import BadUsage, BadValue
from attentive_lens.explaining.changes import CHANGES
from attentive_lens.explaining.channels import (
    Excitement,
    contributions,
    patch,
    speaks_for,
    switched_off,
    synthetic,
    turned,
)
from attentive_lens.explaining.neighbours import MOST, embedded, nearest, principal
from attentive_lens.explaining.probe import Asked, Probe
from attentive_lens.explaining.smallest import smallest_cover
from attentive_lens.plan.chance import chance
from attentive_lens.plan.progress import Job, Progress
from attentive_lens.plan.values import unknown_word
from attentive_lens.workspace import Workspace

PIECE = 64
SPEAKING = 48
"""Images over which it is averaged what channels add to the classes."""


def layer(workspace: str, run: int, node: str, patches: int = 9, images: int = 20_000, drawn: int = 8) -> Job[Result]:
    """What the channels of a layer look for.

    All training images are looked at; of more than ``images``, as large a part of every class drawn at random.

    ``patches``, C×P×k×k×3 uint8: the training patches that excite each channel most, cut to its receptive field;
    ``synthetic``, up to ``drawn``×S×S×C uint8: images made to excite the channels that matter most; ``speaks``, K×C:
    what each channel adds to each class. The values name images and values of the patches. Kept beside the run, and
    read from there the next time.
    """
    place = Workspace.open(Path(workspace))
    own_run = place.run(run)
    model, data = yield from model_and_data(place, own_run)
    asked = {"patches": patches, "images": images, "drawn": drawn, "model": own_run.model.stat().st_mtime_ns}
    file = own_run.folder / f"layer-{hashlib.sha256(node.encode()).hexdigest()[:16]}.npz"
    kept = _kept(file, asked)
    if kept is not None:
        return kept
    fact = next((f for f in model.plan.facts(model.preparation.shape) if f.name == node), None)
    if fact is None:
        raise unknown_word("layer", node, frozenset(n.name for n in model.plan.nodes))
    if len(fact.shape) != 3:
        raise BadValue(f"{node} has no feature maps", "its output is one row of values", "Choose a layer before it")
    training = data.members("training")
    members = _drawn(training, data.labels, images)
    collected = Excitement(patches)
    with Crew(2) as crew:
        probe = Probe(model.network(), crew)
        for first in range(0, len(members), PIECE):
            yield Progress(first, len(members), "looking for patches")
            part = members[first : first + PIECE]
            collected.add(probe.outputs(node, model.levels.apply(data.pixels[part])))
        found = collected.found()
        chosen = members[np.linspace(0, len(members) - 1, min(SPEAKING, len(members))).astype(int)]
        speaks = speaks_for(probe, model.levels.apply(data.pixels[chosen]), node)
        matter = np.argsort(-np.abs(speaks).max(axis=0), kind="stable")[:drawn]
        made = []
        for number, channel in enumerate(matter):
            yield Progress(number, len(matter), "drawing what excites a channel")
            made.append(_shown(synthetic(probe.network, node, int(channel))))
    side = min(fact.sees or data.pixels.shape[1], data.pixels.shape[1])
    cut = np.empty((*found.images.shape, side, side, data.pixels.shape[3]), np.uint8)
    for channel, own in enumerate(found.images):
        for k, at in enumerate(own):
            cut[channel, k] = patch(
                data.pixels[members[at]], fact, int(found.rows[channel, k]), int(found.columns[channel, k])
            )
    weights = model.weights.get(node, {})
    arrays: dict[str, NDArray[Any]] = {"patches": cut, "synthetic": np.stack(made), "speaks": speaks}
    arrays |= {f"weights {name}": value for name, value in weights.items()}
    rows = data.collection.rows
    values = {
        "layer": node,
        "sees": fact.sees,
        "classes": list(model.classes),
        "images_looked_at": len(members),
        "images_in_all": len(training),
        "synthetic_channels": matter.tolist(),
        "images": [[rows[members[at]].number for at in own] for own in found.images],
        "values": found.values.round(5).tolist(),
    }
    with contextlib.suppress(OSError):  # where nothing may be written, it is worked out again
        own = file.with_name(f".{os.getpid()}.npz")
        stored: dict[str, Any] = {"told": json.dumps({"values": values, "asked": asked}), **arrays}
        np.savez(own, **stored)
        own.replace(file)
    return Result(values, arrays)


def _drawn(members: NDArray[np.int64], labels: NDArray[np.int64], count: int) -> NDArray[np.int64]:
    """Some images, in their order: all if there are no more, else the same part of every class, at least one each."""
    if len(members) <= count:
        return members
    random = chance(0, "images of every class").random(len(labels))
    chosen = []
    for label in np.unique(labels[members]):
        own = members[labels[members] == label]
        ranked = own[np.argsort(random[own], kind="stable")]
        chosen.append(ranked[: max(1, round(len(own) * count / len(members)))])
    return np.sort(np.concatenate(chosen))


def _kept(file: Path, asked: dict[str, Any]) -> Result | None:
    """What was kept for the same question to the same model, if anything."""
    try:
        with np.load(file, allow_pickle=False) as kept:
            told = json.loads(str(kept["told"]))
            if told["asked"] == asked:
                return Result(told["values"], {name: kept[name] for name in kept.files if name != "told"})
    except (OSError, ValueError, KeyError, zipfile.BadZipFile):
        return None
    return None


def _shown(image: NDArray[Any]) -> NDArray[np.uint8]:
    """Prepared levels about mid-grey."""
    return (128 + 50 * image).clip(0, 255).astype(np.uint8)


def neighbours(
    workspace: str, run: int, image: int, node: str = "", count: int = 8, laid_out: bool = False
) -> Job[Result]:
    """The training images a layer finds nearest to an image, of the class said and of the true one.

    Without a layer, the last before the answers. Laid out, ``places``, N×2, are the principal components of the (first
    5 000) training images' outputs, and ``embedded`` their places by t-SNE.
    """
    place = Workspace.open(Path(workspace))
    model, data = yield from model_and_data(place, place.run(run))
    at = data.place(image)
    node = node or model.plan.nodes[-1].after[0]
    if node not in {n.name for n in model.plan.nodes}:
        raise unknown_word("layer", node, frozenset(n.name for n in model.plan.nodes))
    members = data.members("training")
    with Crew(2) as crew:
        probe = Probe(model.network(), crew)
        prepared = model.levels.apply(data.pixels[at][None])
        said = int(probe.scores(prepared)[0].argmax())
        query = probe.outputs(node, prepared).reshape(-1)
        parts = []
        for first in range(0, len(members), PIECE):
            yield Progress(first, len(members), "asking the layer about training images")
            part = members[first : first + PIECE]
            outs = probe.outputs(node, model.levels.apply(data.pixels[part]))
            parts.append(outs.reshape(len(part), -1))
    features = np.concatenate(parts)
    found: dict[str, Any] = {}
    for key, label in (("said", said), ("true", int(data.labels[at]))):
        own = np.flatnonzero((data.labels[members] == label) & (members != at))
        order, gaps = nearest(features[own], query, count)
        found[key] = [
            {"image": data.collection.rows[members[own[k]]].number, "distance": float(gap)}
            for k, gap in zip(order, gaps, strict=True)
        ]
    values = {
        "image": image,
        "layer": node,
        "classes": {"said": model.classes[said], "true": model.classes[int(data.labels[at])]},
        "near": found,
    }
    if not laid_out:
        return Result(values)
    yield Progress(1, 2, "laying images out")
    places, explained = principal(features[:MOST])
    values["explained"] = explained.tolist()
    values["images"] = [data.collection.rows[m].number for m in members[:MOST]]
    return Result(values, {"places": places, "embedded": embedded(features[:MOST])})


def tried(workspace: str, run: int, image: int, changes: list[dict[str, Any]], smallest: bool = True) -> Job[Result]:
    """Answers after changes tried on an image, each on the original: ``{"change": "cover", "row": 0.8, …}``.

    If asked, also the smallest square whose covering changes the answer; a search that could not try all says so, and
    one that found none has no side. ``pixels 0`` … are the changed images,
    S×S×C uint8.
    """
    place = Workspace.open(Path(workspace))
    model, data = yield from model_and_data(place, place.run(run))
    pixels = data.pixels[data.place(image)]
    made = [_changed(pixels, change) for change in changes]
    with Crew(2) as crew:
        probe = Probe(model.network(), crew)
        prepared = model.levels.apply(np.stack([pixels, *made]))
        found = probe.probabilities(prepared)
        search = (yield from smallest_cover(probe, prepared[0])) if smallest else None
    least = search.as_dict() if search is not None else None
    if least is not None and "said" in least:
        least["said"] = model.classes[least["said"]]
    answers = [{name: float(p) for name, p in zip(model.classes, row, strict=True)} for row in found]
    said = [model.classes[int(row.argmax())] for row in found]
    values = {
        "image": image,
        "before": {"said": said[0], "probabilities": answers[0]},
        "after": [
            {**change, "said": s, "probabilities": a}
            for change, s, a in zip(changes, said[1:], answers[1:], strict=True)
        ],
        "smallest_cover": least,
    }
    return Result(values, {f"pixels {k}": own for k, own in enumerate(made)})


def _changed(pixels: NDArray[np.uint8], change: dict[str, Any]) -> NDArray[np.uint8]:
    rest = dict(change)
    kind = str(rest.pop("change", ""))
    if kind not in CHANGES:
        raise unknown_word("change", kind, frozenset(CHANGES))
    try:
        settings = {name: float(value) for name, value in rest.items()}
        if not all(np.isfinite(value) for value in settings.values()):
            raise ValueError("not finite")
        return CHANGES[kind](pixels, **settings)
    except (TypeError, ValueError, OverflowError):
        names = CHANGES[kind].__code__.co_varnames[1 : CHANGES[kind].__code__.co_argcount]
        raise BadUsage(
            f"The change {kind} could not be made", f"it takes {', '.join(names)} as numbers", "Give these"
        ) from None


def channel(workspace: str, run: int, image: int, node: str, number: int) -> Job[Result]:
    """What channels of a layer add to *said* minus *true*, and the answer with one switched off, halved and doubled.

    Where both are one class, what they add to that class's score; ``of`` says which. ``adds`` is measured by switching
    each channel off, ``gradient`` is the same to first order; channels that add most come first.
    """
    place = Workspace.open(Path(workspace))
    model, data = yield from model_and_data(place, place.run(run))
    at = data.place(image)
    if node not in {n.name for n in model.plan.nodes}:
        raise unknown_word("layer", node, frozenset(n.name for n in model.plan.nodes))
    probe = Probe(model.network())
    prepared = model.levels.apply(data.pixels[at][None])[0]
    said, true = int(probe.scores(prepared[None])[0].argmax()), int(data.labels[at])
    asked = Asked.classes([said], probe.classes)
    if said != true:
        asked = Asked(asked.seeds - Asked.classes([true], probe.classes).seeds)
    yield Progress(0, 2, "switching channels off")
    adds = switched_off(probe, prepared, node, asked)[0]
    if not 0 <= number < len(adds):
        raise BadValue(
            f"There is no channel {number}", f"{node} has channels 0 to {len(adds) - 1}", "Choose one of these"
        )
    first_order = contributions(probe, prepared, node, asked)[0]
    yield Progress(1, 2, "turning the channel up and down")
    factors = [1.0, 0.0, 0.5, 2.0]
    rows = turned(probe, prepared, node, number, factors)
    answers = [{name: float(p) for name, p in zip(model.classes, row, strict=True)} for row in rows]
    order = np.argsort(-np.abs(adds), kind="stable").tolist()
    values = {
        "layer": node,
        "channel": number,
        "of": "said − true" if said != true else model.classes[said],
        "said": model.classes[said],
        "true": model.classes[true],
        "adds": {str(k): float(adds[k]) for k in order},
        "gradient": {str(k): float(first_order[k]) for k in order},
        "answers": [{"factor": f, "probabilities": a} for f, a in zip(factors, answers, strict=True)],
    }
    return Result(values)
