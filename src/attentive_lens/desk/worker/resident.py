"""The window's end of the pipe to the resident worker; nothing here waits."""

from __future__ import annotations

import contextlib
import os
import shutil
import subprocess
import sys
import tempfile
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import numpy as np
import psutil
from numpy.typing import NDArray

from attentive_lens.core.files import is_alive
from attentive_lens.core.records import from_plain, to_plain
from attentive_lens.desk.log import open_log
from attentive_lens.desk.requests.base import Request
from attentive_lens.desk.worker.wire import Answer, Message, line, read_error, read_line
from attentive_lens.errors import LensError


@dataclass(frozen=True)
class Reply:
    """What the worker says of one request.

    Attributes
    ----------
    number : int
        The request's.
    progress : tuple or None
        Steps done, in all, and what is being done.
    result : dataclass or None
        Of the class that the request names; with progress, as far as it is.
    error : LensError or None
        If it failed.
    stopped : bool
        Whether it was given up for a newer one.
    """

    number: int
    progress: tuple[int, int, str] | None = None
    result: object = None
    error: LensError | None = None
    stopped: bool = False


PREFIX = "attentive-lens-"


def _remove_old(parent: Path) -> None:
    """Remove the folders of windows that are gone: shared memory that a crash left behind."""
    for folder in parent.glob(f"{PREFIX}*-*"):
        owner = folder.name.removeprefix(PREFIX).split("-")[0]
        if owner.isdigit() and not is_alive(int(owner)):
            shutil.rmtree(folder, ignore_errors=True)


class Resident:
    """Starts the worker, sends requests, and turns what comes back into replies."""

    def __init__(self) -> None:
        memory = Path("/dev/shm")  # noqa: S108
        parent = str(memory) if os.access(memory, os.W_OK) else None
        _remove_old(Path(parent or tempfile.gettempdir()))
        self.folder = Path(tempfile.mkdtemp(prefix=f"{PREFIX}{os.getpid()}-", dir=parent))
        log = open_log()
        environment = {**os.environ, "OPENBLAS_NUM_THREADS": "1"}
        self.process = subprocess.Popen(  # noqa: S603
            [sys.executable, "-m", "attentive_lens.desk.worker.worker", str(self.folder)],
            stdin=subprocess.PIPE,
            stdout=subprocess.PIPE,
            stderr=log,
            env=environment,
        )
        if log is not None:
            log.close()
        if self.process.stdout is None or self.process.stdin is None:
            raise RuntimeError("the worker has no pipes")
        self._in, self._out = self.process.stdin, self.process.stdout
        for stream in (self._in, self._out):
            os.set_blocking(stream.fileno(), False)
        self._unread, self._unsent = b"", b""
        self._kinds: dict[int, type[object]] = {}
        self._last = 0

    def fileno(self) -> int:
        """For a notifier: readable when there are replies."""
        return self._out.fileno()

    def ask(self, request: Request[object], priority: int = 5, scope: str = "") -> int:
        """Send a request and return its number; lower priorities come first, a newer one in a scope ends the others."""
        self._last += 1
        self._kinds[self._last] = request.result
        values = to_plain(request, [])
        self._send(Message(self._last, type(request).__name__, values, priority, scope))
        return self._last

    def stop(self, number: int) -> None:
        """Give a request up."""
        self._send(Message(number, stop=True))

    def replies(self) -> list[Reply]:
        """Everything said since the last call; an empty list and `ended` when the worker is gone."""
        self._flush()
        while True:
            try:
                data = os.read(self._out.fileno(), 1 << 20)
            except BlockingIOError:
                break
            if not data:
                break
            self._unread += data
        *lines, self._unread = self._unread.split(b"\n")
        return [self._reply(read_line(Answer, line_sent)) for line_sent in lines]

    @property
    def unsent(self) -> bool:
        """Whether the worker has not taken all yet; whoever asked calls `replies` again a little later."""
        return bool(self._unsent)

    @property
    def ended(self) -> bool:
        """Whether the worker is gone."""
        return self.process.poll() is not None

    def close(self) -> None:
        """End the worker by ending its input."""
        with contextlib.suppress(OSError):
            self._in.close()
        try:
            self.process.wait(2)
        except subprocess.TimeoutExpired:
            self.process.kill()
            self.process.wait()
        self._out.close()
        shutil.rmtree(self.folder, ignore_errors=True)

    def _send(self, message: Message) -> None:
        self._unsent += line(message)
        self._flush()

    def _flush(self) -> None:
        """Hand over as much as the pipe takes; a worker that ended is noticed where replies are read."""
        try:
            while self._unsent:
                self._unsent = self._unsent[os.write(self._in.fileno(), self._unsent) :]
        except BlockingIOError:
            return
        except (OSError, ValueError):
            self._unsent = b""

    def _reply(self, answer: Answer) -> Reply:
        number = answer.id
        kind = self._kinds.get(number)
        if answer.progress is None:
            self._kinds.pop(number, None)
        if answer.error is not None:
            return Reply(number, error=read_error(answer.error))
        if answer.result is None or kind is None:
            return Reply(number, answer.progress, stopped=answer.progress is None)
        arrays: list[NDArray[Any]] = []
        for file in answer.arrays:
            # mapped, not read: a file that is unlinked stays until nobody looks at it any more
            arrays.append(np.load(file, mmap_mode="c", allow_pickle=False))
            Path(file).unlink(missing_ok=True)
        return Reply(number, answer.progress, from_plain(kind, answer.result, arrays))


def memory(worker: Resident | None) -> tuple[int, int]:
    """Bytes that this process and its worker hold, and bytes that are free on the machine."""
    used = psutil.Process().memory_info().rss
    if worker is not None:
        with contextlib.suppress(psutil.Error):
            used += psutil.Process(worker.process.pid).memory_info().rss
    return int(used), int(psutil.virtual_memory().available)
