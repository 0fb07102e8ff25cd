"""The run's own record: one JSON object a line, flushed, so that whoever reads it sees the run as it is."""

from __future__ import annotations

import errno
import json
import os
import time
from collections.abc import Iterator, Mapping
from dataclasses import dataclass
from pathlib import Path
from types import TracebackType
from typing import Self

from attentive_lens.core.records import PlainTable, from_plain
from attentive_lens.errors import BadFile
from attentive_lens.training.figures import ByClass, Figures, Health


@dataclass(frozen=True)
class EpochEvent:
    """A finished epoch.

    Attributes
    ----------
    epoch : int
        From 1.
    training, validation : Figures
        Of the augmented training images while they were learned from, and of the validation images; None without any.
    best : bool
        Whether it is the best so far.
    learning_rate : float
        Of its last step.
    seconds, waited : float
        How long it took, and how much of that went by waiting for a batch.
    by_class : ByClass or None
        Of the validation images.
    health : Health or None
        Of the layers, in the network's order.
    at : float
        Seconds since 1970.
    """

    epoch: int
    training: Figures
    validation: Figures | None
    best: bool
    learning_rate: float = 0.0
    seconds: float = 0.0
    waited: float = 0.0
    by_class: ByClass | None = None
    health: Health | None = None
    at: float = 0.0


@dataclass(frozen=True)
class BatchEvent:
    """How training stands within an epoch.

    Attributes
    ----------
    epoch : int
        From 1.
    step, of : int
        Steps done in the run, and in all.
    loss : float
        Mean since the last such event.
    learning_rate : float
        Of the last step.
    at : float
        Seconds since 1970.
    """

    epoch: int
    step: int
    of: int
    loss: float
    learning_rate: float = 0.0
    at: float = 0.0


@dataclass(frozen=True)
class StartEvent:
    """The beginning: the plan's name, epochs to come, the loss function, seconds since 1970."""

    plan: str = ""
    epochs: int = 0
    loss_function: str = ""
    at: float = 0.0


@dataclass(frozen=True)
class ResumeEvent:
    """Training goes on after so many whole epochs; what was told of later ones is void."""

    epoch: int
    at: float = 0.0


@dataclass(frozen=True)
class InputEvent:
    """Mean and standard deviation of the prepared images' values, on some training images; batches and images of an
    epoch, 0 where they were not noted.
    """

    mean: float
    std: float
    batches: int = 0
    images: int = 0
    at: float = 0.0


@dataclass(frozen=True)
class RateEvent:
    """From a step on, another learning rate holds, before the schedule's factor."""

    epoch: int
    step: int
    learning_rate: float
    at: float = 0.0


@dataclass(frozen=True)
class PauseEvent:
    """The run waits before a step."""

    epoch: int
    step: int
    at: float = 0.0


@dataclass(frozen=True)
class ContinueEvent:
    """A pause is over."""

    epoch: int
    step: int
    at: float = 0.0


@dataclass(frozen=True)
class EndEvent:
    """How it ended.

    Attributes
    ----------
    state : str
        "done", "stopped", "failed" and the like.
    error : str
        Why it failed.
    epochs, seconds : int and float
        How long it was.
    weights_sha256 : str
        Of the weights, for comparing runs.
    reason : str
        By which rule it ended before its epochs were over.
    at : float
        Seconds since 1970.
    """

    state: str
    error: str = ""
    epochs: int = 0
    seconds: float = 0.0
    weights_sha256: str = ""
    reason: str = ""
    at: float = 0.0


class JournalFault(BadFile):
    """The journal cannot be written."""


class Journal:
    """Appends events to a file.

    Events are ``start`` (plan, epochs, loss function), ``input`` (of the prepared images), ``resume`` (epoch: whole
    ones done; what was told of later ones is void), ``batch`` (step, loss, learning rate: at most four a second, the
    loss being the mean since the last), ``epoch`` (number from 1, training and validation figures, whether it is the
    best so far, learning rate of its last step, seconds, and how many of them were spent waiting for a batch; the
    validation images' answers by class, and how the layers did), ``rate`` (one that was set), ``pause``, ``continue``
    and ``end`` (state, seconds, by which rule). Each carries ``at``, seconds since 1970. Losses are those of the loss
    function named, without label smoothing and class weights, in training, validation and scores alike.
    """

    def __init__(self, file: Path) -> None:
        self._file = file
        try:
            self._stream = file.open("ab", buffering=0)
            if self._stream.tell() and not _ends_whole(file):
                self._stream.write(b"\n")  # what a crash tore off must not swallow the next event
        except OSError as error:
            raise self._fault(error) from None

    def write(self, event: str, **values: object) -> None:
        """Append one event.

        Raises
        ------
        JournalFault
            If it cannot be written, as on a full disk.
        """
        line = json.dumps({"event": event, "at": round(time.time(), 3), **values}).encode() + b"\n"
        try:
            if self._stream.write(line) != len(line):
                raise OSError(errno.ENOSPC, os.strerror(errno.ENOSPC))
        except (OSError, ValueError) as error:
            raise self._fault(error) from None

    def _fault(self, error: Exception) -> JournalFault:
        why = str(getattr(error, "strerror", None) or error).lower()
        return JournalFault(f"{self._file} could not be written", why, "Make room, then let the run go on")

    def __enter__(self) -> Self:
        return self

    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        self._stream.close()


KINDS: dict[str, type[object]] = {
    "start": StartEvent,
    "resume": ResumeEvent,
    "batch": BatchEvent,
    "epoch": EpochEvent,
    "input": InputEvent,
    "rate": RateEvent,
    "pause": PauseEvent,
    "continue": ContinueEvent,
    "end": EndEvent,
}
"""Events by name; one that lacks something is a damaged line."""


def read_event(event: Mapping[str, object]) -> object | None:
    """An event as the class of its kind; None where it is of no kind, or lacks something."""
    kind = KINDS.get(str(event.get("event")))
    try:
        return kind and from_plain(kind, {key: value for key, value in event.items() if key != "event"}, ())
    except (TypeError, ValueError, LookupError):
        return None


def read_events(file: Path, start: int = 0) -> tuple[list[PlainTable], int]:
    """Events from a byte position on, and the position after the last whole line.

    A last line still being written, or one damaged by a crash, is left for the next reading or passed over.
    """
    data, end = _whole_lines(file, start)
    return [event for event, _ in _parsed(data)], end


def follow_events(file: Path, start: int = 0) -> tuple[list[object], int]:
    """Likewise, each as the class of its kind; those of no kind that is known here are left out."""
    data, end = _whole_lines(file, start)
    return [known for _, known in _parsed(data) if known is not None], end


def _whole_lines(file: Path, start: int) -> tuple[bytes, int]:
    try:
        with file.open("rb") as stream:
            stream.seek(start)
            data = stream.read()
    except FileNotFoundError:
        return b"", start
    end = data.rfind(b"\n") + 1
    return data[:end], start + end


def damaged_lines(file: Path) -> int:
    """Lines of a journal that are no events: torn by a crash, or changed by somebody."""
    try:
        data = file.read_bytes()
    except OSError:
        return 0
    whole = data[: data.rfind(b"\n") + 1]
    return sum(1 for line in whole.splitlines() if line) - sum(1 for _ in _parsed(whole))


def _ends_whole(file: Path) -> bool:
    with file.open("rb") as stream:
        stream.seek(-1, os.SEEK_END)
        return stream.read(1) == b"\n"


def _parsed(data: bytes) -> Iterator[tuple[PlainTable, object | None]]:
    """Lines that are events, as they are and as the class of their kind."""
    for line in data.splitlines():
        try:
            event = json.loads(line)
        except ValueError:
            continue
        if not isinstance(event, dict) or "event" not in event:
            continue
        known = read_event(event)
        if known is not None or event["event"] not in KINDS:
            yield event, known
