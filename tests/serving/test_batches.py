"""What stands behind a server, in this process: batches, images that spoil no other, limits, decoders, drift."""

from __future__ import annotations

import asyncio
import contextlib
import json
import os
import signal
import socket
import threading
import time
from collections.abc import Iterator, Sequence
from dataclasses import replace
from pathlib import Path
from typing import Any

import pytest

from attentive_lens.core.helpers import Helper
from attentive_lens.core.jobs import finish
from attentive_lens.desk.requests.models import Prediction, Unreadable
from attentive_lens.desk.results.answering import Answering
from attentive_lens.desk.results.drift import DriftByDay, held_out
from attentive_lens.desk.results.models import AT_ONCE, model_of
from attentive_lens.errors import BadValue
from attentive_lens.formats.bundle import ModelFile
from attentive_lens.images.ahead import Opened, Read
from attentive_lens.plan.tasks import IMAGES
from attentive_lens.serving import answering as batching
from attentive_lens.serving.answering import Answerer
from attentive_lens.serving.application import application
from attentive_lens.serving.decoding import Decoders
from attentive_lens.serving.guard import MILLION, Guard
from attentive_lens.serving.limits import Limits
from attentive_lens.serving.receiving import Received
from attentive_lens.serving.refusals import TooMany
from attentive_lens.serving.running import Serving, _serve
from attentive_lens.serving.served import Served
from attentive_lens.workspace import Workspace


@pytest.fixture(scope="module")
def place(large_station_once: Path) -> Workspace:
    return Workspace.open(large_station_once)


@pytest.fixture(scope="module")
def model(place: Workspace) -> ModelFile:
    return model_of(place.run(1).model)


@pytest.fixture(scope="module")
def images(place: Workspace) -> list[Received]:
    rows = place.catalogue.images()[:24]
    return [Received(f"image {row.number}", place.path_of(row).read_bytes()) for row in rows]


@pytest.fixture
def answerer(model: ModelFile) -> Iterator[Answerer]:
    own = Answerer(model, Limits(waiting=40))
    yield own
    own.close()


def test_what_waits_is_answered_together_and_comes_back_to_who_sent_it(
    answerer: Answerer, images: list[Received], monkeypatch: pytest.MonkeyPatch
) -> None:
    sizes, answer = [], Answering.answer

    def counted(self: Answering, read: Read, day: str = "") -> list[Prediction | Unreadable]:
        sizes.append(len(read))
        time.sleep(0.05)
        return answer(self, read, day)

    monkeypatch.setattr(Answering, "answer", counted)

    async def all_at_once() -> list[list[Any]]:
        return await asyncio.gather(*(answerer.ask([image]) for image in images))

    answers = asyncio.run(all_at_once())
    assert [each[0].file for each in answers] == [image.name for image in images]
    assert len(sizes) < len(images)
    assert (max(sizes) <= AT_ONCE, sum(sizes)) == (True, len(images))
    assert (answerer.waiting, answerer.answered) == (0, len(images))


@pytest.mark.parametrize("error", [BadValue("The model gives no answer", "infinite", "Choose another"), KeyError(3)])
def test_an_image_without_an_answer_spoils_no_other(
    answerer: Answerer, images: list[Received], monkeypatch: pytest.MonkeyPatch, error: Exception
) -> None:
    answer = Answering.answer

    def some(self: Answering, read: Read, day: str = "") -> list[Prediction | Unreadable]:
        if any(each.name == images[3].name for each in read):
            raise error
        return answer(self, read, day)

    monkeypatch.setattr(Answering, "answer", some)

    async def all_at_once() -> list[Any]:
        return await asyncio.gather(*(answerer.ask([image]) for image in images), return_exceptions=True)

    outcome = asyncio.run(all_at_once())
    assert [isinstance(each, type(error)) for each in outcome] == [k == 3 for k in range(len(images))]
    assert answerer.waiting == 0
    with monkeypatch.context() as patched:
        patched.setattr(answerer.decoders, "read", lambda _: (_ for _ in ()).throw(error))
        with pytest.raises(type(error)):
            asyncio.run(answerer.ask(images[:2]))
    assert len(asyncio.run(answerer.ask(images[:2]))) == 2, "a fault ends nothing"


def test_no_more_wait_than_there_is_room_for(answerer: Answerer, images: list[Received]) -> None:
    async def too_many() -> list[Any]:
        return await asyncio.gather(*(answerer.ask(images) for _ in range(3)), return_exceptions=True)

    outcome = asyncio.run(too_many())
    assert [isinstance(each, TooMany) for each in outcome] == [False, True, True]
    assert outcome[1].status == 503
    assert len(asyncio.run(answerer.ask(images))) == len(images), "there is room again"


def test_who_is_gone_holds_up_nobody(answerer: Answerer, images: list[Received]) -> None:
    async def some_leave() -> list[Any]:
        gone = asyncio.ensure_future(answerer.ask(images[:5]))
        await asyncio.sleep(0)
        gone.cancel()
        return await answerer.ask(images[5:10])

    assert [each.file for each in asyncio.run(some_leave())] == [image.name for image in images[5:10]]
    assert answerer.waiting == 0


def test_a_loop_that_ended_before_its_answers_holds_up_nobody(
    answerer: Answerer, images: list[Received], monkeypatch: pytest.MonkeyPatch
) -> None:
    ended, answer = threading.Event(), answerer._asked

    def late(questions: Sequence[Any]) -> list[Any]:
        assert ended.wait(30)
        return answer(questions)

    async def leave() -> None:
        asyncio.ensure_future(answerer.ask(images[:5]))  # noqa: RUF006  # it ends with the loop
        await asyncio.sleep(0)

    monkeypatch.setattr(answerer, "_asked", late)
    asyncio.run(leave())
    ended.set()

    async def soon() -> list[Any]:
        return await asyncio.wait_for(answerer.ask(images[5:10]), 30)

    assert [each.file for each in asyncio.run(soon())] == [image.name for image in images[5:10]]
    assert all(thread.is_alive() for thread in answerer._threads)


def test_drift_takes_a_part_of_the_time(
    place: Workspace, model: ModelFile, images: list[Received], monkeypatch: pytest.MonkeyPatch
) -> None:
    days = DriftByDay(finish(held_out(place, place.run(1))))
    own = Answerer(model, Limits(), None, days)
    try:
        asyncio.run(own.ask(images))
        (counts,) = days.counts.values()
        assert counts.images == len(images)
        monkeypatch.setattr(batching, "CREDIT", 0.0)
        own._measuring = 1e9
        asyncio.run(own.ask(images))
        assert (counts.images, own.answered) == (len(images), 2 * len(images))
        own._measuring = 0.0
        asyncio.run(own.ask(images[:5]))
        assert counts.images == len(images) + 5
    finally:
        own.close()


def slow(received: Sequence[Received]) -> list[Read]:
    for each in received:
        if each.content == b"die":
            os.kill(os.getpid(), signal.SIGKILL)
        time.sleep(float(each.content))
    return [[Opened(each.name, f"slept {each.content.decode()}")] for each in received]


def test_a_picture_that_breaks_its_decoder_or_takes_too_long_is_alone_in_that(model: ModelFile) -> None:
    decoders = Decoders(model.preprocessor, Limits(seconds=0.5))
    work, decoders._work = decoders._work, slow  # type: ignore[assignment]
    for _ in range(decoders.count):
        decoders._free.get().close()
    for _ in range(decoders.count):
        decoders._free.put(Helper(slow))
    try:
        for bad in (b"die", b"60"):
            reasons = decoders.read([Received(str(k), content) for k, content in enumerate((b"0", bad, b"0.01"))])
            assert [str(each.pixels)[:5] for (each,) in reasons] == ["slept", "it br", "slept"]
            assert [each.name for (each,) in reasons] == ["0", "1", "2"]
        assert decoders.read([Received("a", b"0")] * 3) == [[Opened("a", "slept 0")]] * 3
    finally:
        decoders.close()
    assert work.func.__name__ == "read_received"


def test_a_network_that_draws_is_served_to_nobody(model: ModelFile) -> None:
    draws = replace(model, output=IMAGES)
    for begin in (lambda: Answerer(draws, Limits()), lambda: Answering(draws, None)):
        with pytest.raises(BadValue, match="answers no classes"):
            begin()


def test_who_says_nothing_or_too_slowly_is_let_go(answerer: Answerer) -> None:
    serving = Serving(answerer.model, "a model", limits=Limits(seconds=0.5))
    answerer.limits = serving.limits
    ports: list[int] = []

    async def replies_to() -> list[bytes]:
        with socket.create_server(("127.0.0.1", 0)) as listening:
            running = asyncio.ensure_future(
                _serve(serving, Served(answerer, "a model"), listening, lambda _, port: ports.append(port))
            )
            while not ports:
                await asyncio.sleep(0.01)
            replies = []
            head = "POST /predict HTTP/1.1\r\nHost: localhost\r\nContent-Type: image/png\r\nContent-Length: 99\r\n\r\n"
            for words in ("", "POST /pre", head, head + "begun"):
                reader, writer = await asyncio.open_connection("127.0.0.1", ports[0])
                writer.write(words.encode())
                replies.append(await asyncio.wait_for(reader.read(), 20))
                writer.close()
            os.kill(os.getpid(), signal.SIGTERM)
            await asyncio.wait_for(running, 20)
            return replies

    silent, begun, no_body, part = asyncio.run(replies_to())
    assert (silent, begun) == (b"", b"")
    for reply in (no_body, part):
        assert reply.startswith(b"HTTP/1.1 408")
        assert b"did not arrive within 0.5 seconds" in reply


def test_room_is_held_while_a_request_is_under_way_and_given_back() -> None:
    limits, seen = Limits(megabytes=3, held=4), []

    async def reading(scope: Any, receive: Any, send: Any) -> None:
        try:
            while (await receive()).get("more_body"):
                await asyncio.sleep(0.02)
            seen.append("read")
        except Exception as error:  # noqa: BLE001
            seen.append(type(error).__name__)

    guard = Guard(reading, limits, "", frozenset())

    async def send(message: Any) -> None: ...

    async def ask(megabytes: int) -> None:
        bodies = [{"type": "http.request", "body": bytes(MILLION), "more_body": k > 0} for k in range(megabytes)]

        async def receive() -> Any:
            return bodies.pop()

        await guard({"type": "http", "path": "/", "headers": []}, receive, send)

    async def both() -> None:
        await asyncio.gather(ask(3), ask(3))

    asyncio.run(both())
    assert sorted(seen) == ["TooMany", "read"]
    assert guard._held == 0
    seen.clear()
    asyncio.run(ask(3))
    asyncio.run(ask(4))
    assert seen == ["read", "TooLarge"]


def test_a_fault_is_a_sentence_and_its_trace_is_in_the_log(
    answerer: Answerer, monkeypatch: pytest.MonkeyPatch, tmp_path: Path
) -> None:
    served, sent = Served(answerer, "a model"), []
    monkeypatch.setattr(Served, "about", lambda _: 1 // 0)
    log = (tmp_path / "faults.log").open("a", encoding="utf-8")
    monkeypatch.setattr("attentive_lens.desk.log.open_log", lambda: log)

    async def receive() -> Any:
        return {"type": "http.request", "body": b"", "more_body": False}

    async def send(message: Any) -> None:
        sent.append(message)

    scope = {"type": "http", "method": "GET", "path": "/model", "query_string": b"", "headers": []}
    with contextlib.suppress(ZeroDivisionError):
        asyncio.run(application(served)(scope, receive, send))
    assert sent[0]["status"] == 500
    error = json.loads(sent[1]["body"])["error"]
    assert error["what"] == "The program has a fault"
    assert "ZeroDivisionError" in error["why"]
    assert "Traceback" not in sent[1]["body"].decode()
    assert "ZeroDivisionError" in (tmp_path / "faults.log").read_text("utf-8")
