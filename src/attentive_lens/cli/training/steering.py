"""The commands that steer a run while it trains, and that say what to do about one."""

from __future__ import annotations

from pathlib import Path
from typing import Annotated

import typer

from attentive_lens.cli.app import AsJson, InWorkspace, OfRun, app
from attentive_lens.cli.speaking import out, reporting, say, say_json, watched
from attentive_lens.cli.training.run_results import Advised, Steered
from attentive_lens.core.files import make_folder
from attentive_lens.core.values import unknown_word
from attentive_lens.desk.requests.remedies import WhatNext
from attentive_lens.desk.training.controlling import ACTIONS, RATE, steer
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
    tries: Annotated[
        int, typer.Option("--try", metavar="N", min=0, max=100, help=WhatNext.specs()["tries"].meaning)
    ] = 0,
    plans: Annotated[
        Path | None,
        typer.Option("--plans", metavar="FOLDER", help="Write the plan with each remedy there, for train --plan."),
    ] = None,
    as_json: AsJson = False,
) -> None:
    """List what to do next after a run: remedies for its trouble and its mistakes, and what is often worth a try.

    Each remedy is a new plan. What it should gain is forecast from a short training of it and of the plan as it is;
    trials are kept, and Ctrl+C stops them until the same command goes on.
    """
    from attentive_lens.desk.remedies.forecasts import note_use
    from attentive_lens.desk.tasks import carry_out
    from attentive_lens.plan.plan import Plan
    from attentive_lens.workspace.plan_files import write_plan

    steps = watched(carry_out(WhatNext(str(workspace), run, tries)), WhatNext.doing)
    files = []
    for place, step in enumerate(steps.steps if plans is not None else (), 1):
        if step.plan is not None and plans is not None:
            make_folder(plans)
            files.append(str(plans / f"{place:02}-{step.kind.replace(' ', '-')}.toml"))
            write_plan(Path(files[-1]), Plan.read(step.plan))
            note_use(Workspace.open(workspace), run, step)
    if as_json:
        say_json(Advised(**vars(steps), plans=tuple(files)))
        return
    if steps.state == "training" and not steps.steps:
        out.print(f"Nothing speaks against run {run} so far.")
    say(steps)
    for file in files:
        out.print(f"  attentive-lens train {workspace} --plan {file}", highlight=False)
