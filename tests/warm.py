"""Workers that outlive a window: starting one takes seconds, and most tests only want answers."""

from __future__ import annotations

import time
from typing import ClassVar

from attentive_lens.desk.worker.resident import Resident

PATIENCE = 3.0
"""Seconds in which a worker that is given back must have ended all that was asked of it."""


class WarmResident(Resident):
    """Takes over the worker of a window that was closed, if there is one."""

    idle: ClassVar[list[Resident]] = []
    processes: ClassVar[set[int]] = set()
    """Of all that were started, for who looks for processes that a test left behind."""

    def __init__(self) -> None:
        while self.idle:
            self.__dict__ = self.idle.pop().__dict__
            if not self.ended:
                return
            super().close()
        super().__init__()
        self.processes.add(self.process.pid)

    def close(self) -> None:
        """Give it back, once it has ended all that was asked."""
        for number in list(self._kinds):
            self.stop(number)
        limit = time.monotonic() + PATIENCE
        while self._kinds and not self.ended and time.monotonic() < limit:
            self.replies()
            time.sleep(0.002)
        if self.ended or self._kinds:
            self.processes.discard(self.process.pid)
            super().close()
        else:
            given_back = Resident.__new__(Resident)
            given_back.__dict__ = self.__dict__
            self.idle.append(given_back)

    @classmethod
    def end(cls) -> None:
        """End all."""
        while cls.idle:
            Resident.close(cls.idle.pop())
        cls.processes.clear()
