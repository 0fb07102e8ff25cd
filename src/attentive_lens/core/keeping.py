"""Results kept in files, each with the key of what it was made from: one rule for what is out of date.

What is kept is only a saving of time. So a file that is damaged, of another key or cannot be written is no fault: the
result is made anew.
"""

from __future__ import annotations

import contextlib
import hashlib
import json
import zipfile
from pathlib import Path
from typing import Any, TypeVar

import numpy as np
from numpy.typing import NDArray

from attentive_lens.core.files import replacing
from attentive_lens.core.records import from_plain, to_plain

T = TypeVar("T")

_BROKEN = (OSError, ValueError, LookupError, TypeError, EOFError, zipfile.BadZipFile)


def key_of(*inputs: Any) -> str:
    """A key that changes when one of the inputs does: plain values and `Path`s, a file counting as it is now."""
    plain = [_stamp(value) if isinstance(value, Path) else value for value in inputs]
    return hashlib.sha256(repr(plain).encode("utf-8", "surrogateescape")).hexdigest()


def _stamp(file: Path) -> tuple[int, int]:
    """Size and time of the last change; zeros for a file that is not there."""
    try:
        status = file.stat()
    except OSError:
        return (0, 0)
    return (status.st_size, status.st_mtime_ns)


def stored(file: Path, kind: type[T], key: str) -> T | None:
    """The dataclass kept in a file under this key, or None."""
    try:
        with file.open("rb") as stream, np.load(stream, allow_pickle=False) as stored:
            record = json.loads(str(stored["record"]))
            if record["key"] != key:
                return None
            arrays: list[NDArray[Any]] = [stored[str(k)] for k in range(len(stored.files) - 1)]
        return from_plain(kind, record["value"], arrays)
    except _BROKEN:
        return None


def keep(file: Path, value: Any, key: str) -> None:
    """Keep a dataclass under a key: the whole file or none, and none where nothing may be written."""
    arrays: list[NDArray[Any]] = []
    record = json.dumps({"key": key, "value": to_plain(value, arrays)})
    named: dict[str, Any] = {str(k): array for k, array in enumerate(arrays)}
    with contextlib.suppress(OSError):
        file.parent.mkdir(parents=True, exist_ok=True)
        with replacing(file) as part, part.open("wb") as stream:
            np.savez(stream, record=np.array(record), **named)
