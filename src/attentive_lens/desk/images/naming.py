"""Images by what tables and other files call them: a number, a path or its end, a name without its ending."""

from __future__ import annotations

from collections.abc import Mapping, Sequence

from attentive_lens.core.jobs import paced
from attentive_lens.workspace import ImageRow

NUMBER = "image"
"""The column that names images by their numbers."""
LOOKED_AT = 500
"""Lines, about, by which the column that names images is recognised."""
LEAST = 0.5
"""Part of a table's lines that must name images, for a column to be taken for their names unasked."""


def naming_column(head: Sequence[str], lines: Mapping[int, Sequence[str]], finder: Finder) -> int:
    """The column most of whose cells name images; −1 if no column names them in half of the lines."""
    some = list(lines.values())[:: max(1, len(lines) // LOOKED_AT)]
    counts = [sum(bool(finder.images(name, row[k])) for row in some) for k, name in enumerate(head)]
    best = max(range(len(head)), key=counts.__getitem__, default=-1)
    return best if best >= 0 and counts[best] >= max(1, LEAST * len(some)) else -1


class Finder:
    """Images by what a cell calls them: a number, a path or its end, or a name without its ending."""

    def __init__(self, rows: Sequence[ImageRow]) -> None:
        self.numbers = {str(row.number) for row in rows}
        self.paths: dict[str, list[tuple[list[str], int]]] = {}
        for row in paced(rows):
            parts = _parts(row.file)
            for name in {parts[-1], parts[-1].rpartition(".")[0] or parts[-1]}:
                self.paths.setdefault(name, []).append((parts, row.number))

    def images(self, head: str, cell: str) -> list[int]:
        """Their numbers; none, or several where the name does not tell them apart."""
        cell = cell.strip()
        if head == NUMBER and cell in self.numbers:
            return [int(cell)]
        parts = _parts(cell)
        known = self.paths.get(parts[-1], []) if cell else []
        before = parts[:-1]
        near = [number for path, number in known if not before or path[:-1][-len(before) :] == before]
        if len(near) < 2:
            return near
        exact = [number for path, number in known if number in near and path[-1] == parts[-1]]
        return exact or near


def _parts(path: str) -> list[str]:
    """Folders and name, whichever way their slashes lean."""
    return path.replace("\\", "/").removeprefix("./").split("/")
