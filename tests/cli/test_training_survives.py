"""Training in processes of their own: outputs that fail, signals, locks, and runs killed in their first moments."""

from __future__ import annotations

import json
import os
import signal
import subprocess
import sys
import time
from collections.abc import Callable
from dataclasses import replace
from pathlib import Path

import pytest

from attentive_lens.core.jobs import finish
from attentive_lens.desk.training.executing import Launch, execute
from attentive_lens.desk.training.runs import RunReader, check_resumable
from attentive_lens.errors import BadUsage, BadValue, LensError
from attentive_lens.formats.reading import read_checkpoint
from attentive_lens.plan.plan import Plan
from attentive_lens.workspace import Run, Workspace
from attentive_lens.workspace.workspace import Workspace as Folder

TINY = ["--set", "network=two blocks", "--set", "preprocessing.input_size=16"]


def wait_for(condition: Callable[[], bool], seconds: float = 60) -> None:
    end = time.monotonic() + seconds
    while not condition():
        assert time.monotonic() < end, "waited too long"
        time.sleep(0.02)


def begin(station: Workspace, *words: str, **more: object) -> subprocess.Popen[bytes]:
    command = [sys.executable, "-m", "attentive_lens", "train", str(station.folder), *TINY, *words]
    return subprocess.Popen(command, **{"stdout": subprocess.DEVNULL, "stderr": subprocess.DEVNULL, **more})  # type: ignore[call-overload,no-any-return]


def epochs(station: Workspace, number: int = 2) -> int:
    folder = station.folder / "runs" / f"{number:04d}"
    return len(RunReader(Run(folder)).view().epochs) if folder.exists() else 0


def test_no_fault_of_the_output_stops_training(station: Workspace) -> None:
    closed = begin(station, "--set", "training.epochs=3", stdout=None, stderr=None,
                   preexec_fn=lambda: (os.close(1), os.close(2)))  # fmt: skip
    assert closed.wait(60) == 0
    with Path("/dev/full").open("wb") as full:
        assert begin(station, "--set", "training.epochs=3", stdout=full, stderr=full).wait(60) in (0, 1, 120)
    read, write = os.pipe()
    gone = begin(station, "--set", "training.epochs=3", stdout=write, stderr=write)
    os.close(write)
    os.close(read)
    gone.wait(60)
    for number in (2, 3, 4):
        view = RunReader(station.run(number)).view()
        assert (view.state, len(view.epochs)) == ("done", 3), number


@pytest.mark.parametrize("number", [signal.SIGHUP, signal.SIGTERM])
def test_a_hang_up_stops_safely_with_a_code_of_its_own(number: int, station: Workspace) -> None:
    process = begin(station, "--set", "training.epochs=9999")
    wait_for(lambda: epochs(station) >= 1)
    process.send_signal(number)
    assert process.wait(30) == 3
    assert RunReader(station.run(2)).view().state == "stopped"


def test_a_second_ctrl_c_ends_at_once_and_is_no_fault(station: Workspace) -> None:
    process = begin(station, "--set", "training.epochs=9999", "--set", "training.batch_size=64")
    wait_for(lambda: epochs(station) >= 1)
    process.send_signal(signal.SIGSTOP)
    process.send_signal(signal.SIGINT)
    process.send_signal(signal.SIGCONT)
    time.sleep(0.001)
    process.send_signal(signal.SIGINT)
    assert process.wait(30) in (1, 3)
    view = RunReader(station.run(2)).view()
    assert (view.state, view.error) == ("stopped", "")
    check_resumable(station.run(2))


def test_a_run_has_one_writer_whatever_the_clock_says(station: Workspace) -> None:
    run = station.claim_run(Plan())
    held = run.hold()
    assert run.is_training()
    assert RunReader(run).view().state == "training"
    with pytest.raises(BadValue, match="another process is training it"):
        run.hold()
    with pytest.raises(BadValue, match="it is training"):
        check_resumable(run)
    with pytest.raises(BadValue, match="another process"):
        finish(execute(station, run, lambda: False))
    os.close(held)
    assert not run.is_training()
    again = run.hold()
    os.close(again)


def test_a_disk_without_locks_is_said(station: Workspace, monkeypatch: pytest.MonkeyPatch) -> None:
    def none(*_: object) -> None:
        raise OSError(37, "No locks available")

    run = station.claim_run(small())
    monkeypatch.setattr("attentive_lens.workspace.runs.fcntl.flock", none)
    with pytest.raises(LensError, match="knows no locks"):
        run.hold()
    monkeypatch.undo()
    assert not run.is_training()
    assert finish(execute(station, run, lambda: False, Launch(lock=987))).outcome.state == "done", (
        "no lock was handed over"
    )


def test_the_lock_dies_with_its_process(station: Workspace) -> None:
    process = begin(station, "--set", "training.epochs=9999")
    wait_for(lambda: epochs(station) >= 1)
    assert station.run(2).is_training()
    other = begin(station, "--claimed", "2", "--go-on", stderr=subprocess.PIPE)
    assert b"another process is training it" in other.communicate(timeout=30)[1]
    process.kill()
    process.wait(30)
    assert not station.run(2).is_training()
    assert RunReader(station.run(2)).view().state == "broken off"


def test_a_finished_run_is_not_claimed_again(station: Workspace) -> None:
    before = station.run(1).journal.read_bytes()
    process = begin(station, "--claimed", "1", stderr=subprocess.PIPE)
    assert b"was begun already" in process.communicate(timeout=30)[1]
    assert process.returncode == 2
    assert station.run(1).journal.read_bytes() == before
    assert issubclass(BadUsage, LensError)


def small() -> Plan:
    return Plan().changed({"network": "two blocks", "preprocessing.input_size": 16, "training.epochs": 2})


@pytest.mark.parametrize("steps", [0, 1, 2])
def test_a_run_killed_in_its_first_moments_is_begun_again_in_place(steps: int, station: Workspace) -> None:
    whole = finish(execute(station, station.claim_run(small()), lambda: False))
    run = station.claim_run(small())
    job = execute(station, run, lambda: False)
    for _ in range(steps):
        next(job)
    # What a kill leaves: neither an end in the journal nor a checkpoint.
    stored = run.journal.read_bytes() if run.journal.exists() else b""
    job.close()
    run.journal.write_bytes(stored)
    for file in run.checkpoints.glob("*"):
        file.unlink()
    if steps < 2:
        (run.folder / "images.npz").unlink(missing_ok=True)
    assert RunReader(run).view().state == "broken off"
    check_resumable(run)
    again = finish(execute(station, run, lambda: False, Launch(resume=True)))
    assert again.weights_sha256 == whole.weights_sha256
    assert [epoch.epoch for epoch in RunReader(run).view().epochs] == [1, 2]


def test_a_run_killed_after_its_last_checkpoint_is_completed(station: Workspace) -> None:
    run = station.claim_run(small())
    finish(execute(station, run, lambda: False))
    lines = run.journal.read_text("utf-8").splitlines()
    untold = [json.loads(line) for line in lines if '"event": "epoch"' in line]
    cut = next(k for k, line in enumerate(lines) if '"event": "epoch"' in line)
    run.journal.write_text("\n".join(lines[:cut]) + "\n", "utf-8")
    last = run.checkpoints / "last.alens"
    stored = read_checkpoint(last)
    result = [{k: v for k, v in event.items() if k not in ("event", "at")} for event in untold]
    replace(stored, card={**stored.card, "untold": result}).write(last)
    assert run.trained() == 2
    view = RunReader(run).view()
    assert (view.state, view.epochs) == ("broken off", [])
    check_resumable(run)
    done = finish(execute(station, run, lambda: False, Launch(resume=True)))
    view = RunReader(run).view()
    assert (view.state, [epoch.epoch for epoch in view.epochs]) == ("done", [1, 2])
    assert done.outcome.epochs == 2
    with pytest.raises(BadValue, match="trained all its epochs"):
        check_resumable(run)


def test_a_run_s_folder_is_never_without_its_plan(station: Workspace, monkeypatch: pytest.MonkeyPatch) -> None:
    def killed(self: Run, plan: Plan) -> None:
        raise KeyboardInterrupt

    monkeypatch.setattr(Run, "write_plan", killed)
    with pytest.raises(KeyboardInterrupt):
        station.claim_run(Plan())
    monkeypatch.undo()
    assert [run.number for run in station.runs()] == [1]
    assert station.claim_run(Plan()).number == 2
    assert {p.name for p in (Folder.open(station.folder).folder / "runs").iterdir()} == {"0001", "0002"}
