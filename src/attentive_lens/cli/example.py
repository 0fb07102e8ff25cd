"""The full example: what the window leads to, done in one go and written down."""

from __future__ import annotations

from typing import Any

from attentive_lens.cli.pictures import write_explanation, write_filters
from attentive_lens.cli.speaking import out, watched
from attentive_lens.cli.training import summary, train_run
from attentive_lens.desk import tasks
from attentive_lens.errors import LensError
from attentive_lens.plan.plan import Plan
from attentive_lens.scoring.scores import Answer
from attentive_lens.workspace import Workspace

MISTAKES = 5


def full_example(place: Workspace, epochs: int, quiet: bool = False) -> dict[str, Any]:
    """Train the default plan, score it on validation and test, explain five mistakes, write the pictures."""

    def say(text: str) -> None:
        if not quiet:
            out.print(text)

    run = place.claim_run(Plan().changed({"training.epochs": epochs}))
    trained = train_run(place, run)
    told: dict[str, Any] = {"train": summary(trained), "scores": {}, "explained": []}
    best = trained.outcome.best
    if best is not None:
        say(f"Trained run {run.number} in {trained.outcome.seconds:.0f} s: validation accuracy {best.accuracy:.1%}.")
    if not trained.outcome.epochs:
        return told
    results = place.folder / "results"
    wrong: list[Answer] = []
    for on in ("validation", "test"):
        try:
            found = tasks.as_scores(watched(tasks.score(str(place.folder), run.number, on), "scoring").values)
        except LensError as error:
            say(str(error))
            continue
        told["scores"][on] = {"images": len(found.answers), "accuracy": found.accuracy, "loss": found.loss}
        say(f"On {on}: {found.accuracy:.1%} of {len(found.answers)} images right, {len(found.wrong)} wrong.")
        wrong = found.wrong or wrong
    for answer in wrong[:MISTAKES]:
        result = watched(tasks.explain(str(place.folder), run.number, answer.image), "explaining")
        entry = write_explanation(result, results)
        told["explained"].append(entry)
        say(f"  image {answer.image}: said {entry['said']}, true {entry['true']} · {entry['maps'][0]['picture']}")
    write_filters(watched(tasks.filters(str(place.folder), run.number), "first filters"), results)
    told["results"] = str(results)
    say(f"The pictures are in {results}; the model is {run.model}.")
    return told
