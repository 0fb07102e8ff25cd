"""One run by several processes, and several runs on a cluster, each as a ratio to the same on this machine alone.

Printed for each network: how fast two processes with one thread each train, over one process with two threads, by the
median of epochs, alternating; whether 1, 2 and 4 processes gave the same bits; and how much sooner two workers of a
cluster end a series of runs than one worker. Needs mpi4py with a launcher, and Dask.

    python benchmarks/together.py [--images 1200] [--pairs 5] [--networks "two blocks" "three blocks" residual]
"""

from __future__ import annotations

import argparse
import json
import os
import shutil
import socket
import statistics
import subprocess
import sys
import tempfile
import time
from pathlib import Path

from attentive_lens.core.jobs import finish
from attentive_lens.desk.making import make_demo
from attentive_lens.desk.training.runs import RunReader
from attentive_lens.workspace import Workspace

BIN = Path(sys.executable).parent
PROGRAM = [sys.executable, "-m", "attentive_lens"]
EPOCHS = 4
SERIES = 4


def trained(folder: Path, network: str, processes: int, threads: int) -> tuple[float, str]:
    """Median seconds of an epoch but the first, and the weights' fingerprint."""
    settings = [f"network={network}", f"training.epochs={EPOCHS}", f"training.threads={threads}"]
    words = [word for setting in settings for word in ("--set", setting)]
    launcher = [str(BIN / "mpiexec"), "-n", str(processes)] if processes > 1 else []
    done = subprocess.run(
        [*launcher, *PROGRAM, "train", str(folder), *words, "--json"], capture_output=True, text=True, check=True
    )
    result = json.loads(done.stdout)
    epochs = RunReader(Workspace.open(folder).run(result["run"])).view().epochs
    return statistics.median(epoch.seconds for epoch in epochs[1:]), str(result["weights_sha256"])


def processes(folder: Path, network: str, pairs: int) -> None:
    """Print the speed of two processes over one, and whether their bits are the same."""
    ratios, marks = [], set()
    for pair in range(pairs):
        seconds = {}
        for count in (1, 2) if pair % 2 else (2, 1):
            seconds[count], mark = trained(folder, network, count, 2)
            marks.add(mark)
        ratios.append(seconds[1] / seconds[2])
    marks.add(trained(folder, network, 4, 4)[1])
    same = "the same bits for 1, 2 and 4" if len(marks) == 1 else "DIFFERENT BITS"
    print(
        f"{network:>14}: two processes of one thread are {statistics.median(ratios):.2f} times as fast as two threads"
        f" ({min(ratios):.2f} to {max(ratios):.2f}, {pairs} pairs); {same}"
    )


def series(folder: Path, workers: int, scratch: Path) -> float:
    """Seconds that a cluster of so many workers of one thread takes for a series."""
    with socket.socket() as free:
        free.bind(("127.0.0.1", 0))
        port = free.getsockname()[1]
    scratch.mkdir()
    environment = {**os.environ, "DASK_LOGGING__DISTRIBUTED": "error"}
    started = []
    with (scratch / "log.txt").open("ab") as log:

        def start(*words: str) -> None:
            program = [str(BIN / "dask"), *words]
            started.append(subprocess.Popen(program, env=environment, stdout=log, stderr=log, cwd=scratch))

        start("scheduler", "--host", "127.0.0.1", "--port", str(port), "--no-dashboard")
        time.sleep(2)
        for number in range(workers):
            words = ("--nthreads", "1", "--no-nanny", "--no-dashboard", "--local-directory", str(scratch))
            start("worker", f"tcp://127.0.0.1:{port}", *words, "--name", f"w{number}")
        time.sleep(4)
        settings = ["--set", f"training.epochs={EPOCHS}", "--set", "training.threads=1", "--times", str(SERIES)]
        began = time.perf_counter()
        subprocess.run(
            [*PROGRAM, "repeat", str(folder), *settings, "--on", f"dask://127.0.0.1:{port}"],
            capture_output=True,
            check=True,
        )
        seconds = time.perf_counter() - began
        for process in reversed(started):
            process.terminate()
            process.wait(30)
    return seconds


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    parser.add_argument("--images", type=int, default=1200)
    parser.add_argument("--pairs", type=int, default=5)
    parser.add_argument("--networks", nargs="+", default=["two blocks", "three blocks", "residual"])
    wanted = parser.parse_args()
    with tempfile.TemporaryDirectory() as scratch:
        folder = Path(scratch) / "station"
        finish(make_demo(folder, wanted.images, 1))
        for network in wanted.networks:
            processes(folder, network, wanted.pairs)
        seconds = {}
        for workers in (1, 2):
            own = Path(shutil.copytree(folder, Path(scratch) / f"station-{workers}"))
            shutil.rmtree(own / "runs")
            seconds[workers] = series(own, workers, Path(scratch) / f"cluster-{workers}")
        print(f"a series of {SERIES} runs: two workers are done {seconds[1] / seconds[2]:.2f} times as soon as one")


if __name__ == "__main__":
    main()
