"""Our own threads over pieces of work, with the matrix library held to one thread each.

Pieces are fixed by the work, never by the number of threads, and results come back in the order of the
pieces: whatever the thread count, sums are taken in the same order and give the same bits.
"""

from __future__ import annotations

import contextlib
import ctypes
from collections.abc import Callable
from concurrent.futures import Future, ThreadPoolExecutor, wait
from functools import cache
from types import TracebackType
from typing import Self, TypeVar

from threadpoolctl import threadpool_limits

from attentive_lens.core.jobs import breathe, is_breathing

T = TypeVar("T")

LARGEST_OPTION, LARGEST = -3, 32 << 20
"""``M_MMAP_THRESHOLD``: bytes of an array from which on it is given back when it is freed; no more are allowed."""
KEPT_OPTION, KEPT = -1, 1 << 30
"""``M_TRIM_THRESHOLD``: free bytes from which on some are given back."""

ROUND = 8
"""Pieces before which a job breathes, see `core.jobs.breathe`: a few milliseconds each."""

AWAIT = 0.01
"""Seconds between two breaths while others work."""


@cache
def keep_freed_memory() -> None:
    """Have the C library keep what is freed, where it can be told: a step's arrays are the next step's.

    Otherwise arrays above a fraction of a megabyte are given back and fetched again, page by page, at every step.
    """
    with contextlib.suppress(AttributeError, OSError):
        library = ctypes.CDLL(None)
        library.mallopt(LARGEST_OPTION, LARGEST)
        library.mallopt(KEPT_OPTION, KEPT)


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
