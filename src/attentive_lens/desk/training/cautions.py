"""What to warn of before anybody trusts a figure: small classes, labels changed since, a test set used to choose by."""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence
from pathlib import PurePath

import numpy as np
from numpy.typing import NDArray

from attentive_lens.core.telling import counted
from attentive_lens.desk.images.collection import Collection, Library, collection
from attentive_lens.desk.images.outlines import regions_seen
from attentive_lens.images.sources.base import SET_WORDS
from attentive_lens.images.split import SETS, name_pattern
from attentive_lens.plan.plan import Plan
from attentive_lens.plan.preprocessing import Preprocessing
from attentive_lens.plan.tasks import TaskSettings
from attentive_lens.scoring.labels import LabelScores
from attentive_lens.scoring.measures import Share
from attentive_lens.scoring.scores import Scores
from attentive_lens.training.journal import EpochEvent
from attentive_lens.workspace import ImageRow, Run, Workspace

FEW = 10
"""Images below which a class is called small."""
GAP = 0.08
"""Accuracy by which a test set must fall behind the validation set to be told."""
OF_GROUPS = 0.7
"""Groups in parts of the images, up to which their intervals are told."""
PERFECT = 0.985
"""Validation accuracy from which it is looked whether that can be."""
SHARED = 0.5
"""Part of the validation images that share names with training images for it to be told."""
NAMED = 3
"""Classes named one by one."""


def changed_since(run: Run, collection: Collection) -> list[int]:
    """Numbers of the images a run was trained or judged with under another label than they have now."""
    noted = run.images()
    if noted is None:
        return []
    count = min(len(noted[0]), len(collection.rows))
    now = collection.labels if collection.stored is None else collection.stored
    return _numbers(now[:count] != noted[0][:count], collection)


def repainted_since(run: Run, collection: Collection, regions: NDArray[np.int64]) -> list[int]:
    """Numbers of the images of which a run would see other pixels now than those it was trained or judged with.

    Others as a rescan noted, or other parts of them: ``regions``, N×4, are what it would see, see `regions_seen`.
    """
    then, then_seen = run.digests(), run.regions()
    count, of = min(len(then), len(collection.rows)), min(len(then_seen), len(collection.rows))
    now, then = collection.digests[:count], then[:count]
    others = np.zeros(len(collection.rows), bool)
    others[:count] = (now != then) & (now != 0) & (then != 0)
    others[:of] |= (regions[:of] != then_seen[:of]).any(axis=1)
    return _numbers(others, collection)


def _numbers(chosen: NDArray[np.bool_], collection: Collection) -> list[int]:
    return [collection.rows[place].number for place in np.flatnonzero(chosen).tolist()]


def judged_by_test(workspace: Workspace) -> list[int]:
    """Numbers of the runs that the test set has judged so far."""
    return [run.number for run in workspace.runs() if run.scores_file("test").exists()]


def caution_of_test(judged: Sequence[int]) -> str:
    """What to say once the test set has judged several runs; empty before."""
    if len(judged) < 2:
        return ""
    return (
        f"The test set has judged {len(judged)} runs ({', '.join(map(str, judged))}). Choose between runs by the"
        " validation set: a run chosen by the test set looks better there than it is."
    )


def caution_of_gap(run: Run, best: EpochEvent | None, scores: Scores) -> str:
    """What to say where a run does far worse on the test set than it did on the validation set; empty if it does not.

    Far is eight points, and three standard errors of the difference of two parts.
    """
    images = run.images()
    noted = images[1].count("validation") if images is not None else 0
    held_out = best.validation.accuracy if best is not None and best.validation is not None else None
    if scores.on != "test" or held_out is None or not noted:
        return ""
    gap = held_out - scores.accuracy
    both = (held_out * noted + scores.accuracy * scores.images) / (noted + scores.images)
    error = math.sqrt(both * (1 - both) * (1 / noted + 1 / scores.images))
    if gap < GAP or gap < 3 * error:
        return ""
    return (
        f"Of the test images {scores.accuracy:.1%} are right, of the validation images {held_out:.1%}:"
        " more apart than by chance. The test set shows what training never did, or the validation set is too much like"
        " the training set, by copies or by tiles of one photograph: look for faults."
    )


def caution_of_names(collection: Collection, accuracy: float) -> str:
    """What to say where nearly all validation images are right and share names with training images; else empty."""
    if accuracy < PERFECT:
        return ""
    members = np.concatenate([collection.members("training"), collection.members("validation")])
    names = [collection.rows[k].name for k in members]
    pattern, groups = name_pattern(names, collection.labels[members])
    first = len(collection.members("training"))
    trained = {group for place, group in groups.items() if place < first}
    shared = sum(group in trained for place, group in groups.items() if place >= first)
    held_out = len(members) - first
    if not pattern or not held_out or shared < SHARED * held_out:
        return ""
    return (
        f"{accuracy:.1%} of the validation images are right, and {shared} of {held_out} share their name, but for the"
        " last numbers, with training images: if they are copies or tiles of one picture, that is too good to be true."
        " Look for faults."
    )


def caution_of_groups(scores: Scores | LabelScores) -> str:
    """What to say where the split keeps images together: so much less an accuracy stands on.

    Of several labels the part of the images with every label right.
    """
    count = len(np.unique(scores.groups))
    if not 2 <= count <= OF_GROUPS * scores.images:
        return ""
    is_one = isinstance(scores, Scores)
    share = scores.measures.overview.accuracy if isinstance(scores, Scores) else scores.exact_match
    alone = Share.made(share.count, share.of)
    return (
        f"The {scores.images} {scores.on} images are of {count} groups, whose images may be answered alike:"
        f" allowing for that, as the intervals of classes do, {'the accuracy' if is_one else 'exact match'} lies"
        f" between {share.low:.1%} and {share.high:.1%} (95 %); if each stood alone it would be between"
        f" {alone.low:.1%} and {alone.high:.1%}."
    )


def caution_of_torn_groups(groups: Mapping[int, int], collection: Collection) -> str:
    """What to say where images that belong together, ``groups`` by place, are in training and held out all the same."""
    sets: dict[int, set[str]] = {}
    for place, group in groups.items():
        if collection.sets[place] in SETS:
            sets.setdefault(group, set()).add(collection.sets[place])
    torn = sum("training" in names and len(names) > 1 for names in sets.values())
    if not torn:
        return ""
    return (
        f"{torn} of {len(sets)} groups that should stay together have images in training and held-out images too, for"
        " the source or a person put them there: what is held out is known in part."
    )


def classes_by_folder(collection: Collection) -> list[str]:
    """A sentence where classes stand in one folder each that they share with some others, but not with all."""
    folders: dict[int, set[str]] = {}
    for label, folder in collection.folders:
        name = collection.classes[label]
        parts = [part for part in PurePath(folder).parts if part != name and part.lower() not in SET_WORDS]
        folders.setdefault(label, set()).add("/".join(parts))
    every = set().union(*folders.values()) if folders else set()
    if len(every) < 2:
        return []
    alone = {label: next(iter(places)) for label, places in folders.items() if len(places) == 1}
    shared = [label for label, place in alone.items() if sum(place in places for places in folders.values()) > 1]
    if not shared:
        return []
    names = ", ".join(f"«{collection.classes[label]}»" for label in shared[:NAMED])
    more = f" and {len(shared) - NAMED} more" if len(shared) > NAMED else ""
    stand = "stands" if len(shared) == 1 else "stand"
    return [
        f"{names}{more} {stand} in one folder only, of {len(every)}: a network may learn the folder, its camera or its"
        " day, in place of the class."
    ]


def cautions_of(
    workspace: Workspace, run: Run, scores: Scores, changed: Sequence[int], best: EpochEvent | None
) -> list[str]:
    """All there is to know before a run's scores are trusted; ``best`` is its best epoch."""
    plan = run.plan()
    images = collection(workspace, plan, run)
    repainted = repainted_since(run, images, regions_seen(workspace, images.rows, plan.preprocessing))
    cautions = [caution_of_labels(run.number, changed), caution_of_pixels(run.number, repainted)]
    cautions.append(caution_of_sets(plan.task, images.several))
    if scores.on == "test":
        cautions.append(caution_of_gap(run, best, scores))
    cautions += _of_set(workspace, plan, images, scores)
    if scores.on == "validation" and scores.accuracy >= PERFECT:
        cautions.append(caution_of_names(images, scores.accuracy))
    return [sentence for sentence in cautions if sentence]


def cautions_of_several(workspace: Workspace, run: Run, scores: LabelScores) -> list[str]:
    """As `cautions_of`, of the scores of several labels."""
    plan = run.plan()
    return [sentence for sentence in _of_set(workspace, plan, collection(workspace, plan, run), scores) if sentence]


def _of_set(workspace: Workspace, plan: Plan, images: Collection, scores: Scores | LabelScores) -> list[str]:
    """Of the set they are scored on, whatever is answered."""
    groups = Library.read(workspace).groups(plan)
    of_test = caution_of_test(judged_by_test(workspace)) if scores.on == "test" else ""
    return [of_test, caution_of_groups(scores), caution_of_torn_groups(groups, images) if groups else ""]


def caution_of_sets(task: TaskSettings, several: bool) -> str:
    """What to say where images may have several labels and a plan's task takes sets of them for classes; or nothing."""
    if not several or task.several or task.draws:
        return ""
    return (
        "The images may have several labels, and with this task every set of them is a class of its own:"
        " task=multi-label answers each label by itself."
    )


def caution_of_scale(settings: Preprocessing, rows: Sequence[ImageRow]) -> str:
    """What to say of images that are seen at their own scale: how many only in part, and how many in a border."""
    if not settings.keeps_scale:
        return ""
    tall, wide = settings.sides
    cut = sum(row.height > tall or row.width > wide for row in rows)
    bordered = sum(row.height < tall or row.width < wide for row in rows)
    cut_in_words = f"{cut} {'is' if cut == 1 else 'are'} cut to the middle"
    bordered_in_words = f"{bordered} {'gets' if bordered == 1 else 'get'} a border"
    parts = [words for count, words in ((cut, cut_in_words), (bordered, bordered_in_words)) if count]
    return f"Of {counted(len(rows), 'image', 'images')} at their own scale, {', and '.join(parts)}." if parts else ""


def caution_of_labels(run: int, changed: Sequence[int]) -> str:
    """What to say when labels were changed after a run; empty if none were."""
    if not changed:
        return ""
    images = "1 image has" if len(changed) == 1 else f"{len(changed)} images have"
    shown = ", ".join(map(str, changed[:8])) + (", …" if len(changed) > 8 else "")
    return f"{images} another label now than run {run} knew: {shown}. Train again to learn from the new ones."


def caution_of_pixels(run: int, changed: Sequence[int]) -> str:
    """What to say when images have other pixels than they had for a run; empty if none have."""
    if not changed:
        return ""
    images = "1 image has" if len(changed) == 1 else f"{len(changed)} images have"
    shown = ", ".join(map(str, changed[:8])) + (", …" if len(changed) > 8 else "")
    return (
        f"{images} other contents now than when run {run} was trained: {shown}. Scores, maps and neighbours are made"
        " anew from what is there now; train again to learn from it."
    )


def small_classes(collection: Collection) -> list[str]:
    """Sentences about classes with fewer images than can be split and learned from; many are told in one."""
    kinds = zip(collection.kinds, collection.kind_totals, strict=True)
    small = [(name, count) for name, count in kinds if count < FEW]
    sentences = []
    if len(collection.classes) == 1:
        sentences.append(
            f"All images are of one class, «{collection.classes[0]}»: networks that draw learn from them; to answer"
            " classes, put the images of each in a folder."
        )
    for name, count in small[:NAMED]:
        images = "1 image" if count == 1 else f"{count} images"
        sentences.append(f"«{name}» has only {images}: too few to learn from and to be judged by.")
    if len(small) > NAMED:
        what = "labels" if collection.several else "classes"
        sentences.append(f"… and {len(small) - NAMED} more {what} have fewer than {FEW} images.")
    return sentences
