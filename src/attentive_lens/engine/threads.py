"""Our own threads over pieces of work, with the matrix library held to one thread each.

Pieces are fixed by the work, never by the number of threads, and results come back in the order of the
pieces: whatever the thread count, sums are taken in the same order and give the same bits.
"""

from __future__ import annotations

from collections.abc import Callable
from concurrent.futures import Future, ThreadPoolExecutor, wait
from types import TracebackType
from typing import Self, TypeVar

from threadpoolctl import threadpool_limits

from attentive_lens.core.jobs import breathe, is_breathing
from attentive_lens.core.memory import keep_freed_memory

T = TypeVar("T")

ROUND = 8
"""Pieces before which a job breathes, see `core.jobs.breathe`: a few milliseconds each."""

AWAIT = 0.01
"""Seconds between two breaths while others work."""


class ThreadPool:
    """A team of threads, used as a context.

    Parameters
    ----------
    threads : int
        Threads that work at once, 1 or more. With one, everything runs in the caller's.
    """

    def __init__(self, threads: int) -> None:
        self.threads = threads
        self._pool = ThreadPoolExecutor(threads, thread_name_prefix="engine") if threads > 1 else None
        keep_freed_memory()
        self._limits = threadpool_limits(limits=1, user_api="blas")

    def each(self, work: Callable[[int], T], pieces: int) -> list[T]:
        """Do ``work(0)`` … ``work(pieces − 1)`` and return their results in that order."""
        results: list[T] = []
        for first in range(0, pieces, ROUND):
            breathe()
            those = range(first, min(first + ROUND, pieces))
            if self._pool is None:
                results += [work(piece) for piece in those]
            elif is_breathing():
                results += _awaited([self._pool.submit(work, piece) for piece in those])
            else:
                results += self._pool.map(work, those)
        return results

    def close(self) -> None:
        """End the threads and give the matrix library its own back."""
        if self._pool is not None:
            self._pool.shutdown()
        self._limits.restore_original_limits()

    def __enter__(self) -> Self:
        return self

    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        self.close()


def _awaited(futures: list[Future[T]]) -> list[T]:
    """The results, breathing while they are waited for; whoever ends it by that waits for what was begun."""
    try:
        while wait(futures, AWAIT).not_done:
            breathe()
    except BaseException:
        for future in futures:
            future.cancel()
        wait(futures)
        raise
    return [future.result() for future in futures]
