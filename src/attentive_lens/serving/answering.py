"""Many who ask at once, answered in batches: what waits is decoded and answered together."""

from __future__ import annotations

import asyncio
import contextlib
import math
import threading
import time
from collections import deque
from collections.abc import Callable, Sequence
from dataclasses import dataclass, field
from datetime import date
from queue import Empty, SimpleQueue
from typing import TypeVar

from attentive_lens.desk.requests.models import Prediction, Unreadable
from attentive_lens.desk.results.answering import Answering
from attentive_lens.desk.results.drift import DriftByDay
from attentive_lens.desk.results.familiar import Familiar
from attentive_lens.desk.results.models import AT_ONCE, THREADS
from attentive_lens.engine.threads import ThreadPool
from attentive_lens.errors import LensError
from attentive_lens.formats.bundle import ModelFile
from attentive_lens.images.ahead import Read
from attentive_lens.serving.decoding import Decoders
from attentive_lens.serving.limits import Limits
from attentive_lens.serving.receiving import Received
from attentive_lens.serving.refusals import TooMany

PIECE = 16
"""Images that one process decodes at once."""
ENOUGH, PATIENCE = 8, 0.02
"""Images that are answered without waiting for more, and for how many seconds fewer wait."""
SHARE, CREDIT = 0.1, 10.0
"""Part of the time, at most, in which images are also measured for drift, and seconds that it has from the beginning:
of a day's many images some are enough."""

Answer = Prediction | Unreadable
T = TypeVar("T")


@dataclass(eq=False)
class _Question:
    """Some images of a request, up to `PIECE`, and who waits for their answers."""

    images: Sequence[Received]
    answers: asyncio.Future[list[Answer]]
    read: Read = field(default_factory=list)


class Answerer:
    """A model that answers whoever asks.

    Parameters
    ----------
    model : ModelFile
        Who answers.
    limits : Limits
    familiar : Familiar, optional
        What it was trained on: each answer then says how unlike all of that its image is.
    days : DriftByDay, optional
        Where images are counted by the day they come.

    Attributes
    ----------
    waiting, answered : int
        Images that are asked about now, and that were.
    """

    def __init__(
        self, model: ModelFile, limits: Limits, familiar: Familiar | None = None, days: DriftByDay | None = None
    ) -> None:
        self.model, self.limits, self.days = model, limits, days
        self.waiting = self.answered = 0
        self._pool = ThreadPool(THREADS)
        try:
            self._answering = Answering(model, self._pool, familiar, days)
        except LensError:
            self._pool.close()
            raise
        self.decoders = Decoders(model.preprocessor, limits)
        self._began, self._measuring = time.monotonic(), 0.0
        self._arrived: SimpleQueue[_Question | None] = SimpleQueue()
        self._decoded: deque[_Question] = deque()
        self._expected = 0
        self._changed = threading.Condition()
        self._ended = False
        self.counting = threading.Lock()
        """Held while a day's counts change, and by who reads them."""
        self._threads = [threading.Thread(target=self._decode, daemon=True) for _ in range(self.decoders.count)]
        self._threads.append(threading.Thread(target=self._answer, daemon=True))
        for thread in self._threads:
            thread.start()

    async def ask(self, images: Sequence[Received]) -> list[Answer]:
        """Answers to images, in their order.

        Raises
        ------
        TooMany
            If too many wait already.
        LensError
            If the model gives no answer.
        """
        if self.waiting + len(images) > self.limits.waiting:
            why = f"{self.waiting} images wait for their answers, and {self.limits.waiting} are the most"
            raise TooMany("The request was not taken", why, "Send it again in a moment")
        loop = asyncio.get_running_loop()
        self.waiting += len(images)
        try:
            questions = [
                _Question(images[first : first + PIECE], loop.create_future()) for first in range(0, len(images), PIECE)
            ]
            with self._changed:
                self._expected += len(images)
            for question in questions:
                self._arrived.put(question)
            parts = [await question.answers for question in questions]
        finally:
            self.waiting -= len(images)
        self.answered += len(images)
        return [answer for part in parts for answer in part]

    def close(self) -> None:
        """End everything; what waits is not answered."""
        for _ in range(self.decoders.count):
            self._arrived.put(None)
        with self._changed:
            self._ended = True
            self._changed.notify()
        for thread in self._threads:
            thread.join(timeout=5)
        self.decoders.close()
        self._pool.close()

    def _decode(self) -> None:
        while questions := self._arrivals():
            images = [image for question in questions for image in question.images]
            try:
                read = iter(self.decoders.read(images))
                for question in questions:
                    question.read = [each for _ in question.images for each in next(read)]
            except Exception as error:  # noqa: BLE001  # a fault: told to those who wait, and the next are decoded
                for question in questions:
                    self._call(question, question.answers.set_exception, error)
                questions = []
            with self._changed:
                self._decoded.extend(questions)
                self._expected -= len(images)
                self._changed.notify()

    def _answer(self) -> None:
        while questions := self._next():
            try:
                self._hand_out(questions, self._asked(questions))
            except Exception:  # noqa: BLE001  # of one image among them: the others are answered all the same
                for question in questions:
                    try:
                        self._hand_out([question], self._asked([question]))
                    except Exception as error:  # noqa: BLE001  # told to who waits for it
                        self._call(question, question.answers.set_exception, error)

    def _arrivals(self) -> list[_Question]:
        """Questions to be decoded together, so many that the other decoders have as much to do; none when it ends."""
        first = self._arrived.get()
        if first is None:
            return []
        questions, images = [first], len(first.images)
        most = min(PIECE, (self._expected - images) // (2 * self.decoders.count))
        while images < most:
            try:
                question = self._arrived.get_nowait()
            except Empty:
                break
            if question is None:
                self._arrived.put(None)
                break
            questions.append(question)
            images += len(question.images)
        return questions

    def _next(self) -> list[_Question]:
        """Decoded images to be answered together; none when it ends.

        The network takes as long for one as for several, so a few milliseconds are waited for those that are being
        decoded, unless there are enough.
        """
        until = math.inf
        with self._changed:
            while not self._ended:
                count = sum(len(question.images) for question in self._decoded)
                now = time.monotonic()
                until = min(until, now + PATIENCE) if count else math.inf
                if count and (count >= ENOUGH or not self._expected or now >= until):
                    break
                self._changed.wait(until - now if count else None)
            taken: list[_Question] = []
            while self._decoded and not self._ended and sum(len(each.images) for each in taken) < AT_ONCE:
                taken.append(self._decoded.popleft())
            return taken

    def _asked(self, questions: Sequence[_Question]) -> list[Answer]:
        day, began = self._day(), time.monotonic()
        with self.counting:
            answers = self._answering.answer([each for question in questions for each in question.read], day)
        if day:
            self._measuring += time.monotonic() - began
        return answers

    def _day(self) -> str:
        """Under what day images are counted now; none while that would take too much of the time."""
        if self.days is None or self._measuring > CREDIT + SHARE * (time.monotonic() - self._began):
            return ""
        return date.today().isoformat()  # noqa: DTZ011  # the day where the images are taken

    def _hand_out(self, questions: Sequence[_Question], answers: list[Answer]) -> None:
        for question in questions:
            own, answers = answers[: len(question.read)], answers[len(question.read) :]
            self._call(question, question.answers.set_result, own)

    @staticmethod
    def _call(question: _Question, say: Callable[[T], None], what: T) -> None:
        def hand_over() -> None:
            if not question.answers.done():  # who asked may be gone
                say(what)

        with contextlib.suppress(RuntimeError):  # its loop has ended, and nobody waits any more
            question.answers.get_loop().call_soon_threadsafe(hand_over)
