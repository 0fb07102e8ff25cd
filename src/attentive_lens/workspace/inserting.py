"""Rows of the catalogue as the database takes them."""

from __future__ import annotations

import json
import os
import sqlite3
from collections.abc import Sequence

from attentive_lens.workspace.rows import ImageRow, Origin

COLUMNS = "id, file, class, given_set, width, height, mode, bytes, part, place, origin, digest, changed, beyond"


def insert_origin(base: sqlite3.Connection, origin: Origin) -> None:
    """Note a source under the next number."""
    base.execute(
        "INSERT INTO origins (kind, place, reading) VALUES (?, ?, ?)",
        (origin.kind, storable(origin.place), json.dumps(origin.reading)),
    )


def insert_images(base: sqlite3.Connection, images: Sequence[ImageRow]) -> None:
    """Note images, each under its own number."""
    base.executemany(
        f"INSERT INTO images ({COLUMNS}) VALUES ({', '.join('?' * 14)})",
        (
            (
                r.number,
                storable(r.file),
                r.label,
                r.given_set,
                r.width,
                r.height,
                r.mode,
                r.bytes,
                r.part,
                r.index,
                r.origin,
                r.digest,
                r.changed,
                r.beyond,
            )
            for r in images
        ),
    )


def insert_skipped(base: sqlite3.Connection, skipped: Sequence[tuple[str, str]]) -> None:
    """Note files that gave no image."""
    base.executemany("INSERT INTO skipped VALUES (?, ?)", [(storable(f), why) for f, why in skipped])


def storable(file: str) -> str | bytes:
    """A file name as the database takes it: text, or bytes where it is no valid Unicode."""
    try:
        file.encode("utf-8")
    except UnicodeEncodeError:
        return os.fsencode(file)
    return file


def restored(file: str | bytes) -> str:
    """What `storable` made it of."""
    return os.fsdecode(file)
