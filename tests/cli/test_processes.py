"""One run by several processes that a launcher starts, and what becomes of it when one of them is lost."""

from __future__ import annotations

import json
import shutil
import signal
import subprocess
import sys
import time
from pathlib import Path

import psutil
import pytest

from attentive_lens.core.jobs import finish
from attentive_lens.desk.training.executing import execute
from attentive_lens.desk.training.runs import RunReader
from attentive_lens.plan.plan import Plan
from attentive_lens.training import team as teams
from attentive_lens.training.control import PAUSE
from attentive_lens.workspace import Workspace

LAUNCHER = Path(sys.executable).parent / "mpiexec"
SETTINGS = {
    "network": "residual",
    "preprocessing.input_size": 16,
    "training.epochs": 2,
    "training.batch_size": 16,
    "averaging.kind": "exponential moving average",
}
WORDS = [word for key, value in SETTINGS.items() for word in ("--set", f"{key}={value}")]


def command(count: int, folder: Path, *words: str) -> list[str]:
    program = [sys.executable, "-m", "attentive_lens", "train", str(folder), *words, "--json"]
    return [str(LAUNCHER), "-n", str(count), *program]


def test_a_run_of_two_processes_that_lost_one_goes_on_with_four_to_the_bits_of_one(station: Workspace) -> None:
    alone = finish(execute(station, station.claim_run(Plan().changed(SETTINGS)), lambda: False))
    process = subprocess.Popen(command(2, station.folder, *WORDS), stdout=subprocess.PIPE, stderr=subprocess.PIPE)
    until = time.monotonic() + 60
    while len(station.runs()) < 3:
        assert time.monotonic() < until
        time.sleep(0.01)
    run = station.run(3)
    run.ask(PAUSE)
    while not RunReader(run).view().paused:
        assert time.monotonic() < until
        time.sleep(0.02)
    assert RunReader(run).view().steps[0] > 0 or (run.checkpoints / "last.alens").exists()
    team = psutil.Process(process.pid).children(recursive=True)
    following = [each for each in team if each.environ().get("PMI_RANK") == "1"]
    following[-1].send_signal(signal.SIGKILL)
    process.communicate(timeout=30)
    assert process.returncode != 0
    assert RunReader(run).view().state == "broken off"
    done = subprocess.run(command(4, station.folder, "--resume", "3"), capture_output=True, text=True, timeout=100)
    assert done.returncode == 0, done.stderr
    assert json.loads(done.stdout)["weights_sha256"] == alone.weights_sha256


@pytest.mark.parametrize("network", ["variational, two codes", "generator, by class"])
def test_a_run_that_draws_has_the_bits_of_one_process_in_two(network: str, station: Workspace) -> None:
    settings = {**SETTINGS, "network": network, "training.epochs": 1}
    words = [word for key, value in settings.items() for word in ("--set", f"{key}={value}")]
    alone = finish(execute(station, station.claim_run(Plan().changed(settings)), lambda: False))
    done = subprocess.run(command(2, station.folder, *words), capture_output=True, text=True, timeout=100)
    assert done.returncode == 0, done.stderr
    result = json.loads(done.stdout)
    assert result["weights_sha256"] == alone.weights_sha256
    one, two = (RunReader(station.run(number)).view().epochs[0] for number in (2, 3))
    assert (one.training, one.validation) == (two.training, two.validation)


def test_a_process_that_sees_another_workspace_ends_the_run_with_a_sentence(station: Workspace, tmp_path: Path) -> None:
    other = Path(shutil.copytree(station.folder, tmp_path / "other"))
    victim = next((other / "images").rglob("*.png"))
    shutil.copy(next(file for file in (other / "images").rglob("*.png") if file != victim), victim)
    first, second = command(1, station.folder, *WORDS), command(1, other, *WORDS)
    done = subprocess.run([*first, ":", *second[1:]], capture_output=True, text=True, timeout=100)
    assert done.returncode == 1
    assert "Process 2 of 2 cannot take part" in done.stdout + done.stderr
    view = RunReader(station.run(2)).view()
    assert view.state == "failed"
    assert "Process 2 of 2 cannot take part" in view.error
    assert len(Workspace.open(other).runs()) == 1


@pytest.mark.parametrize("words", [("runs",), ("sweep", "--over", "seed=1,2")])
def test_other_commands_are_refused_under_a_launcher(
    words: tuple[str, ...], station: Workspace, monkeypatch: pytest.MonkeyPatch, capsys: pytest.CaptureFixture[str]
) -> None:
    from attentive_lens.cli.entry import run_command

    monkeypatch.setenv("PMI_SIZE", "2")
    assert run_command([words[0], str(station.folder), *words[1:]], {}) == 2
    assert "each of 2 processes would do the same" in capsys.readouterr().err
    monkeypatch.setenv("PMI_SIZE", "1")
    assert run_command(["runs", str(station.folder)], {}) == 0


def test_processes_that_do_not_know_each_other_do_not_train_each_for_itself(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setenv("OMPI_COMM_WORLD_SIZE", "4")
    with pytest.raises(teams.BadUsage, match=r"the launcher started 4, and mpi4py's MPI library knows 1"):
        teams.joined()
