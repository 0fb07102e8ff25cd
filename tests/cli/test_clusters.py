"""Series of runs on a real cluster on this machine: ranked, followed, and gone on with where a worker is killed."""

from __future__ import annotations

import os
import signal
import socket
import subprocess
import sys
import time
from collections.abc import Callable, Iterator
from pathlib import Path

import psutil
import pytest
from tests.cli.running import command, last_object

from attentive_lens.core.jobs import finish
from attentive_lens.desk.many import clusters
from attentive_lens.desk.many.series import Turn
from attentive_lens.desk.training.executing import execute
from attentive_lens.desk.training.runs import RunReader
from attentive_lens.engine.network import fingerprint
from attentive_lens.formats.reading import read_model
from attentive_lens.training.control import PAUSE
from attentive_lens.workspace import Run, Workspace

SMALL = ("--set", "network=two blocks", "--set", "preprocessing.input_size=32", "--set", "training.batch_size=16")


def wait_for(condition: Callable[[], bool], seconds: float = 60) -> None:
    end = time.monotonic() + seconds
    while not condition():
        assert time.monotonic() < end, "waited too long"
        time.sleep(0.05)


def answers(address: str) -> bool:
    host, port = address.split(":")
    with socket.socket() as trial:
        return trial.connect_ex((host, int(port))) == 0


def is_paused(run: Run) -> bool:
    """Asks for it until it is: who only begins takes an older word back."""
    view = RunReader(run).view()
    if view.state == "training" and not view.paused and run.command() != PAUSE:
        run.ask(PAUSE)
    return view.paused


def are_paused(runs: list[Run]) -> bool:
    """Every one is asked, before it is known of any."""
    paused = [is_paused(run) for run in runs]
    return all(paused)


class Local:
    """A scheduler and workers as processes of this machine."""

    def __init__(self, folder: Path, workers: int) -> None:
        with socket.socket() as free:
            free.bind(("127.0.0.1", 0))
            port = free.getsockname()[1]
        self.address, self.folder = f"127.0.0.1:{port}", folder
        quiet = {"DASK_LOGGING__DISTRIBUTED": "error", "DASK_DISTRIBUTED__WORKER__DAEMON": "False"}
        self.environment = {**os.environ, **quiet, "DASK_DISTRIBUTED__SCHEDULER__ALLOWED_FAILURES": "0"}
        self.processes = [self.start("scheduler", "--host", "127.0.0.1", "--port", str(port), "--no-dashboard")]
        self.workers = [self.add_worker(f"w{k}") for k in range(workers)]

    def start(self, *words: str) -> subprocess.Popen[bytes]:
        program = [str(Path(sys.executable).parent / "dask"), *words]
        with (self.folder / "log.txt").open("ab") as log:
            return subprocess.Popen(program, env=self.environment, stdout=log, stderr=log, cwd=self.folder)

    def add_worker(self, name: str) -> subprocess.Popen[bytes]:
        words = ("--nthreads", "1", "--no-dashboard", "--no-nanny", "--name", name)
        worker = self.start("worker", f"tcp://{self.address}", *words, "--local-directory", str(self.folder))
        self.processes.append(worker)
        return worker

    def close(self) -> None:
        for process in reversed(self.processes):
            process.kill()
            process.wait(20)


@pytest.fixture
def cluster(tmp_path: Path) -> Iterator[Local]:
    folder = tmp_path / "cluster"
    folder.mkdir()
    local = Local(folder, 2)
    wait_for(lambda: answers(local.address))
    yield local
    local.close()


def test_a_sweep_on_a_cluster_survives_the_loss_of_a_worker_to_the_bit(station: Workspace, cluster: Local) -> None:
    words = (*SMALL, "--set", "training.epochs=12", "--over", "optimiser.learning_rate=0.001,0.002")
    at = f"dask://{cluster.address}"
    sweep = [sys.executable, "-m", "attentive_lens", "sweep", str(station.folder), *words, "--on", at]
    process = subprocess.Popen(sweep, stdout=subprocess.PIPE, stderr=subprocess.PIPE, text=True)
    wait_for(lambda: len(station.runs()) == 3)
    wait_for(lambda: are_paused([station.run(number) for number in (2, 3)]))
    children = psutil.Process(cluster.workers[0].pid).children(recursive=True)
    cluster.workers[0].send_signal(signal.SIGKILL)
    wait_for(lambda: not any(child.is_running() and child.status() != psutil.STATUS_ZOMBIE for child in children), 5)
    for number in (2, 3):
        station.run(number).forget_word()
    out, result = process.communicate(timeout=100)
    assert process.returncode == 0, result
    assert "its worker was lost; another goes on with it" in result
    assert "epoch  12" in result, "epochs are told as they end"
    assert out.count("12 epochs") == 2
    for number in (2, 3):
        run = station.run(number)
        alone = finish(execute(station, station.claim_run(run.plan()), lambda: False))
        assert len(RunReader(run).view().epochs) == 12
        assert fingerprint(read_model(run.model).weights) == alone.weights_sha256, number
    cluster.close()
    assert len(last_object(command("sweep", station.folder, *words, "--on", at, "--json"))["ranked"]) == 2


def test_a_cluster_that_is_none_or_has_nobody_is_told_in_a_sentence(
    station: Workspace, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    words = ("repeat", station.folder, *SMALL, "--times", "2", "--on")
    assert "Write --on dask://HOST:PORT" in command(*words, "127.0.0.1:9", "--json", code=2)
    assert "no scheduler answers at dask://127.0.0.1:9" in command(*words, "dask://127.0.0.1:9", "--json", code=1)
    monkeypatch.setattr(clusters, "NO_WORKERS_SECONDS", 0.5)
    empty = Local(tmp_path, 0)
    try:
        wait_for(lambda: answers(empty.address))
        assert "had no worker" in command(*words, f"dask://{empty.address}", "--json", code=1)
        monkeypatch.setattr(clusters, "NO_WORKERS_SECONDS", 60)
        empty.add_worker("w")
        real = Turn.take

        def lost(turn: Turn) -> object:
            empty.processes[0].kill()
            return real(turn)

        monkeypatch.setattr(Turn, "take", lost)
        monkeypatch.setattr(clusters, "LOST_SECONDS", 1)
        assert "The cluster was lost" in command(*words, f"dask://{empty.address}", "--json", code=1)
    finally:
        empty.close()
    assert len(station.runs()) == 2, "the run that was being sent is there, to go on with"


def test_workers_need_the_same_version_and_workspace(
    station: Workspace, cluster: Local, monkeypatch: pytest.MonkeyPatch
) -> None:
    at = f"dask://{cluster.address}"
    monkeypatch.setattr(clusters, "VERSION", "0.0.0")
    result = command("repeat", station.folder, *SMALL, "--times", "2", "--on", at, "--json", code=1)
    assert "None of the runs could be trained" in result
    assert "of attentive-lens, this machine 0.0.0" in result
