"""How a run that answers several labels did, told label by label."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

import numpy as np
from rich.table import Table

from attentive_lens.cli.app import printable
from attentive_lens.cli.speaking import out, say_json, watched
from attentive_lens.desk.requests.labels import ScoreLabels
from attentive_lens.scoring.measures import Share

if TYPE_CHECKING:
    from attentive_lens.scoring.labels import LabelScores
    from attentive_lens.workspace import Workspace

MOST_LABELS = 12
"""Up to which the table of labels that go together is printed; of more the pairs that are exchanged most are."""
PAIRS = 10
SHOWN = 8
"""Images named for each label."""


def say_labels(place: Workspace, number: int, on: str, folder: Path | None, as_json: bool) -> None:
    """Score a run on a set, and say how it did; into a folder too, where one is named."""
    from attentive_lens.desk.results.exporting import write_label_scores
    from attentive_lens.desk.tasks import carry_out
    from attentive_lens.desk.training.cautions import cautions_of_several

    scores = watched(carry_out(ScoreLabels(str(place.folder), number, on)), "scoring")
    if folder is not None:
        write_label_scores(folder, scores, {row.number: printable(row.file) for row in place.catalogue.images()})
    if as_json:
        say_json(scores)
        return
    for line in summary(scores):
        out.print(line)
    out.print(by_label(scores))
    if len(scores.labels) <= MOST_LABELS:
        out.print(together(scores))
    for line in exchanged(scores):
        out.print(line)
    for each in scores.by_label:
        for word, images in (("missed", each.missed), ("falsely said", each.false)):
            if images:
                shown = ", ".join(map(str, images[:SHOWN])) + (", …" if len(images) > SHOWN else "")
                out.print(f"{each.name} {word}: {shown}")
    for caution in cautions_of_several(place, place.run(number), scores):
        out.print(caution)
    first = scores.labels[0]
    out.print(f"Ask about one label with the number, as in «explain {place.folder} {number}:{first} IMAGE».")


def summary(scores: LabelScores) -> list[str]:
    """What it comes to, beside what doing nothing would bring."""
    ranked = (scores.label_ranking_average_precision, scores.coverage, scores.ranking_loss)
    lines = [
        f"run {scores.run} on {scores.on}: {scores.images} images, {len(scores.labels)} labels",
        f"exact match {scores.exact_match.words}; label accuracy {scores.label_accuracy.words}, with no label ever said"
        f" {scores.nothing_said.words}",
        f"macro F1 {_figure(scores.macro_f1)}, micro F1 {_figure(scores.micro_f1)}; mean average precision"
        f" {_figure(scores.mean_average_precision)}, in any order {_figure(scores.chance)}; loss {scores.loss:.3f}",
    ]
    if ranked[0] is not None:
        lines.append(
            f"an image's labels by rank: average precision {_figure(ranked[0])}, coverage {_figure(ranked[1], 2)},"
            f" ranking loss {_figure(ranked[2])}"
        )
    if scores.on == "validation":
        lines.append("Thresholds were chosen on the validation images: the test set tells what they are worth.")
    return lines


def by_label(scores: LabelScores) -> Table:
    """A line a label: its threshold, and how well its images are ranked (AP: average precision)."""
    heads = ("label", "images", "threshold", "precision", "recall", "F1", "AP", "missed", "false")
    table = Table(*heads, box=None)
    for each in scores.by_label:
        figures = (_figure(each.f1), _figure(each.average_precision))
        shares = (_share(each.precision), _share(each.recall))
        counts = (str(len(each.missed)), str(len(each.false)))
        table.add_row(each.name, str(each.support), f"{each.threshold:.2f}", *shares, *figures, *counts)
    return table


def together(scores: LabelScores) -> Table:
    """Images that have both labels, and are said to."""
    table = Table("co-occurrence: there / said", *scores.labels, box=None)
    for k, name in enumerate(scores.labels):
        pairs = zip(scores.together[k], scores.said_together[k], strict=True)
        table.add_row(name, *(f"{had} / {said}" for had, said in pairs))
    return table


def exchanged(scores: LabelScores) -> list[str]:
    """Pairs of labels of which one is missed where the other is falsely said, the most frequent first."""
    counts = np.array(scores.exchanged)
    pairs = [(int(counts[a, b]), int(a), int(b)) for a, b in np.argwhere(counts)]
    pairs.sort(key=lambda pair: (-pair[0], pair[1], pair[2]))
    names = scores.labels
    return [f"{names[a]} missed and {names[b]} falsely said: {count} images" for count, a, b in pairs[:PAIRS]]


def _share(share: Share) -> str:
    if share.value is None or share.low is None or share.high is None:
        return "–"
    return f"{share.value:.0%} ({share.low * 100:.0f}–{share.high * 100:.0f})"


def _figure(value: float | None, digits: int = 3) -> str:
    return "–" if value is None else f"{value:.{digits}f}"
