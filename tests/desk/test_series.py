"""Many plans: what is trained, what counts already, and what a run that fails does to the others."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace

import pytest
import typer

from attentive_lens.cli.training import serial
from attentive_lens.desk.many.series import Turn, halved, ranked, run_of, trained
from attentive_lens.desk.results.comparing import seeds_left
from attentive_lens.errors import LensError
from attentive_lens.plan.plan import Plan
from attentive_lens.workspace import Run, Workspace


def told_done(run: Run, epochs: int, accuracy: float, planned: int, state: str = "") -> None:
    """A run's journal as training writes it."""
    from attentive_lens.training.journal import Journal

    with Journal(run.journal) as journal:
        journal.write("start", plan=run.plan().name, epochs=planned, loss_function="cross-entropy")
        for epoch in range(1, epochs + 1):
            figures = {"accuracy": accuracy, "loss": 1 - accuracy}
            journal.write("epoch", epoch=epoch, training=figures, validation=figures, best=True,
                          learning_rate=0.1, seconds=1.0, waited=0.0)  # fmt: skip
        state = state or ("done" if epochs >= planned else "stopped")
        journal.write("end", state=state, epochs=epochs, seconds=1.0, weights_sha256="")


class Pretended:
    """Trains nothing and says how good it was: the better the higher the learning rate."""

    def __init__(self) -> None:
        self.trained: list[tuple[float, int]] = []

    def __call__(self, turns: Sequence[Turn]) -> None:
        for turn in turns:
            run, begun = turn.take()
            planned = turn.plan.training.epochs
            epochs = turn.until or planned
            self.trained.append((turn.plan.optimiser.learning_rate, epochs))
            if begun:
                run.journal.unlink()
            told_done(run, epochs, turn.plan.optimiser.learning_rate, planned)


def plans(count: int) -> list[Plan]:
    first = Plan().changed({"training.epochs": 8})
    return [first.changed({"optimiser.learning_rate": (k + 1) / 10}) for k in range(count)]


def rates(runs: Sequence[Run]) -> list[float]:
    return [run.plan().optimiser.learning_rate for run in runs]


def test_what_is_done_counts_whatever_its_name_and_the_rest_is_trained_once(station: Workspace) -> None:
    train, three = Pretended(), plans(3)
    train([Turn(station, three[1])])
    renamed = [replace(plan, name=f"plan {k}") for k, plan in enumerate(three)]
    runs = trained(station, renamed, train)
    assert rates(runs) == [0.1, 0.2, 0.3]
    assert train.trained == [(0.2, 8), (0.1, 8), (0.3, 8)]
    assert rates(ranked(station, runs)) == [0.3, 0.2, 0.1]
    assert trained(station, renamed, train) == runs
    assert len(train.trained) == 3


def test_halving_gives_the_worse_half_up_at_each_rung(station: Workspace) -> None:
    train = Pretended()
    assert rates(halved(station, plans(4), train)) == [0.4, 0.3, 0.2, 0.1]
    assert train.trained == [(0.1, 2), (0.2, 2), (0.3, 2), (0.4, 2), (0.3, 4), (0.4, 4), (0.4, 8)]


def test_a_run_that_fails_holds_up_no_other_unless_all_fail(
    station: Workspace, monkeypatch: pytest.MonkeyPatch, capsys: pytest.CaptureFixture[str]
) -> None:
    bad = {0.2}

    def train_run(place: Workspace, run: Run, *_: object) -> object:
        rate = run.plan().optimiser.learning_rate
        if rate in bad:
            raise LensError("Training stopped", "numbers ran away", "Lower the rate")
        told_done(run, 8, rate, 8)
        return type("Trained", (), {"outcome": type("Outcome", (), {"state": "done", "epochs": 8})})

    monkeypatch.setattr(serial, "train_run", train_run)
    assert rates(ranked(station, trained(station, plans(3), serial.trainer("")))) == [0.3, 0.1, 0.2]
    assert "numbers ran away" in capsys.readouterr().err
    bad |= {0.4, 0.5}
    with pytest.raises(LensError, match="numbers ran away"):
        trained(station, plans(5)[3:], serial.trainer(""))


def test_a_series_that_is_stopped_ends(station: Workspace, monkeypatch: pytest.MonkeyPatch) -> None:
    outcome = type("Outcome", (), {"state": "stopped", "epochs": 1})
    monkeypatch.setattr(serial, "train_run", lambda *_: type("Trained", (), {"outcome": outcome}))
    with pytest.raises(typer.Exit):
        trained(station, plans(3), serial.trainer(""))
    assert len(station.runs()) == 2, "no other was begun"


def test_repeating_goes_on_with_interrupted_runs_first(station: Workspace) -> None:
    plan = plans(1)[0]
    told_done(station.claim_run(replace(plan, seed=5)), 3, 0.5, 8)
    told_done(station.claim_run(plan), 8, 0.5, 8)
    assert seeds_left(station, plan, 4) == (5, plan.seed + 1, plan.seed + 2)
    assert seeds_left(station, plan, 1) == ()
    told_done(station.claim_run(replace(plan, seed=9)), 2, 0.5, 8, "failed")
    assert seeds_left(station, plan, 3) == (5, 9)
    result = run_of(station, replace(plan, seed=5, name="another"))
    assert result is not None
    assert result.number == 2


def test_a_run_that_goes_on_leaves_the_queue_and_forgets_an_old_word(station: Workspace) -> None:
    plan = plans(1)[0]
    run = station.claim_run(plan)
    run.wait()
    run.ask("pause")
    taken, begun = Turn(station, plan).take()
    assert (taken.number, begun) == (run.number, True)
    assert (taken.is_waiting(), taken.command()) == (False, "")
