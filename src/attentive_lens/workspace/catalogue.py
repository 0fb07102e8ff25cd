"""The catalogue of a workspace's images, in one SQLite file."""

from __future__ import annotations

import os
import sqlite3
from collections.abc import Iterator, Sequence
from contextlib import closing, contextmanager
from dataclasses import dataclass
from pathlib import Path

from attentive_lens.errors import BadFile

VERSION = 1
"""Of the schema; `_MIGRATIONS` leads from each version to the next."""

_SCHEMA = """
CREATE TABLE classes (id INTEGER PRIMARY KEY, name TEXT NOT NULL UNIQUE);
CREATE TABLE images (
    id INTEGER PRIMARY KEY,
    file TEXT NOT NULL UNIQUE,
    class INTEGER NOT NULL REFERENCES classes (id),
    given_set TEXT CHECK (given_set IN ('training', 'validation', 'test')),
    width INTEGER NOT NULL,
    height INTEGER NOT NULL,
    mode TEXT NOT NULL,
    bytes INTEGER NOT NULL
);
CREATE TABLE skipped (file TEXT NOT NULL, reason TEXT NOT NULL);
"""

_MIGRATIONS: dict[int, str] = {}


@dataclass(frozen=True)
class ImageRow:
    """One image of the catalogue.

    Attributes
    ----------
    number : int
        From 1, in the order of the source.
    file : str
        Relative to the workspace if it lies in it, else absolute.
    label : int
        Class number from 0.
    given_set : str or None
        Set named by the source.
    width, height : int
        Pixels of the file.
    mode : str
        What the file holds, in words.
    bytes : int
        Size of the file.
    """

    number: int
    file: str
    label: int
    given_set: str | None
    width: int
    height: int
    mode: str
    bytes: int


class Catalogue:
    """Reads and writes ``catalogue.sqlite``; every call is one short transaction.

    Parameters
    ----------
    file : Path
        The database.
    immutable : bool
        Whether it lies in a folder that cannot be written; it is then read without locks.
    """

    def __init__(self, file: Path, immutable: bool = False) -> None:
        self.file = file
        self.immutable = immutable

    @classmethod
    def create(
        cls,
        file: Path,
        classes: Sequence[str],
        images: Sequence[ImageRow],
        skipped: Sequence[tuple[str, str]],
    ) -> Catalogue:
        """Write a new catalogue whole."""
        catalogue = cls(file)
        with catalogue._open() as base:
            base.execute("PRAGMA journal_mode = WAL")
            base.executescript(_SCHEMA)
            base.execute(f"PRAGMA user_version = {VERSION}")
            base.executemany("INSERT INTO classes VALUES (?, ?)", enumerate(classes))
            base.executemany(
                "INSERT INTO images VALUES (?, ?, ?, ?, ?, ?, ?, ?)",
                [
                    (r.number, _storable(r.file), r.label, r.given_set, r.width, r.height, r.mode, r.bytes)
                    for r in images
                ],
            )
            base.executemany("INSERT INTO skipped VALUES (?, ?)", [(_storable(f), why) for f, why in skipped])
        return catalogue

    def classes(self) -> list[str]:
        """Names by class number."""
        with self._open() as base:
            return [str(name) for (name,) in base.execute("SELECT name FROM classes ORDER BY id")]

    def images(self) -> list[ImageRow]:
        """All images by number."""
        with self._open() as base:
            rows = base.execute(
                "SELECT id, file, class, given_set, width, height, mode, bytes FROM images ORDER BY id"
            ).fetchall()
        return [ImageRow(n, _restored(file), *rest) for n, file, *rest in rows]

    def skipped(self) -> list[tuple[str, str]]:
        """Files that gave no image, with the reason."""
        with self._open() as base:
            rows = base.execute("SELECT file, reason FROM skipped ORDER BY rowid").fetchall()
        return [(_restored(file), str(why)) for file, why in rows]

    @contextmanager
    def _open(self) -> Iterator[sqlite3.Connection]:
        mode = "?mode=ro&immutable=1" if self.immutable else ""
        try:
            with closing(sqlite3.connect(f"{self.file.absolute().as_uri()}{mode}", uri=True, timeout=10)) as base:
                self._bring_up_to_date(base)
                with base:
                    yield base
        except sqlite3.Error as error:
            raise BadFile(
                f"{self.file} could not be used",
                f"the catalogue is damaged or locked ({error})",
                "Import the images again",
            ) from None

    def _bring_up_to_date(self, base: sqlite3.Connection) -> None:
        (version,) = base.execute("PRAGMA user_version").fetchone()
        if version > VERSION:
            raise BadFile(
                f"{self.file} was written by a later version",
                f"its schema is {version} and this version knows {VERSION}",
                "Use the later version",
            )
        while 0 < version < VERSION and not self.immutable:
            base.executescript(_MIGRATIONS[version])
            version += 1
            base.execute(f"PRAGMA user_version = {version}")


def _storable(file: str) -> str | bytes:
    """A file name as the database takes it: text, or bytes where it is no valid Unicode."""
    try:
        file.encode("utf-8")
    except UnicodeEncodeError:
        return os.fsencode(file)
    return file


def _restored(file: str | bytes) -> str:
    return os.fsdecode(file)
