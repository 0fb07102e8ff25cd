"""The resident worker: a process that does short work for the window.

It reads one JSON request a line from its standard input and answers on its standard output; arrays go through
files in a folder of the session, in memory where the machine has such a place. Between the steps of its jobs it
looks for new requests, and always steps the most urgent job, so that a mouse move overtakes long work. It ends
when its input ends, so it never outlives its window.
"""

from __future__ import annotations

import json
import os
import selectors
import sys
import traceback
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import numpy as np

from attentive_lens.desk.tasks import TASKS, Result
from attentive_lens.errors import LensError
from attentive_lens.plan.progress import Job


@dataclass
class _Waiting:
    number: int
    priority: int
    job: Job[Result]


class Worker:
    """Steps jobs by priority (lower is more urgent, then older first) and reports on them."""

    def __init__(self, folder: Path, answers: Any) -> None:
        self.folder = folder
        self.answers = answers
        self.waiting: list[_Waiting] = []

    def take(self, request: dict[str, Any]) -> None:
        """Add a job, or stop one."""
        number = int(request["id"])
        if request.get("stop"):
            for entry in self.waiting:
                if entry.number == number:
                    entry.job.close()
                    self.say(number, stopped=True)
            self.waiting = [entry for entry in self.waiting if entry.number != number]
            return
        job = TASKS[request["task"]](**request["args"])
        self.waiting.append(_Waiting(number, int(request.get("priority", 5)), job))

    def step(self) -> None:
        """One step of the most urgent job."""
        entry = min(self.waiting, key=lambda w: (w.priority, w.number))
        try:
            progress = next(entry.job)
        except StopIteration as end:
            self.waiting.remove(entry)
            self._finish(entry.number, end.value)
        except LensError as error:
            self.waiting.remove(entry)
            self.say(entry.number, error=error.as_dict())
        except Exception:  # noqa: BLE001  # a bug in one task must not end the others; its trace goes to the log
            self.waiting.remove(entry)
            traceback.print_exc()
            what = {
                "what": "That could not be done",
                "why": "the program has a fault",
                "remedy": "Try it again; faults.log in the state folder tells more",
            }
            self.say(entry.number, error=what)
        else:
            self.say(entry.number, progress=[progress.done, progress.total, progress.doing])

    def _finish(self, number: int, result: Result) -> None:
        files = {}
        for k, (name, array) in enumerate(result.arrays.items()):
            file = self.folder / f"{number}-{k}.npy"
            np.save(file, array, allow_pickle=False)
            files[name] = str(file)
        self.say(number, result=result.values, arrays=files)

    def say(self, number: int, **values: Any) -> None:
        """One line to the window."""
        self.answers.write(json.dumps({"id": number, **values}).encode() + b"\n")
        self.answers.flush()


def main() -> None:
    """Work until the input ends."""
    worker = Worker(Path(sys.argv[1]), os.fdopen(os.dup(1), "wb"))
    os.dup2(2, 1)  # whatever else prints must not mix with the answers
    os.set_blocking(0, False)
    selector = selectors.DefaultSelector()
    selector.register(0, selectors.EVENT_READ)
    unread = b""
    while True:
        if selector.select(0 if worker.waiting else None):
            data = os.read(0, 1 << 20)
            if not data:
                return
            *lines, unread = (unread + data).split(b"\n")
            for line in lines:
                worker.take(json.loads(line))
        if worker.waiting:
            worker.step()


if __name__ == "__main__":
    main()
