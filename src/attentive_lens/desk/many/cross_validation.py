"""Cross-validation: the answers of all folds together, each image by the model that never saw it."""

from __future__ import annotations

import csv
import io
from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path

import numpy as np

from attentive_lens.core.files import write_text
from attentive_lens.core.jobs import Job
from attentive_lens.desk.requests.models import Score
from attentive_lens.desk.tasks import carry_out
from attentive_lens.scoring.measures import Share
from attentive_lens.workspace import Run, Workspace


@dataclass(frozen=True)
class FoldAnswer:
    """An image's answer by the model of the fold that held it out.

    Attributes
    ----------
    image, fold : int
        Its number in the catalogue; from 1.
    file, true, predicted : str
        Its file, its label, and the class said.
    probability : float
        Of the class said.
    """

    image: int
    file: str
    fold: int
    true: str
    predicted: str
    probability: float


@dataclass(frozen=True)
class Crossed:
    """Every training image answered.

    Attributes
    ----------
    answers : tuple of FoldAnswer
        In the order of the images.
    accuracy, low, high : float
        Part answered rightly, with its 95 % interval. Each fold's best epoch was chosen by the same images, which
        makes it a little too good.
    by_fold : tuple of float
        Accuracy of each fold.
    """

    answers: tuple[FoldAnswer, ...]
    accuracy: float
    low: float
    high: float
    by_fold: tuple[float, ...]

    @property
    def images(self) -> int:
        """How many."""
        return len(self.answers)


def crossed(workspace: Workspace, runs: Sequence[Run]) -> Job[Crossed]:
    """The folds' answers together; one run a fold, in their order."""
    answers, by_fold = list[FoldAnswer](), list[float]()
    units = dict[int, int]()
    for fold, run in enumerate(runs, 1):
        scores = yield from carry_out(Score(str(workspace.folder.absolute()), run.number, "validation"))
        by_fold.append(scores.accuracy)
        units |= zip(scores.numbers.tolist(), scores.groups.tolist(), strict=True)
        files = {row.number: row.file for row in workspace.catalogue.images()}
        answers += [
            FoldAnswer(
                each.image, files.get(each.image, ""), fold, scores.classes[each.true], scores.classes[each.predicted],
                each.probability,
            )
            for each in scores.answers
        ]  # fmt: skip
    answers.sort(key=lambda answer: answer.image)
    right = np.array([answer.predicted == answer.true for answer in answers], bool)
    share = Share.by_group(right, np.array([units[answer.image] for answer in answers], np.int64))
    return Crossed(tuple(answers), share.value or 0.0, *share.bounds, tuple(by_fold))


def write_answers(file: Path, result: Crossed) -> None:
    """Every answer as a line of a CSV file; `BadFile` if it cannot be written."""
    text = io.StringIO()
    table = csv.writer(text, lineterminator="\n")
    table.writerow(["image", "file", "fold", "true", "predicted", "probability"])
    for each in result.answers:
        table.writerow([each.image, each.file, each.fold, each.true, each.predicted, f"{each.probability:.6g}"])
    write_text(file, text.getvalue())
