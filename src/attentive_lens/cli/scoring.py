"""The command that tells how good a run's model is, and on what."""

from __future__ import annotations

from pathlib import Path
from typing import Annotated

import typer
from rich.table import Column, Table

from attentive_lens.cli.app import AsJson, InWorkspace, OfRun, OnSet, app, check_set, printable
from attentive_lens.cli.results import Mistake, ScoresOfRun
from attentive_lens.cli.speaking import out, reporting, say_json, watched
from attentive_lens.core.values import unknown_word
from attentive_lens.desk.cautions import cautions_of, changed_since, judged_by_test
from attentive_lens.desk.collection import collection
from attentive_lens.desk.requests.models import Score
from attentive_lens.desk.requests.slices import FindSlices
from attentive_lens.desk.runs import RunReader
from attentive_lens.scoring.measures import Share
from attentive_lens.scoring.scores import Scores
from attentive_lens.scoring.slices import Slice

MOST = 20
"""Wrong images, and pairs of classes, that are printed."""
CUTS = ("all", "brightness", "contrast", "sharpness", "size in pixels", "shape", "folder", "format")
MOST_CLASSES = 12
"""Classes up to which the confusion matrix is printed; of more its pairs are."""


@app.command()
@reporting
def score(
    workspace: InWorkspace,
    run: OfRun,
    on: OnSet = "validation",
    by: Annotated[
        str,
        typer.Option(
            metavar="WORD",
            help="Slices: all, brightness, contrast, sharpness, size in pixels, shape, folder or format.",
        ),
    ] = "",
    folder: Annotated[
        Path | None, typer.Option("--out", metavar="FOLDER", help="Write scores.json and every answer as CSV there.")
    ] = None,
    as_json: AsJson = False,
) -> None:
    """Score a run's best model on a set: accuracy with its interval, classes, confidence, the wrong images."""
    from attentive_lens.desk.tasks import carry_out
    from attentive_lens.scoring import measures
    from attentive_lens.workspace import Workspace

    check_set(on)
    if by and by not in CUTS:
        raise unknown_word("--by", by, frozenset(CUTS))
    scores = watched(carry_out(Score(str(workspace), run, on)), "scoring")
    place = Workspace.open(workspace)
    now = collection(place, place.run(run).plan())
    relabelled, judged = changed_since(place.run(run), now), judged_by_test(place)
    files, names = {row.number: row.file for row in now.rows}, scores.classes
    wrong = [
        Mistake(a.image, printable(files[a.image]), names[a.said], names[a.true], a.probability) for a in scores.wrong
    ]
    told = ScoresOfRun(
        run,
        on,
        scores.images,
        scores.unknown,
        scores.accuracy,
        scores.loss,
        scores.loss_function,
        scores.output,
        names,
        scores.per_class,
        tuple(map(tuple, scores.confusion.tolist())),
        tuple(wrong),
        tuple(relabelled),
        tuple(judged),
        measures.overview(scores),
        measures.per_class(scores),
        measures.confusions(scores),
        measures.calibration(scores) if scores.output != "none" else (),
        measures.calibration_error(scores) if scores.output != "none" else None,
        scores.temperature,
        _slices(workspace, run, on, by) if by else (),
    )
    if folder is not None:
        from attentive_lens.desk.exporting import write_scores

        write_scores(folder, told, scores, {number: printable(file) for number, file in files.items()})
    if as_json:
        say_json(told)
        return
    _say(told, scores)
    for caution in cautions_of(place, place.run(run), scores, relabelled, RunReader(place.run(run)).view().best):
        out.print(caution)


def _slices(workspace: Path, run: int, on: str, by: str) -> tuple[Slice, ...]:
    """Those that were asked for; corrected for all that were tried."""
    from attentive_lens.desk.tasks import carry_out

    found = watched(carry_out(FindSlices(str(workspace), run, on)), "cutting into slices")
    return tuple(each for each in found.slices if by in ("all", each.by))


def percent(share: Share) -> str:
    """A share with its interval."""
    if share.value is None or share.low is None or share.high is None:
        return "–"
    return f"{share.value:.1%} ({share.low * 100:.0f}–{share.high * 100:.0f})"


def _say(told: ScoresOfRun, scores: Scores) -> None:
    view, names = told.overview, scores.classes
    out.print(
        f"run {told.run} on {told.on}: {percent(view.accuracy)} of {scores.images} images right,"
        f" {scores.loss_function} {scores.loss:.3f}"
    )
    if scores.unknown:
        out.print(f"{scores.unknown} images more are of classes that it does not know; they do not count.")
    more = [f"top-{k} {percent(share)}" for k, share in view.top]
    if view.balanced_accuracy is not None and view.macro_f1 is not None:
        more += [f"balanced accuracy {view.balanced_accuracy:.1%}", f"macro F1 {view.macro_f1:.3f}"]
    if view.chance is not None and view.majority is not None:
        more += [f"guessing {view.chance:.1%}", f"always the largest class {view.majority:.1%}"]
    out.print(", ".join(more))
    table = Table(
        Column("class", no_wrap=True), "precision", "recall", "F1", "images", "mean confidence", "most taken for",
        box=None,
    )  # fmt: skip
    for each in told.by_class:
        taken = f"{each.taken_for} ({each.taken})" if each.taken else ""
        table.add_row(
            each.name,
            percent(each.precision),
            percent(each.recall),
            "–" if each.f1 is None else f"{each.f1:.3f}",
            str(each.support),
            "–" if each.confidence is None else f"{each.confidence:.2f}",
            taken,
        )
    out.print(table)
    if len(names) <= MOST_CLASSES:
        matrix = Table("true \\ said", *names, "right", box=None)
        for k, name in enumerate(names):
            rate = scores.per_class[k]
            matrix.add_row(name, *(str(n) for n in scores.confusion[k]), "–" if rate is None else f"{rate:.1%}")
        out.print(matrix)
    else:
        for pair in told.confusions[:MOST]:
            out.print(f"  {pair.images} of {pair.of} images of {pair.true} were said to be {pair.said}")
    if told.calibration_error is not None:
        cooler = f"; a temperature of {told.temperature:.2f} would fit them" if told.temperature is not None else ""
        out.print(f"answers are off by {told.calibration_error:.1%} from how sure they are{cooler}")
    if told.slices:
        table = Table("cut by", "part", "right", "others", "chance", box=None)
        for cut in told.slices[:MOST]:
            others = "–" if cut.others is None else f"{cut.others:.1%}"
            table.add_row(cut.by, cut.name, f"{percent(cut.right)} of {cut.right.of}", others, f"{cut.p_value:.2g}")
        out.print(table)
    for entry in told.wrong[:MOST]:
        out.print(
            f"  image {entry.image}: said {entry.said} ({entry.probability:.2f}), true {entry.true} · {entry.file}",
        )
    if len(told.wrong) > MOST:
        out.print(f"  … and {len(told.wrong) - MOST} more; --json lists all.")
