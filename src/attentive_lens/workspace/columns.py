"""What tables beside the images tell of them: named columns, a word for an image."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass

from attentive_lens.workspace.inserting import restored, storable
from attentive_lens.workspace.part import CataloguePart


@dataclass(frozen=True)
class ColumnTable:
    """A table that was taken: where it is, as a row's file is given, and its column that names the images."""

    place: str
    by: str


class Columns(CataloguePart):
    """Reads and writes them in the catalogue."""

    tables_held = ("columns", "column_tables")

    def values(self) -> dict[str, dict[int, str]]:
        """Column → image's number → word; columns in the order of their names, no word that is empty."""
        result: dict[str, dict[int, str]] = {}
        with self._opened() as base:
            for name, image, value in base.execute("SELECT name, image, value FROM columns ORDER BY name, image"):
                result.setdefault(str(name), {})[int(image)] = str(value)
        return result

    def tables(self) -> tuple[ColumnTable, ...]:
        """Those that were taken, in their order."""
        with self._opened() as base:
            rows = base.execute("SELECT place, joined FROM column_tables ORDER BY rowid").fetchall()
        return tuple(ColumnTable(restored(place), str(by)) for place, by in rows)

    def take(self, values: Mapping[str, Mapping[int, str]], table: ColumnTable, alone: bool = False) -> None:
        """Columns of a table, in place of those that were called so, or ``alone``, of all."""
        with self._opened() as base:
            if alone:
                self._empty(base)
            base.executemany("DELETE FROM columns WHERE name = ?", [(name,) for name in values])
            base.executemany(
                "INSERT INTO columns VALUES (?, ?, ?)",
                [(name, image, word) for name, words in values.items() for image, word in words.items() if word],
            )
            base.execute("DELETE FROM column_tables WHERE place = ?", (storable(table.place),))
            base.execute("INSERT INTO column_tables VALUES (?, ?)", (storable(table.place), table.by))
        self._keep_copy()
