"""Processes that help with many pieces of work which hold the interpreter's lock, as decoding pictures does.

The pieces' results come back in order. Helpers begin only where there is much to do, and what they cannot do is done
here: no result depends on whether there are any.

Work and results pass through a private pair of sockets that a helper is given when it is begun; nobody else can write
there, and nothing that comes from a file or from elsewhere is ever read in that form.
"""

from __future__ import annotations

import os
import signal
import subprocess
import sys
from collections import deque
from collections.abc import Callable, Iterable, Iterator
from concurrent.futures import Future, ThreadPoolExecutor
from itertools import islice
from multiprocessing.connection import Connection, Pipe
from queue import Empty, SimpleQueue
from types import TracebackType
from typing import Any, Generic, Self, TypeVar

from attentive_lens.core.memory import keep_freed_memory

S = TypeVar("S")
T = TypeVar("T")

PATIENCE = 6
"""Pieces that are done here before helpers are begun: one takes a third of a second to start."""
MOST = 8
"""Helpers at once."""
SPARE = 2
"""Pieces asked for in advance, beside those that are worked on."""


def cores() -> int:
    """Processors that this process may use."""
    return len(os.sched_getaffinity(0))


class Helper:
    """One process that does one kind of work, piece by piece; it ends with the one that began it.

    Parameters
    ----------
    work : callable
        A function of a module that the process can import, or a part of one (`functools.partial`).
    """

    def __init__(self, work: Callable[[Any], object]) -> None:
        self._pipe, theirs = Pipe()
        self._process: subprocess.Popen[bytes] | None = None
        self._ready = False
        try:
            self._process = subprocess.Popen(  # noqa: S603
                [sys.executable, "-m", "attentive_lens.core.helpers", str(theirs.fileno())],
                stdin=subprocess.DEVNULL,
                stdout=subprocess.DEVNULL,
                stderr=subprocess.DEVNULL,  # what goes wrong there goes wrong here again, and is said
                env={**os.environ, "OPENBLAS_NUM_THREADS": "1"},
                pass_fds=[theirs.fileno()],
                start_new_session=True,
            )
            self._pipe.send(work)
        except OSError:
            self.close()
        finally:
            theirs.close()

    def is_ready(self) -> bool:
        """Whether it takes work; nothing waits.

        Raises
        ------
        OSError, EOFError
            If the process is gone.
        """
        if not self._ready and not self._pipe.closed and self._pipe.poll():
            self._ready = bool(self._pipe.recv())
        return self._ready

    def do(self, piece: object, seconds: float | None = None) -> tuple[bool, Any]:
        """Whether a piece was done, and the result, or what was raised; raises as `is_ready` does.

        Raises
        ------
        TimeoutError
            If it takes longer than so many seconds; it is of no more use then.
        """
        self._pipe.send(piece)
        if not self._ready:
            self._ready = bool(self._received(None))
        answer: tuple[bool, Any] = self._received(seconds)
        return answer

    def _received(self, seconds: float | None) -> Any:
        if not self._pipe.poll(seconds):
            raise TimeoutError(f"it took more than {seconds} seconds")
        return self._pipe.recv()

    def close(self) -> None:
        """End it."""
        self._ready = False
        self._pipe.close()
        if self._process is not None:
            self._process.kill()
            self._process.wait()


class Helpers(Generic[S, T]):
    """As many helpers as there are cores, begun when there is enough to do; used as a context.

    Parameters
    ----------
    work : callable
        What is done to a piece, see `Helper`; also called here, by several threads.
    count : int, optional
        Helpers; one for each core if left out, `MOST` at most, and none with a single core.
    """

    def __init__(self, work: Callable[[S], T], count: int | None = None) -> None:
        self.work = work
        self._helpers = (min(MOST, cores()) if cores() > 1 else 0) if count is None else count
        self._most = max(2, self._helpers)
        self._threads = ThreadPoolExecutor(self._most, "helping")
        self._free: SimpleQueue[Helper] = SimpleQueue()
        self._all: list[Helper] = []
        self._pieces = 0

    def each(self, pieces: Iterable[S]) -> Iterator[T]:
        """The results in the pieces' order; no more pieces are taken than are worked on soon."""
        left = iter(pieces)
        waiting = deque(self._begin(piece) for piece in islice(left, self._most + SPARE))
        while waiting:
            result = waiting.popleft().result()
            waiting.extend(self._begin(piece) for piece in islice(left, 1))
            yield result

    def _begin(self, piece: S) -> Future[T]:
        self._pieces += 1
        if self._pieces == PATIENCE:
            self._all = [Helper(self.work) for _ in range(self._helpers)]
            for helper in self._all:
                self._free.put(helper)
        return self._threads.submit(self._one, piece)

    def _one(self, piece: S) -> T:
        try:
            helper = self._free.get_nowait()
        except Empty:
            return self.work(piece)
        try:
            answer = helper.do(piece) if helper.is_ready() else None
        except (OSError, EOFError):
            helper.close()
            answer = None
        finally:
            self._free.put(helper)
        if answer is None:
            return self.work(piece)
        done, result = answer
        if not done:
            raise result
        return result  # type: ignore[no-any-return]

    def __enter__(self) -> Self:
        return self

    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        self._threads.shutdown(cancel_futures=True)
        for helper in self._all:
            helper.close()


def serve(pipe: Connection) -> None:
    """Do what comes through a pipe until it ends: first the work, then its pieces."""
    signal.signal(signal.SIGINT, signal.SIG_IGN)
    keep_freed_memory()
    work = pipe.recv()
    pipe.send(True)
    while True:
        try:
            piece = pipe.recv()
        except EOFError:
            return
        try:
            answer = (True, work(piece))
        except Exception as error:  # noqa: BLE001  # raised where it was asked for
            answer = (False, error)
        pipe.send(answer)


if __name__ == "__main__":
    serve(Connection(int(sys.argv[1])))
