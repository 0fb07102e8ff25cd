"""What to warn of before anybody trusts a figure: small classes, labels changed since, a test set used to choose by."""

from __future__ import annotations

import math
from collections.abc import Sequence

from attentive_lens.desk.collection import Collection
from attentive_lens.scoring.scores import Scores
from attentive_lens.training.journal import EpochEvent
from attentive_lens.workspace import Run, Workspace

FEW = 10
"""Images below which a class is called small."""
GAP = 0.08
"""Accuracy by which a test set must fall behind the validation set to be told."""
NAMED = 3
"""Classes named one by one."""


def changed_since(run: Run, collection: Collection) -> list[int]:
    """Numbers of the images a run was trained or judged with under another label than they have now."""
    noted = run.images()
    if noted is None:
        return []
    return [row.number for row, then in zip(collection.rows, noted[0].tolist(), strict=False) if row.label != then]


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
    if scores.on != "test" or best is None or best.validation is None or not noted:
        return ""
    gap = best.validation.accuracy - scores.accuracy
    both = (best.validation.accuracy * noted + scores.accuracy * scores.images) / (noted + scores.images)
    error = math.sqrt(both * (1 - both) * (1 / noted + 1 / scores.images))
    if gap < GAP or gap < 3 * error:
        return ""
    return (
        f"Of the test images {scores.accuracy:.1%} are right, of the validation images {best.validation.accuracy:.1%}:"
        " more apart than by chance. The test set shows what training never did, or the validation set is too much like"
        " the training set, by copies or by tiles of one photograph: look for faults."
    )


def caution_of_labels(run: int, changed: Sequence[int]) -> str:
    """What to say when labels were changed after a run; empty if none were."""
    if not changed:
        return ""
    images = "1 image has" if len(changed) == 1 else f"{len(changed)} images have"
    shown = ", ".join(map(str, changed[:8])) + (", …" if len(changed) > 8 else "")
    return f"{images} another label now than run {run} knew: {shown}. Train again to learn from the new ones."


def small_classes(collection: Collection) -> list[str]:
    """Sentences about classes with fewer images than can be split and learned from; many are told in one."""
    small = [(name, count) for name, count in zip(collection.classes, collection.totals, strict=True) if count < FEW]
    sentences = []
    for name, count in small[:NAMED]:
        images = "1 image" if count == 1 else f"{count} images"
        sentences.append(f"«{name}» has only {images}: too few to learn from and to be judged by.")
    if len(small) > NAMED:
        sentences.append(f"… and {len(small) - NAMED} more classes have fewer than {FEW} images.")
    return sentences
