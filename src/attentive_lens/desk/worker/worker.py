"""The resident worker: a process that does short work for the window.

It reads one JSON request a line from its standard input and answers on its standard output; arrays go through
files in a folder of the session, in memory where the machine has such a place. Between the steps of its jobs, and
where they breathe inside long arithmetic, it looks for new requests and does what is more urgent first, so that a
mouse move overtakes long work. A newer request in a scope ends the older ones in it. A request that is wrong or fails
is answered with a sentence; the others go on. It ends when its input ends, so it never outlives its window.
"""

from __future__ import annotations

import gc
import os
import selectors
import sys
import traceback
from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path
from typing import Any, BinaryIO

import numpy as np
from numpy.typing import NDArray

from attentive_lens.core.jobs import Job, Progress, Stopped, on_breath
from attentive_lens.core.objects import settle
from attentive_lens.core.records import from_plain, to_plain
from attentive_lens.desk.requests import requests_by_name
from attentive_lens.desk.tasks import carry_out, load_all
from attentive_lens.desk.worker.wire import Answer, Message, line, read_line, written_error
from attentive_lens.errors import LensError

FAULT = LensError(
    "That could not be done", "the program has a fault", "Try it again; faults.log in the state folder tells more"
)


@dataclass(eq=False)
class Waiting:
    """A request under way: lower priorities are more urgent, then older ones."""

    number: int
    priority: int
    scope: str
    job: Job[object]
    stopped: bool = False

    @property
    def urgency(self) -> tuple[int, int]:
        """What is smallest comes first."""
        return (self.priority, self.number)


class Worker:
    """Steps jobs by urgency and reports on them.

    Parameters
    ----------
    folder : Path
        For the arrays of results.
    answers : stream
        One line a message.
    listen : callable, optional
        Takes what was asked since the last call; used where jobs breathe.
    """

    def __init__(self, folder: Path, answers: BinaryIO, listen: Callable[[], None] | None = None) -> None:
        self.folder = folder
        self.answers = answers
        self.waiting: list[Waiting] = []
        self.running: list[Waiting] = []
        self.answered = False
        self._listen = listen or (lambda: None)

    def take(self, message: Message) -> None:
        """Add a request, or stop one; a newer one in a scope stops the older ones."""
        number, scope = message.id, message.scope
        if message.stop:
            self._stop([entry for entry in self.waiting if entry.number == number])
            return
        if scope:
            self._stop([entry for entry in self.waiting if entry.scope == scope])
        try:
            request = from_plain(requests_by_name()[message.request], message.values, ())
            job = carry_out(request)
        except LensError as error:
            self._refuse(number, error)
            return
        except (TypeError, ValueError, LookupError) as error:
            traceback.print_exc()
            self._refuse(number, LensError("That could not be asked", f"its settings are wrong: {error}", FAULT.remedy))
            return
        self.waiting.append(Waiting(number, message.priority, scope, job))

    def _stop(self, entries: list[Waiting]) -> None:
        for entry in entries:
            self.waiting.remove(entry)
            entry.stopped = True
            if entry not in self.running:  # one that is inside its arithmetic ends where it breathes next
                entry.job.close()
            self.say(Answer(entry.number, stopped=True))

    def step(self, entry: Waiting | None = None) -> None:
        """One step of a job, the most urgent one if none is named."""
        entry = entry or min(self.waiting, key=lambda other: other.urgency)
        self.running.append(entry)
        try:
            progress = next(entry.job)
        except StopIteration as end:
            self._finish(entry, end.value)
        except LensError as error:
            self._end(entry, error)
        except Stopped:
            pass
        except Exception:  # noqa: BLE001  # a bug in one task must not end the others; its trace goes to the log
            traceback.print_exc()
            self._end(entry, FAULT)
        else:
            if not entry.stopped:
                self._tell(entry, progress)
            else:
                entry.job.close()
        finally:
            self.running.remove(entry)

    def breathe(self) -> None:
        """From inside a job: take what was asked, end that job if nobody wants it, and do what is more urgent."""
        if not self.running:
            return
        self._listen()
        while True:
            inside = self.running[-1]
            if inside.stopped:
                raise Stopped
            others = [other for other in self.waiting if other not in self.running]
            best = min(others, key=lambda other: other.urgency, default=None)
            if best is None or best.priority >= inside.priority:
                return
            self.step(best)

    def _end(self, entry: Waiting, error: LensError) -> None:
        if not entry.stopped:
            self.waiting.remove(entry)
            self._refuse(entry.number, error)

    def _refuse(self, number: int, error: LensError) -> None:
        self.say(Answer(number, error=written_error(error)))

    def _finish(self, entry: Waiting, result: object) -> None:
        if entry.stopped:
            return
        self.waiting.remove(entry)
        self._hand_over(entry, result)

    def _tell(self, entry: Waiting, progress: Progress) -> None:
        """How far a job is, and what there is to be seen of its result."""
        done = (progress.done, progress.total, progress.doing)
        if progress.so_far is None:
            self.say(Answer(entry.number, done))
        else:
            self._hand_over(entry, progress.so_far, done)

    def _hand_over(self, entry: Waiting, result: object, progress: tuple[int, int, str] | None = None) -> None:
        """A result, or what there is of it, its arrays in files."""
        arrays: list[NDArray[Any]] = []
        plain = to_plain(result, arrays)
        files: list[Path] = []
        try:
            for k, array in enumerate(arrays):
                files.append(self.folder / f"{entry.number}-{progress[0] if progress else 'end'}-{k}.npy")
                np.save(files[-1], array, allow_pickle=False)
        except OSError as error:
            for file in files:
                file.unlink(missing_ok=True)
            if progress is None:
                why = f"its pictures found no room in {self.folder.parent}: {str(error.strerror or error).lower()}"
                self._refuse(
                    entry.number, LensError("The answer could not be handed over", why, "Free some memory there")
                )
            return
        self.say(Answer(entry.number, progress, plain, tuple(str(file) for file in files)))

    def say(self, answer: Answer) -> None:
        """One line to the window."""
        self.answered = True
        self.answers.write(line(answer))
        self.answers.flush()


class Inbox:
    """Lines from the standard input, without waiting for them."""

    def __init__(self) -> None:
        os.set_blocking(0, False)
        self._selector = selectors.DefaultSelector()
        self._selector.register(0, selectors.EVENT_READ)
        self._unread = b""
        self.ended = False

    def messages(self, seconds: float | None) -> list[Message]:
        """What has come; waits so long for the first (None: for ever)."""
        if self.ended or not self._selector.select(seconds):
            return []
        data = os.read(0, 1 << 20)
        self.ended = not data
        *lines, self._unread = (self._unread + data).split(b"\n")
        return [read_line(Message, sent) for sent in lines]


def main() -> None:
    """Work until the input ends."""
    answers = os.fdopen(os.dup(1), "wb")
    os.dup2(2, 1)  # whatever else prints must not mix with the answers
    inbox = Inbox()

    def listen() -> None:
        for message in inbox.messages(0):
            worker.take(message)
        if inbox.ended:
            raise SystemExit

    worker = Worker(Path(sys.argv[1]), answers, listen)
    on_breath(worker.breathe)
    gc.disable()  # with the objects of many images it takes a tenth of a second, in the middle of anything
    while not inbox.ended:
        if not worker.waiting:
            if worker.answered:
                load_all()  # now, when nobody waits: what comes next needs it
            settle()
        for message in inbox.messages(0 if worker.waiting else None):
            worker.take(message)
        if worker.waiting and not inbox.ended:
            worker.step()


if __name__ == "__main__":
    main()
