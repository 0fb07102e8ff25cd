"""Asking the resident worker from the window: requests go out, answers come back as calls."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

from numpy.typing import NDArray
from PyQt6 import sip
from PyQt6.QtCore import QObject, QSocketNotifier, QTimer, pyqtSignal

from attentive_lens.desk.resident import Reply, Resident
from attentive_lens.errors import LensError

RESTART_MS = 500

Done = Callable[[dict[str, Any], dict[str, NDArray[Any]]], None]
Failed = Callable[[str], None]


class Asker(QObject):
    """The worker and who waits for it.

    Signals
    -------
    worked
        Background work: what, done, total; empty and 0 when nothing is under way.
    failed
        A sentence of a request that had nobody to hear it, or of the worker's end.
    """

    worked = pyqtSignal(str, int, int)
    failed = pyqtSignal(str)

    def __init__(self) -> None:
        super().__init__()
        self._resident: Resident | None = None
        self._notifier: QSocketNotifier | None = None
        self._asked: dict[int, tuple[Done | None, Failed | None]] = {}
        self._waiting: list[tuple[str, int, Done | None, Failed | None, dict[str, Any]]] = []
        self._over = False

    def start(self) -> None:
        """Start the worker; what was asked before is sent now."""
        if self._resident is not None or self._over:
            return
        self._resident = Resident()
        self._notifier = QSocketNotifier(sip.voidptr(self._resident.fileno()), QSocketNotifier.Type.Read, self)
        self._notifier.activated.connect(self._read)
        waiting, self._waiting = self._waiting, []
        for entry in waiting:
            self._send(*entry)

    def ask(self, task: str, done: Done | None, failed: Failed | None = None, priority: int = 5, **args: Any) -> None:
        """Ask; ``done`` gets values and arrays, ``failed`` a sentence. Lower priorities are served first."""
        if self._resident is None:
            self._waiting.append((task, priority, done, failed, args))
        else:
            self._send(task, priority, done, failed, args)

    def _send(self, task: str, priority: int, done: Done | None, failed: Failed | None, args: dict[str, Any]) -> None:
        if self._resident is not None:
            self._asked[self._resident.ask(task, priority, **args)] = (done, failed)

    def _read(self) -> None:
        if self._resident is None:
            return
        for reply in self._resident.replies():
            self._take(reply)
        if self._resident is not None and self._resident.ended and self._notifier is not None:
            self._notifier.setEnabled(False)
            self._resident.close()
            self._resident, self._notifier = None, None
            lost, self._asked = self._asked, {}
            for _, failed in lost.values():
                if failed:
                    failed("The helper process ended. Ask again: it is started anew.")
            self.failed.emit("The helper process ended and is started anew.")
            QTimer.singleShot(RESTART_MS, self.start)

    def _take(self, reply: Reply) -> None:
        if reply.progress is not None:
            done, total, doing = reply.progress
            self.worked.emit(doing, done, total)
            return
        done_call, failed_call = self._asked.pop(reply.number, (None, None))
        if not self._asked:
            self.worked.emit("", 0, 0)
        if reply.error is not None:
            sentence = str(LensError(**reply.error))
            if failed_call:
                failed_call(sentence)
            else:
                self.failed.emit(sentence)
        elif reply.values is not None and done_call:
            done_call(reply.values, reply.arrays)

    def close(self) -> None:
        """End the worker for good: nothing is started or answered after this."""
        self._over = True
        self._asked, self._waiting = {}, []
        if self._notifier is not None:
            self._notifier.setEnabled(False)
        if self._resident is not None:
            self._resident.close()
            self._resident = None
