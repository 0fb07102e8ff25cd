"""The command that tells how good a run's model is, and on what."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer
from rich.table import Column, Table

from attentive_lens.cli.app import AsJson, InWorkspace, OfRun, OnSet, app, check_set, out_folder, printable, run_number
from attentive_lens.cli.results.answer_results import Mistake, ScoresOfRun
from attentive_lens.cli.results.labels import say_labels
from attentive_lens.cli.speaking import fits, out, reporting, say, say_json, watched
from attentive_lens.core.files import make_folder
from attentive_lens.core.numbering import label_of
from attentive_lens.core.values import unknown_word
from attentive_lens.desk.images.collection import collection
from attentive_lens.desk.requests.models import Score
from attentive_lens.desk.requests.slices import FindSlices
from attentive_lens.desk.requests.verifying import Verify
from attentive_lens.desk.training.cautions import cautions_of, changed_since, judged_by_test
from attentive_lens.desk.training.runs import RunReader
from attentive_lens.errors import BadValue
from attentive_lens.scoring.scores import Scores
from attentive_lens.scoring.slices import Slice

if TYPE_CHECKING:
    from attentive_lens.workspace import Workspace

MOST = 20
"""Wrong images, and pairs of classes, that are printed."""
CUTS = ("all", "brightness", "contrast", "sharpness", "size in pixels", "shape", "folder", "format")
MANY = 40
"""Classes up to which each gets a line; of more the worst do."""
MOST_CLASSES = 12
"""Classes up to which the confusion matrix is printed; of more its pairs are."""


MEASURES: dict[str, Callable[[ScoresOfRun], str]] = {
    "accuracy": lambda summary: summary.overview.accuracy.words,
    "loss": lambda summary: f"{summary.loss:.3f}",
    "balanced accuracy": lambda summary: _share(summary.overview.balanced_accuracy),
    "macro F1": lambda summary: "–" if summary.overview.macro_f1 is None else f"{summary.overview.macro_f1:.3f}",
    "top-2": lambda summary: _top(summary, 2),
    "top-3": lambda summary: _top(summary, 3),
    "top-5": lambda summary: _top(summary, 5),
    "calibration error": lambda summary: _share(summary.calibration_error),
    "temperature": lambda summary: "–" if summary.temperature is None else f"{summary.temperature:.2f}",
    "wrong": lambda summary: str(len(summary.wrong)),
}
"""What the table of several runs can show, by name."""
USUAL = ("accuracy", "loss", "balanced accuracy", "macro F1", "calibration error")


def _share(value: float | None) -> str:
    return "–" if value is None else f"{value:.1%}"


def _top(summary: ScoresOfRun, k: int) -> str:
    return next((share.words for own, share in summary.overview.top if own == k), "–")


@app.command()
@reporting
def score(
    workspace: InWorkspace,
    runs: Annotated[
        list[int],
        typer.Argument(
            help="Numbers of the runs; «3:spiny» is run 3 about one of its several labels.",
            metavar="RUN…",
            parser=run_number,
        ),
    ],
    on: OnSet = "validation",
    by: Annotated[
        str,
        typer.Option(
            metavar="WORD",
            help="Slices: all, brightness, contrast, sharpness, size in pixels, shape, folder, format, or «column NAME»"
            " of the table that names the images.",
        ),
    ] = "",
    shown: Annotated[
        list[str] | None,
        typer.Option(
            "--measure", metavar="WORD", help=f"For several runs: {', '.join(MEASURES)}. Repeatable, in this order."
        ),
    ] = None,
    folder: Annotated[
        Path | None,
        out_folder("Write scores.json, every answer as CSV, and figures as SVG, PNG and PDF there."),
    ] = None,
    as_json: AsJson = False,
) -> None:
    """Score a run's best model on a set: accuracy with its interval, classes, confidence, the wrong images.

    Of several runs each gets a line of a table, or an object of its own with --json. A run that answers several labels
    is told label by label; of one of them («3:spiny») as of two classes.
    """
    from attentive_lens.workspace import Workspace

    check_set(on)
    if by and by not in CUTS and not by.startswith("column "):
        raise unknown_word("--by", by, frozenset(CUTS))
    for word in shown or ():
        if word not in MEASURES:
            raise unknown_word("--measure", word, frozenset(MEASURES))
    place, several = Workspace.open(workspace), []
    for number in dict.fromkeys(runs):
        if place.run(number).plan().task.several and not label_of(number):
            say_labels(
                place, number, on, folder if len(runs) == 1 or folder is None else folder / f"run-{number}", as_json
            )
            continue
        summary, scores = _scored(place, number, on, by)
        if folder is not None:
            make_folder(folder)
            into = folder if len(runs) == 1 else folder / f"run-{number}"
            _write(into, summary, scores, {row.number: printable(row.file) for row in place.catalogue.images()})
        if as_json:
            say_json(summary)
        elif len(runs) == 1:
            _say(summary, scores)
            run = place.run(number)
            for caution in cautions_of(place, run, scores, summary.relabelled, RunReader(run).view().best):
                out.print(caution)
        several.append(summary)
    if len(several) > 1 and not as_json:
        table = Table("run", "images", *(shown or USUAL), box=None)
        for summary in several:
            figures = (MEASURES[word](summary) for word in shown or USUAL)
            table.add_row(str(summary.run), str(summary.images), *figures)
        out.print(table)


def _scored(place: Workspace, number: int, on: str, by: str) -> tuple[ScoresOfRun, Scores]:
    """Scores of a run, and what is told of them."""
    from attentive_lens.desk.tasks import carry_out
    from attentive_lens.scoring.curves import areas_of

    scores = watched(carry_out(Score(str(place.folder), number, on)), "scoring")
    run = place.run(number)
    now = collection(place, run.plan())
    files, names = {row.number: row.file for row in now.rows}, scores.classes
    wrong = [
        Mistake(a.image, printable(files[a.image]), names[a.predicted], names[a.true], a.probability)
        for a in scores.wrong
    ]
    summary = ScoresOfRun(
        number,
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
        tuple(changed_since(run, now)),
        tuple(judged_by_test(place)),
        scores.measures.overview,
        scores.measures.by_class,
        areas_of(scores),
        scores.measures.confusions,
        scores.measures.calibration,
        scores.measures.calibration_error,
        scores.temperature,
        _slices(place.folder, number, on, by) if by else (),
    )
    return summary, scores


def _write(folder: Path, summary: ScoresOfRun, scores: Scores, files: dict[int, str]) -> None:
    """Scores, answers and figures."""
    from attentive_lens.desk.results.exporting import write_scores
    from attentive_lens.desk.results.figures import write_figures

    write_scores(folder, summary, scores, files)
    write_figures(folder, scores)


@app.command()
@reporting
def verify(workspace: InWorkspace, run: OfRun, on: OnSet = "validation", as_json: AsJson = False) -> None:
    """Read a run's best model anew, score it again, and tell whether every answer is the same to the last bit."""
    from attentive_lens.desk.tasks import carry_out

    check_set(on)
    summary = watched(carry_out(Verify(str(workspace), run, on)), "scoring again")
    if not summary.same:
        what = f"The scores of run {run} are not confirmed"
        raise BadValue(what, " ".join(summary.words()).rstrip("."), "Score again, or put the model back")
    say_json(summary) if as_json else say(summary)


def _slices(workspace: Path, run: int, on: str, by: str) -> tuple[Slice, ...]:
    """Those that were asked for; corrected for all that were tried."""
    from attentive_lens.desk.tasks import carry_out

    result = watched(carry_out(FindSlices(str(workspace), run, on)), "cutting into slices")
    return tuple(each for each in result.slices if by in ("all", each.by))


def _say(summary: ScoresOfRun, scores: Scores) -> None:
    view, names = summary.overview, scores.classes
    out.print(
        f"run {summary.run} on {summary.on}: {view.accuracy.words} of {scores.images} images right,"
        f" {scores.loss_function} {scores.loss:.3f}"
    )
    if scores.unknown:
        out.print(f"{scores.unknown} images more are of classes that it does not know; they do not count.")
    more = [f"top-{k} {share.words}" for k, share in view.top]
    if view.balanced_accuracy is not None and view.macro_f1 is not None:
        more += [f"balanced accuracy {view.balanced_accuracy:.1%}", f"macro F1 {view.macro_f1:.3f}"]
    more += [f"{label} {value}" for label, value in view.more_in_words]
    if view.chance is not None and view.majority is not None:
        more += [f"guessing {view.chance:.1%}", f"always the largest class {view.majority:.1%}"]
    out.print(", ".join(more))
    worst = sorted(summary.by_class, key=lambda each: (each.f1 is None, each.f1 or 0.0))[:MOST]
    rows = summary.by_class if len(names) <= MANY else worst
    areas = {each.name: each for each in summary.areas}
    table = Table(
        Column("class", overflow="fold", min_width=min(24, max(map(len, names)))),
        "precision", "recall", "F1", "ROC area", "images", "confidence", "taken for",
        box=None,
    )  # fmt: skip
    for each in rows:
        area = areas[each.name].roc_area
        taken = f"{each.taken_for} ({each.taken})" if each.taken else ""
        table.add_row(
            each.name,
            each.precision.words,
            each.recall.words,
            "–" if each.f1 is None else f"{each.f1:.3f}",
            "–" if area is None else f"{area:.3f}",
            str(each.support),
            "–" if each.confidence is None else f"{each.confidence:.2f}",
            taken,
        )
    if len(rows) < len(names):
        out.print(f"The {len(rows)} classes with the least F1, of {len(names)}; --json lists all:")
    out.print(table)
    matrix = None
    if len(names) <= MOST_CLASSES:
        matrix = Table("true \\ said", *names, "right", box=None)
        for k, name in enumerate(names):
            rate = scores.per_class[k]
            matrix.add_row(name, *(str(n) for n in scores.confusion[k]), "–" if rate is None else f"{rate:.1%}")
    if matrix is not None and fits(matrix):
        out.print(matrix)
    else:
        for pair in summary.confusions[:MOST]:
            out.print(f"  {pair.images} of {pair.of} images of {pair.true} were said to be {pair.predicted}")
    if summary.calibration_error is not None:
        cooler = (
            f"; a temperature of {summary.temperature:.2f} would fit them" if summary.temperature is not None else ""
        )
        out.print(f"answers are off by {summary.calibration_error:.1%} from how sure they are{cooler}")
    if summary.slices:
        table = Table("cut by", "part", "right", "others", "chance", "within classes", box=None)
        for cut in summary.slices[:MOST]:
            others = "–" if cut.others is None else f"{cut.others:.1%}"
            right = f"{cut.right.words} of {cut.right.of}"
            table.add_row(cut.by, cut.name, right, others, f"{cut.p_value:.2g}", f"{cut.p_within:.2g}")
        out.print(table)
    for entry in summary.wrong[:MOST]:
        named = f"said {entry.predicted} ({entry.probability:.2f}), true {entry.true}"
        out.print(f"  image {entry.image}: {named} · {entry.file}")
    if len(summary.wrong) > MOST:
        out.print(f"  … and {len(summary.wrong) - MOST} more; --json lists all.")
