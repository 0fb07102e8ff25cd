"""The full example: what the window leads to, done in one go and written down."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace

from attentive_lens.cli.example_results import ExampleDone, SetFigures
from attentive_lens.cli.explaining.explaining_results import Explained
from attentive_lens.cli.explaining.pictures import write_explanation, write_filters
from attentive_lens.cli.speaking import out, watched
from attentive_lens.cli.training.run_results import RunEnded
from attentive_lens.cli.training.running import summary, train_run
from attentive_lens.core.jobs import finish
from attentive_lens.desk.requests.explaining import Activations, Explain, FirstFilters
from attentive_lens.desk.requests.models import Score
from attentive_lens.desk.requests.objects import MeasureObjects
from attentive_lens.desk.requests.subjects import RunImage
from attentive_lens.desk.tasks import carry_out
from attentive_lens.desk.training.executing import Launch
from attentive_lens.desk.training.runs import RunReader, RunView, resumable
from attentive_lens.errors import BadValue, LensError
from attentive_lens.plan.plan import Plan
from attentive_lens.scoring.answers import Answer
from attentive_lens.workspace import Run, Workspace

MISTAKES = 5


def full_example(place: Workspace, epochs: int, quiet: bool = False) -> ExampleDone:
    """Train the default plan, score it on validation and test, tell what its answers rest on, explain five mistakes.

    A second time, the run of the first is used again, or goes on where it was interrupted.

    Raises
    ------
    BadValue
        If it is training just now, in another process.
    """

    def say(text: str) -> None:
        if not quiet:
            out.print(text)

    plan = Plan().changed({"training.epochs": epochs})
    view = _earlier(place, plan)
    ended: RunEnded | None = None
    if view is not None and view.state == "training":
        why = f"run {view.number} is training it in another process"
        raise BadValue("The example is under way", why, f"Follow it with «attentive-lens watch {place.folder}»")
    if view is not None and view.state == "done":
        run = place.run(view.number)
        say(f"The example was trained before, as run {run.number}: it is used again.")
    else:
        run = place.run(view.number) if view is not None else place.claim_run(plan)
        if view is not None:
            run.forget_word()
            say(f"Run {run.number} was interrupted after epoch {len(view.epochs)}: it goes on.")
        trained = train_run(place, run, Launch(resume=view is not None))
        ended = summary(trained)
        if trained.outcome.state != "done":
            say(f"Stopped after epoch {trained.outcome.epochs}. The same command goes on with it.")
            return ExampleDone(ended, {}, (), None)
        best = trained.outcome.best
        if best is not None:
            say(
                f"Trained run {run.number} in {trained.outcome.seconds:.0f} s: validation accuracy"
                f" {best['accuracy']:.1%}."
            )
    return _results(place, run, ended, say)


def _earlier(place: Workspace, plan: Plan) -> RunView | None:
    """The latest run of this very plan that is done, training, or can go on."""
    for run in reversed(place.runs()):
        try:
            same = run.plan() == plan
        except LensError:
            continue
        view = RunReader(run).view()
        if same and (view.state in ("done", "training") or resumable(view)):
            return view
    return None


def _rests_on(folder: str, run: Run, on: str, say: Callable[[str], None]) -> None:
    """Whether the answers rest on the objects, where outlines are known."""
    try:
        measured = watched(carry_out(MeasureObjects(folder, run.number, on)), MeasureObjects.doing)
    except LensError as error:
        say(f"  {error}")
    else:
        say(f"  {next(measured.sentences())}")


def _results(place: Workspace, run: Run, ended: RunEnded | None, say: Callable[[str], None]) -> ExampleDone:
    """Scores of a finished run, its surest mistakes explained, and its first filters, written as pictures."""
    scores: dict[str, SetFigures] = {}
    explained: list[Explained] = []
    folder, results = str(place.folder), place.folder / "results"
    wrong: tuple[Answer, ...] = ()
    filters = write_filters(finish(carry_out(FirstFilters(RunImage(folder, run.number, 1)))), results)
    for on in ("validation", "test"):
        try:
            set_scores = watched(carry_out(Score(folder, run.number, on)), "scoring")
        except LensError as error:
            say(str(error))
            continue
        scores[on] = SetFigures(set_scores.images, set_scores.accuracy, set_scores.loss)
        say(f"On {on}: {set_scores.accuracy:.1%} of {set_scores.images} images right, {len(set_scores.wrong)} wrong.")
        wrong = set_scores.wrong or wrong
        _rests_on(folder, run, on, say)
    for answer in wrong[:MISTAKES]:
        subject = RunImage(folder, run.number, answer.image)
        explanation = finish(carry_out(Explain(subject)))
        layers = finish(carry_out(Activations(subject)))
        entry = write_explanation([explanation], layers, results, f"image-{answer.image:05d}")
        explained.append(replace(entry, filters_picture=filters))
        say(f"  image {answer.image}: said {entry.predicted}, true {entry.true} · {entry.maps[0].picture}")
    say(f"The pictures are in {results}; the model is {run.model}.")
    return ExampleDone(ended, scores, tuple(explained), str(results))
