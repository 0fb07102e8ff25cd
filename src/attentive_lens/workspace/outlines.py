"""What files beside the images tell of where the object is in each."""

from __future__ import annotations

import json
from collections.abc import Mapping

from attentive_lens.images.outlines import Outline, recorded_outline
from attentive_lens.workspace.inserting import restored, storable
from attentive_lens.workspace.part import CataloguePart


class Outlines(CataloguePart):
    """Reads and writes them in the catalogue; those that people draw are decisions, see `Correction`."""

    tables_held = ("outlines", "outline_places")

    def values(self) -> dict[int, Outline]:
        """By image number."""
        with self._opened() as base:
            rows = base.execute("SELECT image, polygons, runs FROM outlines ORDER BY image").fetchall()
        return {int(image): outline for image, *shape in rows if (outline := stored_outline(*shape)) is not None}

    def of(self, image: int) -> Outline:
        """Of one image; empty where none was taken."""
        with self._opened() as base:
            shape = base.execute("SELECT polygons, runs FROM outlines WHERE image = ?", (image,)).fetchone()
        return (stored_outline(*shape) if shape is not None else None) or Outline()

    def places(self) -> tuple[str, ...]:
        """The files and folders they were taken from, in their order."""
        with self._opened() as base:
            rows = base.execute("SELECT place FROM outline_places ORDER BY rowid").fetchall()
        return tuple(restored(place) for (place,) in rows)

    def take(self, outlines: Mapping[int, Outline], place: str, alone: bool = False) -> None:
        """Outlines from a place, instead of what was taken of these images before, or ``alone``, of all."""
        with self._opened() as base:
            if alone:
                self._empty(base)
            rows = [(image, *storable_outline(outline)) for image, outline in outlines.items()]
            base.executemany("INSERT OR REPLACE INTO outlines VALUES (?, ?, ?)", rows)
            base.execute("DELETE FROM outline_places WHERE place = ?", (storable(place),))
            base.execute("INSERT INTO outline_places VALUES (?)", (storable(place),))
        self._keep_copy()


def storable_outline(outline: Outline | None) -> tuple[str | None, bytes | None]:
    """Polygons as text and the packed mask."""
    return (None, None) if outline is None else (json.dumps(outline.polygons), outline.runs)


def stored_outline(polygons: str | None, runs: bytes | None) -> Outline | None:
    """What `storable_outline` made it of."""
    if polygons is None:
        return None
    return Outline(recorded_outline({"polygons": json.loads(polygons)}).polygons, runs or b"")
