"""Files written whole or not at all, and what killed commands leave behind."""

from __future__ import annotations

import contextlib
import fcntl
import itertools
import os
import re
import shutil
import unicodedata
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from pathlib import Path

from attentive_lens.errors import BadFile

_UNFINISHED = re.compile(r"^\..+\.(\d+)(?:\.[a-z]+)*(?:-(?:wal|shm|journal))?$")
"""Names of files being written: a dot, the name, and the number of the process that writes it."""


_parts = itertools.count(1)


def part_of(file: Path) -> Path:
    """Where a file is written before it stands in its place: another name each time, which `remove_leftovers` knows.

    A process may write the same file twice at once: its jobs take turns.
    """
    return file.with_name(f".{file.name}-{next(_parts)}.{os.getpid()}")


@contextmanager
def replacing(file: Path, sync: bool = False) -> Iterator[Path]:
    """Where to write a file that stands whole or not at all: in the end it takes the place of what stood there before.

    With ``sync`` it is on the disk first. Whatever is raised leaves what stood there, and nothing beside it.
    """
    part = part_of(file)
    try:
        yield part
        if sync:
            with part.open("rb") as stream:
                os.fsync(stream.fileno())
        part.replace(file)
    finally:
        with contextlib.suppress(OSError, ValueError):
            part.unlink(missing_ok=True)


def write_text(file: Path, text: str) -> None:
    """Write a text file: under another name, to disk, then in place of what stood there.

    Raises
    ------
    BadFile
        If the folder cannot be written or the disk is full; what stood there before stays.
    """
    _write(file, lambda part: part.write_text(text, "utf-8"))


def write_bytes(file: Path, data: bytes) -> None:
    """Likewise, bytes as they are."""
    _write(file, lambda part: part.write_bytes(data))


def _write(file: Path, put: Callable[[Path], object]) -> None:
    try:
        with replacing(file, sync=True) as part:
            put(part)
    except (OSError, ValueError) as error:
        why = str(getattr(error, "strerror", None) or error).lower()
        raise BadFile(f"{file} could not be written", why, "Name a file in a folder you may write in") from None


def check_folder_of(file: Path) -> None:
    """Refuse to write where no folder is: a mistyped path makes none.

    Raises
    ------
    BadFile
        If the folder that the file is to stand in is not there.
    """
    if not file.absolute().parent.is_dir():
        why = f"there is no folder {file.parent}"
        raise BadFile(f"{file} could not be written", why, "Check the path, or make that folder first")


def of_this_process(parent: Path, name: str) -> Path:
    """The path of a folder that this process alone uses; those of processes that are gone are removed."""
    for left in parent.glob(f"{name}-*"):
        number = left.name.removeprefix(f"{name}-")
        if number.isdecimal() and not is_alive(int(number)):
            shutil.rmtree(left, ignore_errors=True)
    return parent / f"{name}-{os.getpid()}"


def make_folder(folder: Path) -> None:
    """Make a folder, in one that is there; nothing where it stands already.

    Raises
    ------
    BadFile
        If it cannot be made.
    """
    check_folder_of(folder)
    try:
        folder.mkdir(exist_ok=True)
    except OSError as error:
        why = str(error.strerror or error).lower()
        raise BadFile(f"{folder} could not be made", why, "Name a folder you may write in") from None


def is_locked(file: Path) -> bool:
    """Whether a process holds a lock on a file; not where there is no such file, or its disk knows no locks."""
    try:
        looking = os.open(file, os.O_RDONLY | os.O_CLOEXEC)
    except OSError:
        return False
    try:
        fcntl.flock(looking, fcntl.LOCK_SH | fcntl.LOCK_NB)
    except BlockingIOError:
        return True
    except OSError:
        return False
    finally:
        os.close(looking)
    return False


def is_alive(process: int) -> bool:
    """Whether a process of this number is there."""
    try:
        os.kill(process, 0)
    except ProcessLookupError:
        return False
    except (PermissionError, OverflowError):
        return True
    return True


def remove_leftovers(folder: Path) -> list[str]:
    """Remove what processes that are gone were writing in a folder; the names.

    What cannot be removed stays: it disturbs nobody.
    """
    removed = []
    with contextlib.suppress(OSError):
        for place in folder.iterdir():
            match = _UNFINISHED.match(place.name)
            if match and not is_alive(int(match.group(1))):
                with contextlib.suppress(OSError):
                    shutil.rmtree(place) if place.is_dir() else place.unlink()
                    removed.append(place.name)
    return removed


def shown(text: str) -> str:
    """A name or sentence as it may be printed: bytes that are no text and control characters stand as escapes.

    A file or class can be called so that printing its name would steer the terminal.
    """
    whole = text.encode("utf-8", "backslashreplace").decode()
    if whole.isprintable():
        return whole
    return "".join(c if c.isprintable() else c.encode("unicode_escape").decode() for c in whole)


def steerless(text: str) -> str:
    """A text of several lines as it may be shown: what would steer a terminal or turn the writing stands as escapes.

    Unlike `shown` it keeps line breaks, tabs, and blanks of any width.
    """
    if text.isprintable():
        return text
    whole = text.encode("utf-8", "backslashreplace").decode()
    return "".join(
        c if c.isprintable() or c in "\n\t" or unicodedata.category(c) == "Zs" else c.encode("unicode_escape").decode()
        for c in whole
    )
