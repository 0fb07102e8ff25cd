"""Several processes that an MPI launcher started, training one network together: the first leads, the others follow."""

from __future__ import annotations

import atexit
import json
import time
import warnings
from types import TracebackType
from typing import TYPE_CHECKING, Any, Self

import numpy as np
from numpy.typing import NDArray

from attentive_lens.core.launching import processes_launched
from attentive_lens.engine.layers import StepContext
from attentive_lens.engine.ranks import Ranks, S
from attentive_lens.errors import BadUsage
from attentive_lens.images.feeding import Feed
from attentive_lens.images.rows import Chosen
from attentive_lens.training.learner import NetworkLearner, SharedFault
from attentive_lens.training.metrics import Metrics

if TYPE_CHECKING:
    from mpi4py import MPI

WORDS, SWAPS, GONE = 1, 2, 3
"""Tags of messages: what is done next, bytes of a sum, and that a process follows no more."""
SPIN, NAP = 0.002, 0.0002
"""Seconds that a process watches closely for the next word, and sleeps between two looks after that."""
FAREWELL = 10.0
"""Seconds after which those that have not said that they are gone are ended."""
MOST = 8
"""Processes: a batch has no more pieces."""


def joined() -> Team | None:
    """The processes started with this one; None if it is alone.

    Raises
    ------
    BadUsage
        If they cannot speak with each other, or not that many can train one network.
    """
    result = processes_launched()
    if result == 1:
        return None
    what = "Several processes cannot train one network here"
    try:
        with warnings.catch_warnings():
            warnings.simplefilter("ignore")  # what they warn of is refused below
            from mpi4py import MPI
    except (ImportError, RuntimeError) as error:
        why = "mpi4py is not installed" if isinstance(error, ImportError) else str(error)
        raise BadUsage(what, why, "Install attentive-lens[mpi], or start it without the launcher") from None
    comm = MPI.COMM_WORLD
    if comm.size != (result or comm.size):
        why = f"the launcher started {result}, and mpi4py's MPI library knows {comm.size}"
        raise BadUsage(what, why, "Use the launcher of the library that mpi4py was built for")
    if comm.size > MOST or comm.size & (comm.size - 1):
        raise BadUsage(what, f"{comm.size} are not 1, 2, 4 or {MOST}", "Start one of these numbers of processes")
    return Team(comm) if comm.size > 1 else None


class Team(Ranks):
    """As a context it lets those that follow go when it ends; whoever does not go is ended.

    Parameters
    ----------
    comm : MPI.Comm
        With all of them.
    """

    def __init__(self, comm: MPI.Comm) -> None:
        self.comm, self.index, self.count = comm, comm.rank, comm.size
        from mpi4py import MPI

        self.local = comm.Split_type(MPI.COMM_TYPE_SHARED).size

    def swap(self, partner: int, values: NDArray[np.uint8]) -> NDArray[np.uint8]:
        """By one message each way."""
        received = np.empty_like(values)
        self.comm.Sendrecv(values, partner, SWAPS, received, partner, SWAPS)
        return received

    def gather(self, values: NDArray[S]) -> list[NDArray[S]]:
        """Lengths first, then the bytes of all."""
        flat = np.ascontiguousarray(values).reshape(-1).view(np.uint8)
        lengths = np.empty(self.count, np.int64)
        self.comm.Allgather(np.array([len(flat)], np.int64), lengths)
        everything = np.empty(int(lengths.sum()), np.uint8)
        self.comm.Allgatherv(flat, (everything, lengths.tolist()))
        ends = np.cumsum(lengths)
        return [
            everything[end - length : end].view(values.dtype).reshape(-1, *values.shape[1:])
            for end, length in zip(ends, lengths, strict=True)
        ]

    def say(self, do: str, **values: object) -> None:
        """The first tells all others; the others say nothing."""
        if self.index:
            return
        message = np.frombuffer(json.dumps({"do": do, **values}).encode(), np.uint8)
        for other in range(1, self.count):
            self.comm.Send(message, other, WORDS)

    def hear(self) -> dict[str, Any]:
        """What the first does next; waits for it, without keeping a core busy for long."""
        from mpi4py import MPI

        status, began = MPI.Status(), time.perf_counter()
        while not self.comm.Iprobe(0, WORDS, status):
            time.sleep(0 if time.perf_counter() - began < SPIN else NAP)
        message = np.empty(status.Get_count(), np.uint8)
        self.comm.Recv(message, 0, WORDS)
        result: dict[str, Any] = json.loads(message.tobytes())
        return result

    def gone(self) -> None:
        """Tell the first that no more is followed here."""
        self.comm.Send(np.zeros(1, np.uint8), 0, GONE)

    def end_all(self) -> None:
        """End every process of the team at once, without more ado."""
        self.comm.Abort(1)

    def __enter__(self) -> Self:
        return self

    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        if self.index:
            return
        self.say("end")
        left, until = set(range(1, self.count)), time.monotonic() + FAREWELL
        while left and time.monotonic() < until:
            left -= {other for other in left if self.comm.Iprobe(other, GONE)}
            time.sleep(NAP)
        for other in set(range(1, self.count)) - left:
            self.comm.Recv(np.empty(1, np.uint8), other, GONE)
        if left:  # one waits for a sum that never comes; whoever leaves would wait for it in turn
            atexit.register(self.end_all)


def follow(team: Team, learner: NetworkLearner, feed: Feed, held_out: tuple[Any | Chosen, NDArray[np.int64]]) -> None:
    """Do what the first process does, on this one's rows, until it ends.

    Parameters
    ----------
    team : Team
        In which this process is not the first.
    learner, feed
        As those of the first.
    held_out : tuple
        Validation images and their classes, as `training.loop.run` takes them.
    """
    batches, place = None, (-1, -1)
    validation: Metrics | None = None
    try:
        while (result := team.hear())["do"] != "end":
            match result["do"]:
                case "learn":
                    epoch, number = int(result["epoch"]), int(result["batch"])
                    if batches is None or place != (epoch, number):
                        if batches is not None:
                            batches.close()  # type: ignore[attr-defined]
                        batches = feed.batches_of(epoch, number)
                    batch, place = next(batches), (epoch, number + 1)
                    learner.rates = tuple((int(first), float(rate)) for first, rate in result["rates"])
                    try:
                        learner.learn(batch, StepContext(feed.seed, epoch, number, 0), int(result["batches"]))
                    except SharedFault:
                        continue
                case "before evaluation":
                    learner.before_evaluation(float(result["fraction"]))
                case "evaluate":
                    try:
                        validation = learner.evaluate(*held_out)
                    except SharedFault:
                        continue
                case "epoch end":
                    learner.on_epoch_end(validation)
                    validation = None
    finally:
        if batches is not None:
            batches.close()  # type: ignore[attr-defined]
