"""Runs sent to the workers of a Dask cluster, followed through their folders, and resumed where a worker was lost."""

from __future__ import annotations

import contextlib
import ctypes
import json
import logging
import os
import re
import signal
import socket
import subprocess
import sys
import time
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from attentive_lens.core.jobs import Job, Progress
from attentive_lens.core.records import PlainTable
from attentive_lens.core.version import VERSION
from attentive_lens.desk.many.series import Turn
from attentive_lens.desk.training.runs import RunReader
from attentive_lens.errors import BadUsage, BadValue, LensError
from attentive_lens.training.control import STOP
from attentive_lens.workspace import Run, Workspace

SCHEME = "dask://"
CONNECT_SECONDS = 10.0
LOOK_SECONDS = 0.25
"""Between two looks at how runs are doing."""
LOST_SECONDS = 15.0
"""After which a scheduler that does not answer is lost."""
HELD_SECONDS = 30.0
"""That a worker waits for a run's earlier process to end, where the worker that started it was lost."""
NO_WORKERS_SECONDS = 60.0
"""After which a cluster without a worker is given up."""
TIES = 2
"""Times that a run is sent again after its worker was lost without having got any further."""
LOSSES = frozenset({"KilledWorker", "CommClosedError", "FutureCancelledError", "CancelledError"})
"""What a run's future ends with where nobody is to blame but the cluster."""
PR_SET_PDEATHSIG = 1


def train_on_worker(folder: str, number: int, until: int, version: str) -> PlainTable:
    """Train a run in a process of its own on this worker, which dies with it; gives its state, or a sentence.

    The threads that the plan names are shared by the runs that the worker trains at once.
    """
    from distributed import get_worker

    if version != VERSION:
        return {"error": f"A worker has version {VERSION} of attentive-lens, this machine {version}"}
    worker: Any = get_worker()
    try:
        run = Workspace.open(Path(folder)).run(number)
        threads = max(1, run.plan().training.threads // worker.state.nthreads)
    except LensError as error:
        why = "workers need the workspace at the same path as this machine"
        return {"error": f"{why}, and at {worker.address} {str(error).rstrip('.')}"}
    patience = time.monotonic() + HELD_SECONDS
    while run.is_training() and time.monotonic() < patience:
        time.sleep(LOOK_SECONDS)
    words = ["--resume", str(number), "--until", str(until), "--threads", str(threads), "--json"]
    with (run.folder / "log.txt").open("ab") as log:
        process = subprocess.Popen(
            [sys.executable, "-m", "attentive_lens", "train", folder, *words],
            stdin=subprocess.DEVNULL,
            stdout=subprocess.PIPE,
            stderr=log,
            preexec_fn=_die_with_parent,
        )
        summary, _ = process.communicate()
    try:
        answer: PlainTable = json.loads(summary)
    except ValueError:
        return {"error": f"Run {number} ended with exit code {process.returncode}; its log.txt may say why"}
    if "error" in answer:
        return {"state": "failed"}
    return {"state": str(answer["state"])}


def _die_with_parent() -> None:
    """No process of a worker outlives it: another worker may go on with its run."""
    ctypes.CDLL(None).prctl(PR_SET_PDEATHSIG, signal.SIGKILL)
    if os.getppid() == 1:
        os._exit(1)


@dataclass
class _Sent:
    """A run at a worker."""

    turn: Turn
    run: Run
    future: Any
    reader: RunReader
    ties: int
    steps: int
    trains: bool = False


class Cluster:
    """A scheduler with its workers, as a context.

    Parameters
    ----------
    address : str
        ``dask://HOST:PORT``.

    Raises
    ------
    BadUsage
        If it is no such address, or Dask is not installed.
    BadValue
        If no scheduler answers there.
    """

    def __init__(self, address: str) -> None:
        if not re.fullmatch(r"dask://[^\s/:]+:\d{1,5}", address):
            raise BadUsage("The runs were not sent", f"«{address}» is no cluster", "Write --on dask://HOST:PORT")
        self.address = address
        try:
            from distributed import Client
        except ImportError:
            why = "Dask is not installed here"
            raise BadUsage("The runs were not sent", why, "Install attentive-lens[dask]") from None
        for name in [name for name in logging.root.manager.loggerDict if name.startswith("distributed")]:
            logging.getLogger(name).setLevel(logging.CRITICAL + 1)  # what matters of it is said below
        try:
            host, port = address.removeprefix(SCHEME).rsplit(":", 1)
            socket.create_connection((host, int(port)), CONNECT_SECONDS).close()  # Dask would try again for long
            connect: Any = Client  # it has no types
            self.client = connect(address.replace(SCHEME, "tcp://"), timeout=CONNECT_SECONDS, set_as_default=False)
        except (OSError, ValueError, OverflowError):
            why, remedy = f"no scheduler answers at {address}", "Start one with «dask scheduler», or check the address"
            raise BadValue("The runs were not sent", why, remedy) from None

    def __enter__(self) -> Cluster:
        return self

    def __exit__(self, *_: object) -> None:
        with contextlib.suppress(Exception):
            self.client.close(timeout=2)
        with contextlib.suppress(Exception):  # where the scheduler was lost, closing leaves its thread
            self.client.loop.add_callback(self.client.loop.stop)

    def room(self) -> int:
        """Runs that its workers can train at once."""
        info = self.client.scheduler_info(n_workers=-1)  # without workers where it does not answer
        return sum(worker["nthreads"] for worker in info.get("workers", {}).values())

    def train(
        self, turns: Sequence[Turn], stop: Callable[[], bool], tell: Callable[[str], None], sent: Callable[[Run], None]
    ) -> Job[bool]:
        """Train all, as many at once as there is room for; whether somebody asked to stop before all were done.

        Parameters
        ----------
        turns : sequence of Turn
            What to train.
        stop : callable
            Whether somebody asks to stop: runs that train then stop after their step.
        tell : callable
            Takes a line whenever something is worth one.
        sent : callable
            Takes each run when it is sent.

        Raises
        ------
        LensError
            If the cluster is lost or none of the runs could be trained.
        """
        return (yield from _Sending(self, list(turns), stop, tell, sent).all())


class _Sending:
    """Turns on their way through a cluster."""

    def __init__(
        self,
        cluster: Cluster,
        turns: list[Turn],
        stop: Callable[[], bool],
        tell: Callable[[str], None],
        follow: Callable[[Run], None],
    ) -> None:
        self.cluster, self.left, self.stop, self.tell, self.follow = cluster, turns, stop, tell, follow
        self.sent: list[_Sent] = []
        self.faults: list[str] = []
        self.count, self.done, self.stopping = len(turns), 0, False
        self.heard = self.roomy = time.monotonic()

    def all(self) -> Job[bool]:
        """See `Cluster.train`."""
        try:
            while self.left or self.sent:
                self._stop_if_asked()
                self._fill()
                yield Progress(self.done, self.count, f"training {self.count} runs on {self.cluster.address}")
                for each in list(self.sent):
                    if not each.future.done():
                        self._look(each)
                    elif each.future.status != "cancelled" or self.cluster.client.status == "running":
                        self._take(each)
                time.sleep(LOOK_SECONDS)
        finally:
            for each in self.sent:  # only where something went wrong, or somebody is in a hurry
                with contextlib.suppress(Exception):
                    each.future.cancel()
        if self.faults and not self.stopping and len(self.faults) == self.count:
            raise BadValue("None of the runs could be trained", self.faults[-1].rstrip("."), "See the runs' log.txt")
        return self.stopping

    def _stop_if_asked(self) -> None:
        if not self.stopping and not self.stop():
            return
        self.stopping, self.left = True, []
        for each in self.sent:  # again and again: who only begins takes an older word back
            if each.run.command() != STOP:
                each.run.ask(STOP)

    def _fill(self) -> None:
        """Send as many as there is room for; notice that nobody is there."""
        now, status = time.monotonic(), self.cluster.client.status
        if status == "running":
            self.heard = now
        elif now - self.heard > LOST_SECONDS or status == "closed":
            self._lost()
        try:
            room = self.cluster.room() if self.left and status == "running" else 0
        except OSError:
            room = 0
        if room or not self.left:
            self.roomy = now
        elif now - self.roomy > NO_WORKERS_SECONDS:
            why = f"for {NO_WORKERS_SECONDS:.0f} s the cluster at {self.cluster.address} had no worker"
            raise BadValue("The runs wait for nobody", why, "Start workers with «dask worker», then the same command")
        while self.left and len(self.sent) < room:
            turn = self.left.pop(0)
            run, _ = turn.take()
            self.sent.append(self._send(turn, run, RunReader(run)))
            self.tell(f"run {run.number} sent: {turn.plan.name}")
            self.follow(run)

    def _send(self, turn: Turn, run: Run, reader: RunReader, ties: int = 0) -> _Sent:
        folder = str(turn.workspace.folder.absolute())
        future = self.cluster.client.submit(
            train_on_worker, folder, run.number, turn.until, VERSION, pure=False, retries=0,
            key=f"attentive-lens run {run.number} {time.time_ns()}",
        )  # fmt: skip
        return _Sent(turn, run, future, reader, ties, reader.view().steps[0])

    def _look(self, each: _Sent) -> None:
        """Whether its process is lost and it waits for another; the scheduler sends it again by itself."""
        trained, each.trains = each.trains, each.run.is_training()
        if trained and not each.trains and not each.future.done() and each.reader.view().state == "broken off":
            self.tell(f"run {each.run.number}: its worker was lost; another goes on with it")

    def _take(self, each: _Sent) -> None:
        """What became of a run whose worker has done with it, or is gone."""
        self.sent.remove(each)
        if each.future.status == "finished":
            ended = each.future.result()
            self.done += 1
            if "error" in ended:
                self._fault(each, str(ended["error"]))
            else:
                error = each.reader.view().error
                self.tell(f"run {each.run.number} {ended['state']}" + (f": {error}" if error else ""))
                if ended["state"] == "failed":
                    self._fault(each, error or "it failed")
            return
        lost = _error_of(each.future)
        if each.future.status != "cancelled" and type(lost).__name__ not in LOSSES:
            self.done += 1
            self._fault(each, f"{type(lost).__name__}: {lost}")
            return
        view = each.reader.view()
        ties = each.ties + 1 if view.steps[0] <= each.steps else 0
        if ties > TIES:
            self.done += 1
            self._fault(each, "its worker was lost again and again")
            return
        self.tell(f"run {each.run.number}: its worker was lost; another goes on with it")
        self.sent.append(self._send(each.turn, each.run, each.reader, ties))

    def _fault(self, each: _Sent, sentence: str) -> None:
        self.faults.append(sentence)
        self.tell(f"run {each.run.number} was not trained: {sentence}")

    def _lost(self) -> None:
        why = f"the scheduler at {self.cluster.address} does not answer any more"
        remedy = "What was trained is kept: when the cluster is back, the same command goes on"
        raise LensError("The cluster was lost", why, remedy)


def _error_of(future: Any) -> BaseException:
    try:
        error: BaseException | None = future.exception(timeout=5)
    except BaseException as raised:  # noqa: BLE001  # a cancelled future raises what it is
        return raised
    return error if error is not None else RuntimeError(str(future.status))
