"""Who asks the worker gets one answer or one sentence, whatever becomes of the worker."""

from __future__ import annotations

import os
from collections.abc import Iterator
from typing import Any, ClassVar

import numpy as np
import pytest
from pytestqt.qtbot import QtBot

from attentive_lens.desk.requests.base import Request
from attentive_lens.desk.requests.images import OpenPicture, Picture, Prepare
from attentive_lens.desk.worker.resident import Reply
from attentive_lens.errors import LensError
from attentive_lens.window import asking
from attentive_lens.window.asking import FIRST_WAIT_MS, LONGEST_WAIT_MS, Asker


class Silent:
    """A worker that says what a test puts in its mouth, and ends when it is told to."""

    made: ClassVar[list[Silent]] = []

    def __init__(self) -> None:
        self._read, self._write = os.pipe()
        self.command: list[tuple[Request[Any], str]] = []
        self.predicted: list[Reply] = []
        self.ended = self.unsent = False
        Silent.made.append(self)

    def fileno(self) -> int:
        return self._read

    def ask(self, request: Request[Any], priority: int = 5, scope: str = "") -> int:
        self.command.append((request, scope))
        return len(self.command)

    def replies(self) -> list[Reply]:
        predicted, self.predicted = self.predicted, []
        return predicted

    def close(self) -> None:
        os.close(self._read)
        os.close(self._write)


@pytest.fixture
def asker(qtbot: QtBot, monkeypatch: pytest.MonkeyPatch) -> Iterator[Asker]:
    Silent.made = []
    monkeypatch.setattr(asking, "Resident", Silent)
    made = Asker()
    yield made
    made.close()


def picture(image: int) -> OpenPicture:
    return OpenPicture("somewhere", image)


def test_what_is_asked_before_the_worker_is_there_is_sent_when_it_is(asker: Asker) -> None:
    for image in (1, 2, 3):
        asker.ask(picture(image), None, scope="picture")
    asker.ask(Prepare("somewhere"), None)
    asker.start()
    asker.start()
    (worker,) = Silent.made
    assert [request for request, _ in worker.command] == [picture(3), Prepare("somewhere")]


def test_an_older_answer_of_a_scope_reaches_nobody(asker: Asker) -> None:
    asker.start()
    (worker,) = Silent.made
    heard: list[int] = []
    for image in (1, 2):
        asker.ask(picture(image), lambda outcome: heard.append(outcome.image), scope="picture")
    worker.predicted = [Reply(1, result=Picture(1, 1, None)), Reply(2, result=Picture(2, 1, None))]  # type: ignore[arg-type]
    asker._read()
    assert heard == [2]


def test_an_error_goes_to_who_asked_or_else_below(asker: Asker) -> None:
    asker.start()
    (worker,) = Silent.made
    mine: list[str] = []
    below: list[str] = []
    asker.failed.connect(below.append)
    asker.ask(picture(1), None, mine.append)
    asker.ask(picture(2), None)
    error = LensError("It", "cannot be", "Ask otherwise")
    worker.predicted = [Reply(1, error=error), Reply(2, error=error)]
    asker._read()
    assert mine == below == [str(error)]


def test_a_worker_that_keeps_ending_is_started_ever_more_rarely_until_one_answers(asker: Asker) -> None:
    waits: list[int] = []
    below: list[str] = []
    summary: list[str] = []
    asker.failed.connect(below.append)
    for _ in range(9):
        asker.start()
        asker.ask(picture(1), None, summary.append)
        waits.append(asker._wait_ms)
        Silent.made[-1].ended = True
        asker._read()
    assert waits[:3] == [FIRST_WAIT_MS, 2 * FIRST_WAIT_MS, 4 * FIRST_WAIT_MS]
    assert waits[-1] == LONGEST_WAIT_MS
    assert len(summary) == len(below) == 9
    assert "started anew" in below[0]
    asker.start()
    asker.ask(picture(2), None)
    Silent.made[-1].predicted = [Reply(1, result=Picture(2, 1, None))]  # type: ignore[arg-type]
    asker._read()
    assert asker._wait_ms == FIRST_WAIT_MS


def test_nothing_is_started_or_answered_after_the_end(asker: Asker) -> None:
    asker.start()
    asker.ask(picture(1), lambda _: pytest.fail("answered after the end"))
    asker.close()
    asker.start()
    assert len(Silent.made) == 1
    asker._read()


def test_a_call_that_fails_costs_nobody_else_an_answer(qtbot: QtBot, asker: Asker) -> None:
    asker.start()
    (silent,) = Silent.made
    heard: list[int] = []

    def fail(_: Picture) -> None:
        raise RuntimeError("a fault of the program")

    asker.ask(picture(1), fail)
    for number in (2, 3):
        asker.ask(picture(number), lambda got, number=number: heard.append(number))
    pixels = np.zeros((1, 1, 3), np.uint8)
    silent.predicted = [Reply(number, result=Picture(number, 1, pixels)) for number in (1, 2, 3)]
    with qtbot.captureExceptions() as raised:
        os.write(silent._write, b"x")
        qtbot.waitUntil(lambda: heard == [2, 3], timeout=2000)
    assert [str(value) for _, value, _ in raised] == ["a fault of the program"]
