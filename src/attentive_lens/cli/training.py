"""Training in this process, from the terminal or as the window's child."""

from __future__ import annotations

import signal
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import Any

from attentive_lens.cli.speaking import console, out, parsed, say_json, watched
from attentive_lens.desk.front import RunReader, check_resumable, with_base
from attentive_lens.desk.training import Trained, execute
from attentive_lens.errors import BadValue
from attentive_lens.plan.plan import Plan
from attentive_lens.plan.values import unknown_word
from attentive_lens.workspace import Run, Workspace
from attentive_lens.workspace.runs import read_plan


def train_here(
    workspace: Path,
    plan_file: Path | None,
    settings: list[str],
    claimed: int | None,
    resume: int | None,
    go_on: bool,
    as_json: bool,
) -> None:
    """Train a plan, or the claimed run, or go on with an interrupted one, and tell how it ended."""
    place = Workspace.open(workspace)
    if resume is not None:
        run = place.run(resume)
        if plan_file or settings:
            raise BadValue("A run goes on with its own plan", "it never changes", "Leave out --plan and --set")
        check_resumable(run)
    elif claimed is None:
        plan = read_plan(plan_file) if plan_file else Plan()
        run = place.claim_run(planned(place, plan, parsed(settings, "--set training.epochs=5")))
    else:
        run = place.run(claimed)
    trained = train_run(place, run, go_on or resume is not None)
    told = summary(trained)
    if as_json:
        say_json(told)
        return
    best = trained.outcome.best
    figures = f", best validation accuracy {best.accuracy:.1%}" if best else ""
    out.print(
        f"run {run.number} {trained.outcome.state}: {trained.outcome.epochs} epochs in"
        f" {trained.outcome.seconds:.0f} s{figures}"
    )
    if trained.outcome.epochs:
        out.print(f"model: {run.model}")


def train_run(place: Workspace, run: Run, resume: bool = False) -> Trained:
    """Execute a claimed run with a bar; Ctrl+C and SIGTERM stop it after the step at hand."""
    reader = RunReader(run)

    def note() -> str:
        view = reader.view()
        if not view.epochs:
            return ""
        validation = view.epochs[-1]["validation"]
        return f"validation {validation['accuracy']:.1%}" if validation else ""

    with _stopping() as stopped:
        return watched(execute(place, run, lambda: bool(stopped), resume), f"training run {run.number}", note)


def summary(trained: Trained) -> dict[str, Any]:
    """What `train --json` prints."""
    best = trained.outcome.best
    return {
        "run": trained.run.number,
        "state": trained.outcome.state,
        "epochs": trained.outcome.epochs,
        "seconds": round(trained.outcome.seconds, 3),
        "weights_sha256": trained.weights_sha256,
        "validation": {"accuracy": best.accuracy, "loss": best.loss} if best else None,
        "model": str(trained.run.model) if trained.outcome.epochs else None,
    }


def planned(place: Workspace, plan: Plan, settings: dict[str, Any]) -> Plan:
    """The plan with its settings changed; ``base.run`` alone brings that run's network and preparation along."""
    base = {key: settings.pop(key) for key in list(settings) if key.startswith("base.")}
    plan = plan.changed(settings)
    if not base:
        return plan
    for key in base:
        if key not in ("base.run", "base.until", "base.frozen"):
            raise unknown_word("plan", key, frozenset({"base.run", "base.until", "base.frozen"}))
    if not {"base.run", "base.until"} <= base.keys():
        raise BadValue("plan.base", "it needs both «base.run» and «base.until»", "Give both")
    if "network" in settings:
        return plan.changed(base)
    return with_base(place, plan, int(base["base.run"]), str(base["base.until"]), bool(base.get("base.frozen", True)))


@contextmanager
def _stopping() -> Iterator[list[int]]:
    """A list that gets an entry when somebody asks this process to stop; a second Ctrl+C ends it at once."""
    asked: list[int] = []

    def note(number: int, _frame: object) -> None:
        if asked:
            raise KeyboardInterrupt
        asked.append(number)
        console.print("Stopping after this step …")

    before = {number: signal.signal(number, note) for number in (signal.SIGINT, signal.SIGTERM)}
    try:
        yield asked
    finally:
        for number, handler in before.items():
            signal.signal(number, handler)
