"""The catalogue of a workspace's images, in one SQLite file."""

from __future__ import annotations

import contextlib
import json
import shutil
import sqlite3
import time
from collections.abc import Iterator, Mapping, Sequence
from contextlib import closing, contextmanager
from pathlib import Path

from attentive_lens.core.files import part_of, remove_leftovers, replacing
from attentive_lens.core.jobs import paced
from attentive_lens.core.values import unknown_word
from attentive_lens.errors import BadFile, BadValue
from attentive_lens.workspace.columns import Columns
from attentive_lens.workspace.corrections import Correction, Corrections
from attentive_lens.workspace.decided import as_recorded, last_decisions
from attentive_lens.workspace.inserting import COLUMNS, insert_images, insert_origin, insert_skipped, restored, storable
from attentive_lens.workspace.outlines import Outlines, storable_outline, stored_outline
from attentive_lens.workspace.rows import ImageRow, Origin
from attentive_lens.workspace.schema import MIGRATIONS, SCHEMA, VERSION

SETTLED = 1_000_000_000
"""Nanoseconds after which two changes of a file have different times on any file system still in use."""


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
        origin: Origin,
    ) -> Catalogue:
        """Write a new catalogue whole."""
        catalogue = cls(file)
        with catalogue._open() as base:
            base.execute("PRAGMA journal_mode = WAL")
            base.executescript(SCHEMA)
            base.execute(f"PRAGMA user_version = {VERSION}")
            insert_origin(base, origin)
            base.executemany("INSERT INTO classes VALUES (?, ?)", enumerate(classes))
            insert_images(base, images)
            insert_skipped(base, skipped)
        return catalogue

    @property
    def copy(self) -> Path:
        """A copy as of the last time images or classes changed; with the decisions beside it all can be restored."""
        return self.file.with_name(f"{self.file.stem}.copy{self.file.suffix}")

    @property
    def decisions(self) -> Path:
        """Every decision since the beginning, one JSON object a line: the plain second record of what people did."""
        return self.file.with_name("decisions.jsonl")

    def keep_copy(self) -> None:
        """Write the copy anew; where there is no room the old one stays."""
        remove_leftovers(self.file.parent)
        with (
            contextlib.suppress(sqlite3.Error, OSError),
            replacing(self.copy) as part,
            self._open() as base,
            closing(sqlite3.connect(part)) as other,
        ):
            base.backup(other)

    def restore(self) -> tuple[int, int]:
        """Put the copy in the place of a damaged catalogue and decide again all that was decided.

        The damaged file is kept beside it.

        Returns
        -------
        tuple of int
            Images, and images with a decision.

        Raises
        ------
        BadFile
            If there is no copy, or it is damaged too.
        """
        if not self.copy.exists():
            why = "no copy of it was kept"
            raise BadFile(f"{self.file} cannot be restored", why, "Make the workspace again from its source")
        spare = part_of(self.file)
        try:
            shutil.copyfile(self.copy, spare)
            restored = Catalogue(spare)
            images = len(restored.images())
            decided = last_decisions(self.decisions, images, restored.classes(), restored.former_names())
            with restored._open() as base:
                base.executemany("INSERT OR IGNORE INTO classes VALUES (?, ?)", enumerate(decided.classes))
            restored._write_corrections(decided.corrections)
            for name in (self.file.name, f"{self.file.name}-wal", f"{self.file.name}-shm"):
                file = self.file.with_name(name)
                if file.exists():
                    file.replace(file.with_name(f"damaged-{name}"))
            spare.replace(self.file)
        except OSError as error:
            why = str(error.strerror or error).lower()
            raise BadFile(f"{self.file} cannot be restored", why, "Make room, or check its folder") from None
        finally:
            for left in (spare, spare.with_name(spare.name + "-wal"), spare.with_name(spare.name + "-shm")):
                left.unlink(missing_ok=True)
        return images, len(decided.corrections)

    def stamp(self) -> tuple[int, ...]:
        """Another one after every change, read from the files alone."""
        files = (self.file, self.file.with_name(f"{self.file.name}-wal"))
        figures: list[int] = []
        for file in files:
            with contextlib.suppress(FileNotFoundError):  # the second comes and goes with whoever writes
                state = file.stat()
                figures += (state.st_mtime_ns, state.st_size)
        return tuple(figures)

    def settled_stamp(self) -> tuple[int, ...] | None:
        """The stamp, or None while the last change is so fresh that another could share its time of writing."""
        stamp = self.stamp()
        return stamp if time.time_ns() - max(stamp[::2], default=0) > SETTLED else None

    # What the source gave

    def classes(self) -> list[str]:
        """Names by class number."""
        with self._open() as base:
            return [str(name) for (name,) in base.execute("SELECT name FROM classes ORDER BY id")]

    def images(self) -> list[ImageRow]:
        """All images by number, as their source gave them."""
        with self._open() as base:
            rows = paced(base.execute(f"SELECT {COLUMNS} FROM images ORDER BY id"))
            return [ImageRow(n, restored(file), *rest) for n, file, *rest in rows]

    def size(self) -> tuple[int, int]:
        """How many images and classes there are."""
        with self._open() as base:
            counts = base.execute("SELECT (SELECT COUNT(*) FROM images), (SELECT COUNT(*) FROM classes)").fetchone()
        return int(counts[0]), int(counts[1])

    def skipped(self) -> list[tuple[str, str]]:
        """Files that gave no image, with the reason."""
        with self._open() as base:
            rows = base.execute("SELECT file, reason FROM skipped ORDER BY rowid").fetchall()
        return [(restored(file), str(why)) for file, why in rows]

    def origins(self) -> dict[int, Origin]:
        """The sources, by number."""
        with self._open() as base:
            rows = base.execute("SELECT id, kind, place, reading FROM origins ORDER BY id").fetchall()
        return {n: Origin(kind, restored(place), json.loads(reading)) for n, kind, place, reading in rows}

    def renew(
        self,
        classes: Sequence[str],
        changed: Sequence[ImageRow],
        added: Sequence[ImageRow],
        skipped: Sequence[tuple[str, str]],
    ) -> None:
        """After the source was looked through again: all classes, changed and new images, all files skipped."""
        with self._open() as base:
            base.executemany("INSERT OR IGNORE INTO classes VALUES (?, ?)", enumerate(classes))
            base.executemany("DELETE FROM images WHERE id = ?", [(row.number,) for row in changed])
            insert_images(base, [*changed, *added])
            base.execute("DELETE FROM skipped")
            insert_skipped(base, skipped)
        self.keep_copy()

    def origin_at(self, origin: Origin) -> int:
        """The number of a source, which is noted if it is new."""
        known = {(other.kind, other.place): number for number, other in self.origins().items()}
        if (origin.kind, origin.place) not in known:
            with self._open() as base:
                insert_origin(base, origin)
            return self.origin_at(origin)
        return known[origin.kind, origin.place]

    def add(self, classes: Sequence[str], images: Sequence[ImageRow]) -> None:
        """Further images, and all classes by number, of which some may be new."""
        with self._open() as base:
            base.executemany("INSERT OR IGNORE INTO classes VALUES (?, ?)", enumerate(classes))
            insert_images(base, images)
        self.keep_copy()

    def move_origin(self, number: int, place: str, files: Mapping[str, str]) -> None:
        """A source is elsewhere now: its place, and the new name of every file of it by the old one."""
        with self._open() as base:
            base.execute("UPDATE origins SET place = ? WHERE id = ?", (storable(place), number))
            base.executemany(
                "UPDATE images SET file = ? WHERE file = ? AND origin = ?",
                [(storable(new), storable(old), number) for old, new in files.items()],
            )
        self.keep_copy()

    def add_class(self, name: str) -> int:
        """A further class; its number."""
        with self._open() as base:
            (number,) = base.execute("SELECT COUNT(*) FROM classes").fetchone()
            base.execute("INSERT INTO classes VALUES (?, ?)", (number, name))
        self.keep_copy()
        return int(number)

    def former_names(self) -> dict[str, int]:
        """Class numbers by the names that classes had before they were renamed."""
        with self._open() as base:
            return {str(name): int(number) for name, number in base.execute("SELECT name, class FROM former_names")}

    def rename_class(self, old: str, new: str) -> None:
        """Call a class otherwise; what is known of it by its old name is known of it still.

        Raises
        ------
        BadValue
            If there is no such class, or another one is or was called so.
        """
        classes, former = self.classes(), self.former_names()
        if old not in classes:
            raise unknown_word("class", old, frozenset(classes))
        number = classes.index(old)
        if new in classes or former.get(new, number) != number:
            why = f"{'another class is' if new in classes else 'another class was'} called so"
            raise BadValue(
                f"«{old}» was not renamed «{new}»", why, "Choose another name, or make it part of that class"
            )
        with self._open() as base:
            base.execute("UPDATE classes SET name = ? WHERE id = ?", (new, number))
            base.execute("DELETE FROM former_names WHERE name = ?", (new,))
            base.execute("INSERT OR REPLACE INTO former_names VALUES (?, ?)", (old, number))
        self.keep_copy()

    @property
    def columns(self) -> Columns:
        """What tables beside the images tell of them."""
        return Columns(self._open, self.keep_copy)

    @property
    def outlines(self) -> Outlines:
        """Where files beside the images say that the objects are."""
        return Outlines(self._open, self.keep_copy)

    # What people decided

    def corrections(self) -> dict[int, Correction]:
        """Decisions by image number."""
        with self._open() as base:
            rows = base.execute("SELECT image, class, set_name, flagged, polygons, runs FROM corrections").fetchall()
        return {
            n: Correction(label, set_name, bool(flagged), stored_outline(*shape))
            for n, label, set_name, flagged, *shape in rows
        }

    def correct(self, changes: Corrections, new_classes: Sequence[str] = ()) -> None:
        """Set the decisions about some images; an empty correction takes them back.

        ``new_classes`` are numbered on from those there are, and come with the decisions or not at all.

        They are written to the plain record first. A class that came by a decision goes when its last one is taken
        back.
        """
        if not self.copy.exists():
            self.keep_copy()
        names = [*self.classes(), *new_classes]
        record = {str(n): as_recorded(c, names) for n, c in changes.items()}
        try:
            with self.decisions.open("a", encoding="utf-8") as stream:
                stream.write(json.dumps({"at": round(time.time(), 3), "decided": record}) + "\n")
        except OSError as error:
            why = str(error.strerror).lower()
            raise BadFile(
                "The decision was not kept", f"{self.decisions}: {why}", "Make room, then try again"
            ) from None
        self._write_corrections(changes, new_classes)
        if new_classes:
            self.keep_copy()

    def _write_corrections(self, changes: Corrections, new_classes: Sequence[str] = ()) -> None:
        with self._open() as base:
            (number,) = base.execute("SELECT COUNT(*) FROM classes").fetchone()
            base.executemany("INSERT INTO classes VALUES (?, ?)", enumerate(new_classes, number))
            base.executemany("DELETE FROM corrections WHERE image = ?", [(n,) for n in changes])
            base.executemany(
                "INSERT INTO corrections VALUES (?, ?, ?, ?, ?, ?)",
                [
                    (n, c.label, c.set_name, int(c.flagged), *storable_outline(c.outline))
                    for n, c in changes.items()
                    if c
                ],
            )
            used = "SELECT class FROM images UNION SELECT class FROM corrections WHERE class IS NOT NULL"
            base.execute(f"DELETE FROM classes WHERE id > (SELECT MAX(class) FROM ({used}))")

    # What was found out

    def copies(self) -> dict[int, int]:
        """Group number of every image known to be a copy of another."""
        with self._open() as base:
            return dict(base.execute("SELECT image, belongs FROM copies").fetchall())

    def keep_copies(self, groups: Mapping[int, int]) -> None:
        """Note which images are copies of each other, in place of what was noted before."""
        with self._open() as base:
            base.execute("DELETE FROM copies")
            base.executemany("INSERT INTO copies VALUES (?, ?)", groups.items())

    @contextmanager
    def _open(self) -> Iterator[sqlite3.Connection]:
        mode = "?mode=ro&immutable=1" if self.immutable else ""
        try:
            with closing(sqlite3.connect(f"{self.file.absolute().as_uri()}{mode}", uri=True, timeout=10)) as base:
                self._bring_up_to_date(base)
                with base:
                    yield base
        except sqlite3.Error as error:
            why, remedy = _reason(error)
            raise BadFile(f"{self.file} could not be used", why, remedy) from None

    def _bring_up_to_date(self, base: sqlite3.Connection) -> None:
        (version,) = base.execute("PRAGMA user_version").fetchone()
        if version > VERSION:
            raise BadFile(
                f"{self.file} was written by a later version",
                f"its schema is {version} and this version knows {VERSION}",
                "Use the later version",
            )
        if 0 < version < VERSION and self.immutable:
            raise BadFile(
                f"{self.file} was written by an earlier version",
                f"its schema is {version} and cannot be brought to {VERSION} where nothing may be written",
                "Copy the workspace to a folder you may write in",
            )
        if 0 < version < VERSION:
            _migrate(base)


def _migrate(base: sqlite3.Connection) -> None:
    """Bring an older catalogue up to date; of several processes at once one does it, the others wait for it."""
    base.execute("BEGIN EXCLUSIVE")
    try:
        (version,) = base.execute("PRAGMA user_version").fetchone()
        while version < VERSION:
            for statement in MIGRATIONS[version].split(";"):
                if statement.strip():
                    base.execute(statement)
            version += 1
        base.execute(f"PRAGMA user_version = {version}")
        base.commit()
    except BaseException:
        base.rollback()
        raise


def _reason(error: sqlite3.Error) -> tuple[str, str]:
    """Why the database could not be used, and what to do, by SQLite's own code (sqlite.org/rescode.html)."""
    code = getattr(error, "sqlite_errorcode", 0) & 0xFF
    if code == sqlite3.SQLITE_FULL or "disk is full" in str(error):
        return "the disk is full", "Make room, then try again"
    if code in (sqlite3.SQLITE_READONLY, sqlite3.SQLITE_CANTOPEN, sqlite3.SQLITE_PERM):
        return "its folder cannot be written", "Copy the workspace to a folder you may write in"
    if code in (sqlite3.SQLITE_BUSY, sqlite3.SQLITE_LOCKED):
        return "another process is writing it", "Try again in a moment"
    remedy = "Try again; if it stays so, «attentive-lens restore» brings its copy and all decisions back"
    return f"the catalogue is damaged ({error})", remedy
