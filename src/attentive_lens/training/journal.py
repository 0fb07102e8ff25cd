"""The run's own record: one JSON object a line, flushed, so that whoever reads it sees the run as it is."""

from __future__ import annotations

import json
import time
from collections.abc import Iterator
from pathlib import Path
from types import TracebackType
from typing import Any, Self


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
        self._stream = file.open("a", encoding="utf-8")

    def write(self, event: str, **values: Any) -> None:
        """Append one event."""
        self._stream.write(json.dumps({"event": event, "at": round(time.time(), 3), **values}) + "\n")
        self._stream.flush()

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


def _parsed(data: bytes) -> Iterator[dict[str, Any]]:
    for line in data.splitlines():
        try:
            event = json.loads(line)
        except ValueError:
            continue
        if isinstance(event, dict) and "event" in event:
            yield event
