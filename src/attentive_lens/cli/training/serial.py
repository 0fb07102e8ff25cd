"""Training many plans from the terminal: here, one after the other, or on a cluster."""

from __future__ import annotations

from collections.abc import Sequence

import typer

from attentive_lens.cli.speaking import STOPPED, console, watched
from attentive_lens.cli.training.running import NewEpochs, stopping, train_run
from attentive_lens.desk.many.series import Train, Turn
from attentive_lens.desk.training.executing import Launch
from attentive_lens.errors import LensError
from attentive_lens.workspace import Run


def trainer(on: str) -> Train:
    """What trains the turns of a series: this process, or the cluster at an address."""
    return (lambda turns: train_on(on, turns)) if on else train_in_turn


def train_in_turn(turns: Sequence[Turn]) -> None:
    """One after the other in this process; who is stopped ends the series, who fails does not.

    Raises
    ------
    LensError
        If all fail.
    """
    failed = 0
    for turn in turns:
        run, begun = turn.take()
        try:
            trained = train_run(turn.workspace, run, Launch(begun, until=turn.until))
        except LensError as error:
            failed += 1
            if failed == len(turns):
                raise
            console.print(f"run {run.number} failed: {error}", soft_wrap=True)
            continue
        if trained.outcome.state == "stopped" and not (turn.until and trained.outcome.epochs >= turn.until):
            raise typer.Exit(STOPPED)


def train_on(address: str, turns: Sequence[Turn]) -> None:
    """On a cluster; Ctrl+C stops the runs after the step each is in."""
    from attentive_lens.desk.many.clusters import Cluster  # only here: others do without Dask

    lines: list[str] = []
    followed: list[NewEpochs] = []

    def follow(run: Run) -> None:
        epochs = NewEpochs(run)
        epochs.lines()  # those of earlier are known
        followed.append(epochs)

    def news() -> list[str]:
        for epochs in followed:
            lines.extend(f"run {epochs.view.number} · {line}" for line in epochs.lines())
        new, lines[:] = list(lines), []
        return new

    with stopping() as stopped, Cluster(address) as cluster:
        job = cluster.train(turns, lambda: bool(stopped), lines.append, follow)
        if watched(job, f"training {len(turns)} runs", news):
            raise typer.Exit(STOPPED)
