"""The queue: one run after the other, by itself; runs taken away and brought back; what is said of them."""

from __future__ import annotations

import os
import subprocess
import sys
import time
from collections.abc import Callable
from dataclasses import replace

import pytest
from tests.conftest import small_plan

from attentive_lens.desk.results.comparing import runs_table
from attentive_lens.desk.training import queue as queueing
from attentive_lens.desk.training.queue import enqueue, start_next, take_from_queue, waiting
from attentive_lens.desk.training.runs import RunReader, reap_children
from attentive_lens.desk.training.state import OpenRuns
from attentive_lens.errors import BadValue, LensError, NotHere
from attentive_lens.workspace import Run, Workspace
from attentive_lens.workspace.about import MOST_NOTE, About


def state(station: Workspace, number: int) -> str:
    return RunReader(station.run(number)).view().state


def wait_for(what: Callable[[], bool], seconds: float = 90) -> None:
    end = time.monotonic() + seconds
    while not what():
        assert time.monotonic() < end
        time.sleep(0.1)


def short(seed: int, epochs: int = 1) -> object:
    return small_plan().changed({"seed": seed, "training.epochs": epochs})


def test_queued_runs_train_one_after_the_other_and_by_themselves(station: Workspace) -> None:
    plans = short(11, epochs=10), short(12), short(13)  # the first still trains while it is looked at
    numbers = [enqueue(station, plan).number for plan in plans]  # type: ignore[arg-type]
    assert numbers == [2, 3, 4]
    assert [run.number for run in waiting(station)] == [3, 4]
    assert state(station, 2) == "training"
    assert state(station, 3) == "waiting"
    assert start_next(station) is None, "one trains already"
    most = 0
    while waiting(station) or any(run.is_training() for run in station.runs()):
        most = max(most, sum(run.is_training() for run in station.runs()))
        time.sleep(0.05)
    assert most == 1
    wait_for(lambda: not reap_children())
    assert [state(station, number) for number in numbers] == ["done"] * 3


def test_a_run_that_fails_does_not_hold_the_queue_up(station: Workspace) -> None:
    broken = enqueue(station, short(11).changed({"split.test_fraction": 0.0, "training.batch_size": 4096}))  # type: ignore[attr-defined]
    (broken.folder / "plan.toml").write_text("nonsense")
    after = enqueue(station, short(12))  # type: ignore[arg-type]
    wait_for(lambda: state(station, after.number) == "done")
    assert state(station, broken.number) != "done"
    wait_for(lambda: not reap_children())


def test_the_window_goes_on_with_a_queue_whose_process_was_killed(station: Workspace) -> None:
    run = station.claim_run(short(11))  # type: ignore[arg-type]
    run.wait()
    runs = OpenRuns(station)
    assert runs.views[2].state == "waiting"
    runs.tick()
    wait_for(lambda: state(station, 2) == "done")
    runs.tick()
    wait_for(lambda: not reap_children())


def test_a_run_that_waits_can_be_taken_out_and_another_cannot(
    station: Workspace, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(queueing, "start_claimed", lambda *_: pytest.fail("it must not start"))
    monkeypatch.setattr(Run, "is_training", lambda self: self.number == 1)
    run = enqueue(station, short(11))  # type: ignore[arg-type]
    take_from_queue(station, run.number)
    assert [each.number for each in station.runs()] == [1]
    with pytest.raises(BadValue, match="does not wait"):
        take_from_queue(station, 1)


def test_a_read_only_workspace_starts_nothing(station: Workspace) -> None:
    run = station.claim_run(short(11))  # type: ignore[arg-type]
    run.wait()
    assert start_next(replace(station, writable=False)) is None
    assert state(station, 2) == "waiting"


def test_deleted_runs_come_back_until_they_are_forgotten_and_their_numbers_are_not_given_anew(
    station: Workspace,
) -> None:
    second = station.claim_run(small_plan())
    station.delete_run(2)
    assert [run.number for run in station.runs()] == [1]
    assert station.claim_run(small_plan()).number == 3
    station.restore_run(2)
    assert second.plan() == small_plan()
    station.delete_run(2)
    station.forget_deleted()
    with pytest.raises(NotHere, match="for good"):
        station.restore_run(2)
    held = station.run(1).hold()
    try:
        with pytest.raises(BadValue, match="it is training"):
            station.delete_run(1)
    finally:
        os.close(held)


def test_what_is_said_of_a_run_is_kept_and_a_damaged_file_says_nothing(station: Workspace) -> None:
    run = station.run(1)
    assert run.about() == About()
    run.keep_about(About("first", "ink dots · «marked»", True))
    assert run.about() == About("first", "ink dots · «marked»", True)
    (row,) = runs_table(station).rows
    assert (row.name, row.note, row.pinned) == ("first", "ink dots · «marked»", True)
    (run.folder / "about.json").write_text("{")
    assert run.about() == About()
    with pytest.raises(LensError, match="more than"):
        About(note="x" * (MOST_NOTE + 1))


def test_train_queue_says_whether_it_waits(station: Workspace) -> None:
    words = [sys.executable, "-m", "attentive_lens", "train", str(station.folder), "--queue", "--json"]
    settings = ["--set", "network=two blocks", "--set", "preprocessing.input_size=32", "--set", "training.epochs=1"]
    first = subprocess.run([*words, *settings], capture_output=True, text=True, check=True).stdout
    assert '"run": 2, "state": "training", "waiting": 0' in first
    wait_for(lambda: state(station, 2) == "done")
