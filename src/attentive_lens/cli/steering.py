"""The commands that steer a run while it trains, and that say what to do about one."""

from __future__ import annotations

from pathlib import Path
from typing import Annotated

import typer

from attentive_lens.cli.app import AsJson, InWorkspace, OfRun, app
from attentive_lens.cli.run_results import AdviceGiven, FoundTrouble, Steered
from attentive_lens.cli.speaking import out, reporting, say_json
from attentive_lens.core.files import make_folder
from attentive_lens.core.values import unknown_word
from attentive_lens.desk.training.advising import advice_of
from attentive_lens.desk.training.controlling import ACTIONS, RATE, steer
from attentive_lens.desk.training.runs import RunReader
from attentive_lens.errors import BadUsage, NotHere
from attentive_lens.workspace import Run, Workspace

_ACTIONS = "; ".join(f"{action}: {meaning}" for action, meaning in ACTIONS.items())


@app.command()
@reporting
def control(
    workspace: InWorkspace,
    action: Annotated[str, typer.Argument(help=f"What to do. {_ACTIONS}.", metavar="ACTION")],
    run: Annotated[
        int | None, typer.Argument(help="Number of the run; the one that trains if left out.", metavar="[RUN]")
    ] = None,
    rate: Annotated[float | None, typer.Option(metavar="RATE", help="The learning rate for «rate».")] = None,
    as_json: AsJson = False,
) -> None:
    """Pause, continue or stop a run that trains, whoever started it, or set its learning rate."""
    if action not in ACTIONS:
        raise unknown_word("control", action, frozenset(ACTIONS))
    if (action == RATE) != (rate is not None):
        why = "«rate» needs --rate, and nothing else takes it"
        raise BadUsage(f"The run was not told to {action}", why, "Write: control WORKSPACE rate --rate 0.0005")
    place = Workspace.open(workspace)
    chosen = place.run(run) if run is not None else _training(place)
    sentence = steer(chosen, action, rate or 0.0)
    if as_json:
        say_json(Steered(chosen.number, action, sentence))
    else:
        out.print(sentence)


def _training(place: Workspace) -> Run:
    """The run that trains."""
    training = [run for run in place.runs() if run.is_training()]
    if not training:
        raise NotHere("There is nothing to steer", "no run of this workspace is training", "Train one first")
    return training[-1]


@app.command()
@reporting
def advise(
    workspace: InWorkspace,
    run: OfRun,
    plans: Annotated[
        Path | None,
        typer.Option("--plans", metavar="FOLDER", help="Write the plan with each remedy there, for train --plan."),
    ] = None,
    as_json: AsJson = False,
) -> None:
    """Name the trouble a run has by its figures, with a remedy as a new plan, and what came of it if it was tried."""
    from attentive_lens.desk.results.effects import effect_of
    from attentive_lens.plan.difference import differences
    from attentive_lens.workspace.runs import write_plan

    place = Workspace.open(workspace)
    chosen = place.run(run)
    view, executed = RunReader(chosen).view(), chosen.plan()
    troubles = []
    for finding in advice_of(place, chosen, view):
        changes = differences(executed, finding.plan) if finding.plan is not None else ()
        file = None
        if plans is not None and finding.plan is not None:
            make_folder(plans)
            file = plans / f"{finding.kind.replace(' ', '-')}.toml"
            write_plan(file, finding.plan)
        effect = effect_of(place, chosen, finding)
        troubles.append(
            FoundTrouble(
                finding.kind,
                finding.epoch,
                finding.evidence,
                finding.meaning,
                finding.remedy,
                finding.expected,
                changes,
                str(file) if file is not None else None,
                effect.run if effect is not None else None,
                effect.sentence if effect is not None else "",
            )
        )
    if as_json:
        say_json(AdviceGiven(run, view.state, tuple(troubles)))
        return
    if not troubles:
        out.print(f"Nothing speaks against run {run}." if view.epochs else f"Run {run} has not finished an epoch.")
    for trouble in troubles:
        since = f" from epoch {trouble.epoch}" if trouble.epoch else ""
        out.print(f"{trouble.kind}{since}: {trouble.evidence}.", highlight=False)
        out.print(f"  {trouble.meaning}\n  {trouble.remedy} Expected: {trouble.expected}", highlight=False)
        if trouble.effect:
            out.print(f"  {trouble.effect}", highlight=False)
        elif trouble.plan is not None:
            out.print(f"  attentive-lens train {workspace} --plan {trouble.plan}", highlight=False)
