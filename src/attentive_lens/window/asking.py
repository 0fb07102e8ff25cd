"""Asking the resident worker from the window: requests go out, answers come back as calls."""

from __future__ import annotations

from collections import deque
from collections.abc import Callable
from typing import Any, TypeVar

from PyQt6 import sip
from PyQt6.QtCore import QObject, QSocketNotifier, QTimer, pyqtSignal

from attentive_lens.desk.requests.base import Request
from attentive_lens.desk.worker.resident import Reply, Resident, memory

FIRST_WAIT_MS, LONGEST_WAIT_MS = 500, 30_000
"""Before a worker that ended is started anew: doubled each time, until one has answered."""
SEND_MS = 20

R = TypeVar("R")
Failed = Callable[[str], None]
_Entry = tuple[Request[Any], Callable[[Any], None] | None, Failed | None, int, str]


class Asker(QObject):
    """The worker and who waits for it.

    Signals
    -------
    worked
        Background work: what, done, total; empty and 0 when nothing is under way.
    failed
        A sentence of a request that had nobody to hear it, or of the worker's end.
    answered
        A request, and its result.
    """

    worked = pyqtSignal(str, int, int)
    failed = pyqtSignal(str)
    answered = pyqtSignal(object, object)

    def __init__(self) -> None:
        super().__init__()
        self._resident: Resident | None = None
        self._notifier: QSocketNotifier | None = None
        self._asked: dict[int, _Entry] = {}
        self._waiting: list[_Entry] = []
        self._replies: deque[Reply] = deque()
        self._wait_ms = FIRST_WAIT_MS
        self._over = False
        self._again = QTimer(self)
        self._again.setSingleShot(True)
        self._again.timeout.connect(self.start)
        self._sending = QTimer(self)
        self._sending.setSingleShot(True)
        self._sending.timeout.connect(self._read)

    def memory(self) -> tuple[int, int]:
        """Bytes that the window and its worker hold, and bytes that are free on the machine."""
        return memory(self._resident)

    def start(self) -> None:
        """Start the worker; what was asked before is sent now."""
        if self._resident is not None or self._over:
            return
        self._resident = Resident()
        self._notifier = QSocketNotifier(sip.voidptr(self._resident.fileno()), QSocketNotifier.Type.Read, self)
        self._notifier.activated.connect(self._read)
        waiting, self._waiting = self._waiting, []
        for entry in waiting:
            self._send(entry)

    def ask(
        self,
        request: Request[R],
        done: Callable[[R], None] | None,
        failed: Failed | None = None,
        priority: int = 5,
        scope: str = "",
    ) -> None:
        """Ask; ``done`` gets the result, and before it what there is of it where the task tells; ``failed`` a sentence.

        Lower priorities are served first; a newer request in a scope takes the place of the older ones, whose calls
        are then never made.
        """
        entry: _Entry = (request, done, failed, priority, scope)
        if self._resident is None:
            self._waiting = [other for other in self._waiting if not scope or other[4] != scope]
            self._waiting.append(entry)
        else:
            self._send(entry)

    def give_up(self, scope: str) -> None:
        """End what was asked in a scope; its calls are never made."""
        self._waiting = [entry for entry in self._waiting if entry[4] != scope]
        for number in [number for number, entry in self._asked.items() if entry[4] == scope]:
            del self._asked[number]
            if self._resident is not None:
                self._resident.stop(number)
        if not self._asked:
            self.worked.emit("", 0, 0)

    def waits_for(self, scope: str) -> bool:
        """Whether something that was asked in a scope is not answered yet."""
        return any(entry[4] == scope for entry in (*self._asked.values(), *self._waiting))

    def _send(self, entry: _Entry) -> None:
        if self._resident is not None:
            request, _, _, priority, scope = entry
            if scope:
                self._asked = {n: other for n, other in self._asked.items() if other[4] != scope}
            self._asked[self._resident.ask(request, priority, scope)] = entry
            if self._resident.unsent:
                self._sending.start(SEND_MS)

    def _read(self) -> None:
        if self._resident is None:
            return
        self._replies += self._resident.replies()
        while self._replies:
            try:
                self._take(self._replies.popleft())
            finally:
                if self._replies:
                    self._sending.start(0)  # if the call fails, the others still get theirs
        if self._resident is None:
            return
        if self._resident.unsent:
            self._sending.start(SEND_MS)
        if self._resident.ended and self._notifier is not None:
            self._lose()

    def _lose(self) -> None:
        """The worker is gone: say so, and start another a little later."""
        if self._resident is None or self._notifier is None:
            return
        self._notifier.setEnabled(False)
        self._resident.close()
        self._resident, self._notifier = None, None
        lost, self._asked = self._asked, {}
        for _, _, failed, _, _ in lost.values():
            if failed:
                failed("The helper process ended. Ask again: it is started anew.")
        self.worked.emit("", 0, 0)
        seconds = self._wait_ms / 1000
        self.failed.emit(f"The helper process ended; it is started anew in {seconds:g}\u202fs.")
        self._again.start(self._wait_ms)
        self._wait_ms = min(2 * self._wait_ms, LONGEST_WAIT_MS)

    def _take(self, reply: Reply) -> None:
        if reply.progress is not None:
            done, total, doing = reply.progress
            if reply.number in self._asked:
                self.worked.emit(doing, done, total)
                so_far, call = reply.result, self._asked[reply.number][1]
                if so_far is not None and call is not None:
                    call(so_far)
            return
        entry = self._asked.pop(reply.number, None)
        if not self._asked:
            self.worked.emit("", 0, 0)
        self._wait_ms = FIRST_WAIT_MS
        if entry is None or reply.stopped:
            return
        request, done_call, failed_call, _, _ = entry
        if reply.error is not None:
            sentence = str(reply.error)
            if failed_call:
                failed_call(sentence)
            else:
                self.failed.emit(sentence)
        elif reply.result is not None:
            if done_call:
                done_call(reply.result)
            self.answered.emit(request, reply.result)

    def close(self) -> None:
        """End the worker for good: nothing is started or answered after this."""
        self._over = True
        self._again.stop()
        self._sending.stop()
        self._asked, self._waiting = {}, []
        self._replies.clear()
        if self._notifier is not None:
            self._notifier.setEnabled(False)
        if self._resident is not None:
            self._resident.close()
            self._resident = None
