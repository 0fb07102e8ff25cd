"""The worker: what is urgent first, what nobody wants no longer ended, and no request that ends the others."""

from __future__ import annotations

import io
import json
import os
import sys
import time
from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path
from types import SimpleNamespace
from typing import Any, ClassVar

import numpy as np
import psutil
import pytest
from numpy.typing import NDArray

from attentive_lens.core.jobs import Job, Progress, breathe, on_breath
from attentive_lens.desk.requests.base import Request
from attentive_lens.desk.requests.explaining import Explain
from attentive_lens.desk.requests.images import OpenPicture
from attentive_lens.desk.requests.mapping import DataMap, MapData
from attentive_lens.desk.requests.models import Score
from attentive_lens.desk.requests.subjects import RunImage
from attentive_lens.desk.worker import resident as resident_module
from attentive_lens.desk.worker.resident import Resident, memory
from attentive_lens.desk.worker.wire import Answer, Message, line, read_line
from attentive_lens.desk.worker.worker import Worker
from attentive_lens.errors import BadUsage, BadValue, NotHere
from attentive_lens.workspace import Workspace


@dataclass(frozen=True)
class Counted:
    """What a count came to."""

    to: int
    steps: NDArray[np.int64]


@dataclass(frozen=True)
class Count(Request[Counted]):
    """Count to a number, breathing as often in each step."""

    result: ClassVar[type[Any]] = Counted
    task: ClassVar[str] = "counting.count"
    to: int
    breaths: int = 0
    fault: str = ""


LOG: list[str] = []


def count(request: Count) -> Job[Counted]:
    """See `Count`."""
    for k in range(request.to):
        LOG.append(f"{request.to}:{k}")
        for _ in range(request.breaths):
            breathe()
            LOG.append(f"{request.to}:{k} goes on")
        if request.fault == "bug":
            raise ZeroDivisionError("a bug")
        if request.fault == "wrong":
            raise BadValue("It", "cannot be", "Ask otherwise")
        yield Progress(k, request.to, "counting")
    return Counted(request.to, np.arange(request.to))


@pytest.fixture
def planted(monkeypatch: pytest.MonkeyPatch) -> Iterator[None]:
    """A task from outside."""
    monkeypatch.setitem(sys.modules, "attentive_lens.desk.tasks.counting", SimpleNamespace(count=count))
    LOG.clear()
    yield
    on_breath(None)


class Desk:
    """A worker whose answers and whose arrivals are in lists."""

    def __init__(self, folder: Path) -> None:
        self.out = io.BytesIO()
        self.arriving: list[Message] = []
        self.worker = Worker(folder, self.out, self._listen)
        on_breath(self.worker.breathe)

    def _listen(self) -> None:
        while self.arriving:
            self.worker.take(self.arriving.pop(0))

    def answers(self) -> list[dict[str, Any]]:
        return [json.loads(line) for line in self.out.getvalue().splitlines()]

    def ends(self) -> dict[int, str]:
        kinds = ("result", "error", "stopped")
        return {own["id"]: kind for own in self.answers() for kind in kinds if kind in own}

    def run(self) -> None:
        while self.worker.waiting:
            self.worker.step()


def message(number: int, to: object, priority: int = 5, scope: str = "", **more: object) -> Message:
    return Message(number, "Count", {"to": to, **more}, priority, scope)


@pytest.mark.usefixtures("planted")
def test_urgent_requests_overtake_between_steps(tmp_path: Path) -> None:
    desk = Desk(tmp_path)
    desk.worker.take(message(1, 3))
    desk.worker.step()
    desk.worker.take(message(2, 2, priority=1))
    desk.worker.take(message(3, 1, priority=5))
    desk.run()
    assert LOG == ["3:0", "2:0", "2:1", "3:1", "3:2", "1:0"]
    assert list(desk.ends()) == [2, 1, 3]
    assert desk.answers()[-1]["result"] == {"to": 1, "steps": 0}
    (file,) = desk.answers()[-1]["arrays"]
    assert np.load(file).tolist() == [0]


@pytest.mark.usefixtures("planted")
def test_urgent_requests_are_done_where_long_arithmetic_breathes(tmp_path: Path) -> None:
    desk = Desk(tmp_path)
    desk.worker.take(message(1, 1, breaths=2))
    desk.arriving.append(message(2, 2, priority=1))
    desk.arriving.append(message(3, 3, priority=5))
    desk.run()
    inside = LOG.index("1:0 goes on")
    assert LOG[0] == "1:0"
    assert LOG[1:inside] == ["2:0", "2:1"]
    assert list(desk.ends()) == [2, 1, 3]


@pytest.mark.usefixtures("planted")
def test_a_newer_request_in_a_scope_takes_the_place_of_the_older_ones(tmp_path: Path) -> None:
    desk = Desk(tmp_path)
    for number in range(1, 21):
        desk.worker.take(message(number, 2, scope="explain"))
    desk.worker.take(message(21, 1, scope="score"))
    desk.run()
    ends = desk.ends()
    assert [n for n, kind in ends.items() if kind == "result"] == [20, 21]
    assert sum(kind == "stopped" for kind in ends.values()) == 19
    assert LOG == ["2:0", "2:1", "1:0"]


@pytest.mark.usefixtures("planted")
def test_a_job_inside_its_arithmetic_ends_where_it_breathes_when_a_newer_one_comes(tmp_path: Path) -> None:
    desk = Desk(tmp_path)
    desk.worker.take(message(1, 5, scope="explain", breaths=3))
    desk.arriving.append(message(2, 1, scope="explain"))
    desk.run()
    assert desk.ends() == {1: "stopped", 2: "result"}
    assert LOG == ["5:0", "1:0"]


@pytest.mark.usefixtures("planted")
def test_a_request_can_be_given_up(tmp_path: Path) -> None:
    desk = Desk(tmp_path)
    desk.worker.take(message(1, 5))
    desk.worker.step()
    desk.worker.take(Message(1, stop=True))
    desk.worker.take(Message(7, stop=True))
    desk.run()
    assert desk.ends() == {1: "stopped"}
    assert LOG == ["5:0"]


@pytest.mark.usefixtures("planted")
@pytest.mark.parametrize(
    ("wrong", "part"),
    [
        (message(1, 3, fault="wrong"), "cannot be"),
        (message(1, 3, fault="bug"), "the program has a fault"),
        (message(1, "many"), "its settings are wrong"),
        (message(1, 3, colour="red"), "colour is no field"),
        (Message(1, "Dance"), "Dance"),
        (Message(1, "Causes", {"workspace": "x", "run": 1, "method": {"kind": "gradiant"}}), "Did you mean"),
        (Message(1, "Count"), "to"),
    ],
)
def test_what_is_wrong_with_one_request_is_said_and_the_others_go_on(
    wrong: Message, part: str, tmp_path: Path, capsys: pytest.CaptureFixture[str]
) -> None:
    desk = Desk(tmp_path)
    desk.worker.take(wrong)
    desk.worker.take(message(2, 2))
    desk.run()
    assert desk.ends() == {1: "error", 2: "result"}
    error = next(own["error"] for own in desk.answers() if "error" in own)
    assert part in " ".join(error.values())
    assert "Traceback" not in json.dumps(error)
    if part not in ("cannot be", "Did you mean"):
        assert "Traceback" in capsys.readouterr().err


@pytest.mark.usefixtures("planted")
def test_an_answer_that_finds_no_room_fails_alone_and_leaves_nothing(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    desk, save = Desk(tmp_path), np.save

    def full(file: Path, array: NDArray[Any], **more: Any) -> None:
        if array.size == 3:
            file.write_bytes(b"half")
            raise OSError(28, "No space left on device")
        save(file, array, **more)

    monkeypatch.setattr(np, "save", full)
    desk.worker.take(message(1, 3))
    desk.worker.take(message(2, 2))
    desk.run()
    assert desk.ends() == {1: "error", 2: "result"}
    error = next(own["error"] for own in desk.answers() if "error" in own)
    assert "no space left" in error["why"]
    assert [own.name for own in tmp_path.iterdir()] == ["2-end-0.npy"]


@pytest.fixture
def resident() -> Iterator[Resident]:
    made = Resident()
    yield made
    made.close()


def until(resident: Resident, numbers: set[int]) -> dict[int, Any]:
    """The ends of some requests."""
    outcome: dict[int, Any] = {}
    limit = time.monotonic() + 60
    while not numbers <= outcome.keys():
        assert time.monotonic() < limit
        for reply in resident.replies():
            if reply.progress is None:
                outcome[reply.number] = reply
        time.sleep(0.01)
    return outcome


def test_twenty_presses_of_next_cost_one_explanation(resident: Resident, station: Workspace) -> None:
    folder = str(station.folder)
    numbers = [resident.ask(Explain(RunImage(folder, 1, image)), scope="explain") for image in range(1, 21)]
    outcome = until(resident, set(numbers))
    done = [n for n in numbers if outcome[n].result is not None]
    assert done[-1] == numbers[-1]
    assert len(done) <= 2, "the first may have been over before the others came"
    assert all(outcome[n].stopped for n in numbers if n not in done)


def test_a_result_is_seen_while_it_is_made(resident: Resident, station: Workspace) -> None:
    resident.ask(MapData(str(station.folder), 1))
    seen, end, limit = [], None, time.monotonic() + 60
    while end is None:
        assert time.monotonic() < limit
        for reply in resident.replies():
            if reply.progress is None:
                end = reply
            elif isinstance(reply.result, DataMap):
                seen.append((reply.progress[0], reply.result))
        time.sleep(0.01)
    assert isinstance(end.result, DataMap)
    assert len(seen) > 2
    assert {tuple(outcome.images) for _, outcome in seen} == {tuple(end.result.images)}
    assert not np.array_equal(seen[1][1].places, seen[-1][1].places)
    assert list(resident.folder.iterdir()) == []


def test_a_worker_that_is_asked_nonsense_goes_on(resident: Resident, station: Workspace) -> None:
    wrong = resident.ask(Explain(RunImage(str(station.folder), 1, 1), target="no such class"))
    lost = resident.ask(Score("/nowhere/at/all", 1, "test"))
    right = resident.ask(Score(str(station.folder), 1, "test"))
    outcome = until(resident, {wrong, lost, right})
    assert "no such class" in str(outcome[wrong].error)
    assert "not a workspace" in str(outcome[lost].error)
    assert [type(outcome[number].error) for number in (wrong, lost)] == [BadUsage, NotHere], "errors keep their class"
    assert outcome[right].result.images == 16
    assert not resident.ended


def test_more_than_the_pipe_takes_is_sent_without_waiting(resident: Resident, station: Workspace) -> None:
    process = psutil.Process(resident.process.pid)
    process.suspend()
    began = time.monotonic()
    for k in range(3000):
        resident.ask(OpenPicture(str(station.folder), 1 + k % 9), scope="picture")
    assert resident.unsent
    assert time.monotonic() - began < 30
    process.resume()
    last = resident.ask(OpenPicture(str(station.folder), 3), scope="picture")
    assert until(resident, {last})[last].result.image == 3
    assert not resident.unsent


def test_memory_counts_the_worker_too(resident: Resident) -> None:
    alone, free = memory(None)
    both, _ = memory(resident)
    assert 0 < alone < both
    assert free > 0
    resident.process.kill()
    resident.process.wait()
    assert memory(resident)[0] == pytest.approx(alone, rel=0.5)


def test_arrays_stay_readable_when_their_file_is_gone(resident: Resident, station: Workspace) -> None:
    number = resident.ask(Explain(RunImage(str(station.folder), 1, 2)))
    outcome = until(resident, {number})[number].result
    assert list(resident.folder.iterdir()) == []
    assert np.isfinite(outcome.maps[0].values).all()


def test_where_there_is_no_shared_memory_the_temporary_folder_serves(
    monkeypatch: pytest.MonkeyPatch, tmp_path: Path, station: Workspace
) -> None:
    access = os.access
    monkeypatch.setattr(os, "access", lambda place, mode: str(place) != "/dev/shm" and access(place, mode))  # noqa: S108
    monkeypatch.setattr(resident_module.tempfile, "gettempdir", lambda: str(tmp_path))
    monkeypatch.setattr(resident_module.tempfile, "tempdir", str(tmp_path))
    made = Resident()
    try:
        assert made.folder.parent == tmp_path
        number = made.ask(OpenPicture(str(station.folder), 1))
        assert until(made, {number})[number].result.image == 1
    finally:
        made.close()
    assert [own.name for own in tmp_path.iterdir()] == ["pollen"]


@pytest.mark.parametrize(
    "sent",
    [
        Message(0),
        Message(7, "Explain", {"run": 0, "image": 3}, 0, "a scope"),
        Message(7, "Explain", {}, 5, ""),
        Message(3, stop=True),
        Answer(0, (0, 0, "")),
        Answer(4, (1, 2, "doing"), {"a": 0}, ("file",)),
        Answer(5, error={"what": "", "why": "", "remedy": ""}),
        Answer(5, stopped=True),
    ],
)
def test_what_is_sent_is_read_as_it_was_also_where_it_is_nothing(sent: Message | Answer) -> None:
    assert read_line(type(sent), line(sent)) == sent
