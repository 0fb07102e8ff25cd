"""The run's own record: one JSON object a line, flushed, so that whoever reads it sees the run as it is."""

from __future__ import annotations

import errno
import json
import os
import time
from collections.abc import Iterator
from pathlib import Path
from types import TracebackType
from typing import Any, Self

from attentive_lens.errors import BadFile


class JournalFault(BadFile):
    """The journal cannot be written."""


class Journal:
    """Appends events to a file.

    Events are ``start`` (plan, epochs, loss function), ``resume`` (epoch: whole ones done; what was told of later
    ones is void), ``batch`` (step, loss, learning rate: at most four a second, the loss being the mean since the last),
    ``epoch`` (number from 1, training and validation loss and accuracy, whether it is the best so far, learning rate
    of its last step, seconds, and how many of them were spent waiting for a batch) and ``end`` (state, seconds). Each
    carries ``at``, seconds since 1970. Losses are those of the loss function named, without label smoothing and class
    weights, in training, validation and scores alike.
    """

    def __init__(self, file: Path) -> None:
        self._file = file
        try:
            self._stream = file.open("ab", buffering=0)
            if self._stream.tell() and not _ends_whole(file):
                self._stream.write(b"\n")  # what a crash tore off must not swallow the next event
        except OSError as error:
            raise self._fault(error) from None

    def write(self, event: str, **values: Any) -> None:
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


def read_events(file: Path, start: int = 0) -> tuple[list[dict[str, Any]], int]:
    """Events from a byte position on, and the position after the last whole line.

    A last line still being written, or one damaged by a crash, is left for the next reading or passed over.
    """
    try:
        with file.open("rb") as stream:
            stream.seek(start)
            data = stream.read()
    except FileNotFoundError:
        return [], start
    end = data.rfind(b"\n") + 1
    return list(_parsed(data[:end])), start + end


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


def _parsed(data: bytes) -> Iterator[dict[str, Any]]:
    for line in data.splitlines():
        try:
            event = json.loads(line)
        except ValueError:
            continue
        if isinstance(event, dict) and "event" in event:
            yield event
