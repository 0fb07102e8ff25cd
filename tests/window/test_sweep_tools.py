"""Many runs from the window: combinations, random values, halving and folds, and what is refused in place."""

from __future__ import annotations

from collections.abc import Iterator
from pathlib import Path

import pytest
from pytestqt.qtbot import QtBot
from tests.cli.running import command
from tests.desk.test_series import told_done

from attentive_lens.cli.training import serial
from attentive_lens.desk.results.comparing import folds_told
from attentive_lens.desk.training import runs
from attentive_lens.desk.training import state as open_runs
from attentive_lens.desk.training.executing import Launch
from attentive_lens.plan.plan import Plan
from attentive_lens.window.session import Session, open_session
from attentive_lens.window.training.sweep_tools import SweepTools
from attentive_lens.workspace import Run, Workspace


@pytest.fixture
def tools(station: Workspace, qtbot: QtBot, monkeypatch: pytest.MonkeyPatch) -> Iterator[SweepTools]:
    monkeypatch.setattr(open_runs, "enqueue", lambda place, plan: place.claim_run(plan))
    session = open_session(station.folder)
    made = SweepTools(session)
    qtbot.addWidget(made)
    yield made
    session.close()


def fill(tools: SweepTools, key: str, values: str) -> None:
    tools.key.setCurrentIndex(tools.key.findData(key))
    tools.values.setText(values)


def plans(session: Session) -> list[Plan]:
    return [run.plan() for run in session.workspace.runs()[1:]]


def test_every_combination_of_two_settings_is_queued_and_the_fields_are_empty_again(tools: SweepTools) -> None:
    fill(tools, "optimiser.learning_rate", "0.001, 0.002")
    tools.add.click()
    assert tools.says.text() == "learning rate 0.001, 0.002"
    fill(tools, "training.batch_size", "16, 32")
    tools.queue()
    result = plans(tools.session)
    assert [(p.optimiser.learning_rate, p.training.batch_size) for p in result] == [
        (0.001, 16), (0.001, 32), (0.002, 16), (0.002, 32)
    ]  # fmt: skip
    assert (tools.over, tools.values.text()) == ({}, "")


def test_random_values_come_from_a_range_and_folds_hold_out_each_part(tools: SweepTools) -> None:
    tools.how.setCurrentText("random")
    fill(tools, "optimiser.learning_rate", "0.0001..0.01")
    tools.count.setValue(3)
    tools.queue()
    rates = {plan.optimiser.learning_rate for plan in plans(tools.session)}
    assert len(rates) == 3
    assert all(0.0001 <= rate <= 0.01 for rate in rates)
    tools.how.setCurrentText("cross-validation")
    assert not tools.values.isVisibleTo(tools)
    tools.count.setValue(3)
    tools.queue()
    result = plans(tools.session)[3:]
    assert [(plan.split.folds, plan.split.validation_fold) for plan in result] == [(3, 1), (3, 2), (3, 3)]
    place = tools.session.workspace
    told_done(place.run(5), 8, 0.5, result[0].training.epochs)
    assert folds_told(place, result[2]) == "0 of 3 folds are done."
    assert folds_told(place, place.run(1).plan()) == ""


@pytest.mark.parametrize(
    ("how", "key", "values", "words"),
    [
        ("every combination", "optimiser.learning_rate", "", "no setting is named"),
        ("random", "optimiser.learning_rate", "", "no setting is named"),
        ("every combination", "optimiser.learning_rate", "0.001..0.1", "has no end"),
        ("every combination", "training.batch_size", "16, many", "a whole number is needed"),
        ("successive halving", "training.batch_size", "16", "no worse half"),
    ],
)
def test_what_cannot_be_swept_is_said_in_place(tools: SweepTools, how: str, key: str, values: str, words: str) -> None:
    tools.how.setCurrentText(how)
    fill(tools, key, values)
    tools.queue()
    assert words in tools.says.text()
    assert len(tools.session.workspace.runs()) == 1


def test_halving_begins_a_process_whose_command_does_it(tools: SweepTools, monkeypatch: pytest.MonkeyPatch) -> None:
    begun: list[tuple[str, list[str]]] = []

    def begin(_: Workspace, name: str, words: list[str], log: Path, held: tuple[int, ...] = ()) -> None:
        assert log.name == "sweep.log"
        begun.append((name, list(words)))

    monkeypatch.setattr(runs, "_begin", begin)
    messages: list[str] = []
    tools.session.message.connect(lambda words, _: messages.append(words))
    tools.how.setCurrentText("successive halving")
    fill(tools, "optimiser.learning_rate", "0.1, 0.2, 0.3, 0.4")
    tools.queue()
    (name, words), place = begun[0], tools.session.workspace
    assert "4 plans are trained" in messages[-1]

    def train_run(_: Workspace, run: Run, launch: Launch) -> object:
        plan, until = run.plan(), launch.until
        run.journal.unlink(missing_ok=True)
        told_done(run, until, plan.optimiser.learning_rate, plan.training.epochs)
        return type("Trained", (), {"outcome": type("Outcome", (), {"state": "stopped", "epochs": until})})

    monkeypatch.setattr(serial, "train_run", train_run)
    command(name, place.folder, *words)
    epochs = {run.plan().optimiser.learning_rate: len(runs.RunReader(run).view().epochs) for run in place.runs()[1:]}
    assert epochs[0.4] == tools.session.design.plan.training.epochs
    assert epochs[0.1] == epochs[0.2] < epochs[0.3] < epochs[0.4]
