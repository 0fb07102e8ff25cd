"""The window's end of the pipe to the resident worker."""

from __future__ import annotations

import contextlib
import json
import os
import shutil
import subprocess
import sys
import tempfile
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray

from attentive_lens.desk.faults import open_log
from attentive_lens.plan.files import is_alive


@dataclass(frozen=True)
class Reply:
    """What the worker says of one request.

    Attributes
    ----------
    number : int
        The request's.
    progress : tuple or None
        Steps done, in all, and what is being done.
    values : dict or None
        The result, if this is the end.
    arrays : dict
        Its arrays.
    error : dict or None
        ``what``, ``why`` and ``remedy`` of a `LensError`.
    """

    number: int
    progress: tuple[int, int, str] | None = None
    values: dict[str, Any] | None = None
    arrays: dict[str, NDArray[Any]] = field(default_factory=dict)
    error: dict[str, str] | None = None


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
            [sys.executable, "-m", "attentive_lens.desk.worker", str(self.folder)],
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
        os.set_blocking(self._out.fileno(), False)
        self._unread = b""
        self._last = 0

    def fileno(self) -> int:
        """For a notifier: readable when there are replies."""
        return self._out.fileno()

    def ask(self, task: str, priority: int = 5, **args: Any) -> int:
        """Send a request and return its number; lower priorities are served first."""
        self._last += 1
        self._send({"id": self._last, "task": task, "priority": priority, "args": args})
        return self._last

    def stop(self, number: int) -> None:
        """Give a request up."""
        self._send({"id": number, "stop": True})

    def replies(self) -> list[Reply]:
        """Everything said since the last call; an empty list and `ended` when the worker is gone."""
        while True:
            try:
                data = os.read(self._out.fileno(), 1 << 20)
            except BlockingIOError:
                break
            if not data:
                break
            self._unread += data
        *lines, self._unread = self._unread.split(b"\n")
        return [self._reply(json.loads(line)) for line in lines]

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

    def _send(self, request: dict[str, Any]) -> None:
        with contextlib.suppress(OSError):  # a worker that ended is noticed where replies are read
            self._in.write(json.dumps(request).encode() + b"\n")
            self._in.flush()

    def _reply(self, line: dict[str, Any]) -> Reply:
        arrays = {}
        for name, file in line.get("arrays", {}).items():
            arrays[name] = np.load(file, allow_pickle=False)
            Path(file).unlink(missing_ok=True)
        progress = line.get("progress")
        return Reply(
            int(line["id"]),
            (int(progress[0]), int(progress[1]), str(progress[2])) if progress else None,
            line.get("result"),
            arrays,
            line.get("error"),
        )
