"""Where plates stand: the longest way is the rail, other branches are raised tracks, short cuts arch above them.

Everything is counted in columns and lanes; the bench turns them into pixels.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import TypeAlias

from attentive_lens.window.bench.plates import Plate

Edge: TypeAlias = tuple[int, int]
"""Places of a source and of the plate it feeds."""


@dataclass(frozen=True)
class Layout:
    """Places of a network's plates.

    Attributes
    ----------
    columns, lanes : tuple of int
        Of each plate; lane 0 is the rail, higher ones are raised.
    arches : mapping
        Short cuts, which pass above plates of their lane, each with its level from 1.
    column_count, lane_count, level_count : int
        How many there are.
    """

    columns: tuple[int, ...]
    lanes: tuple[int, ...]
    arches: dict[Edge, int]
    column_count: int
    lane_count: int
    level_count: int


def layout_of(plates: Sequence[Plate]) -> Layout:
    """Columns by the longest way from the image, lanes so that no two branches share a stretch of one."""
    columns: list[int] = []
    for plate in plates:
        columns.append(1 + max((columns[source] for source in plate.sources), default=-1))
    consumers: list[list[int]] = [[] for _ in plates]
    for place, plate in enumerate(plates):
        for source in plate.sources:
            consumers[source].append(place)
    lanes = _lanes(plates, columns, consumers)
    arches = _arches(plates, columns, lanes)
    return Layout(
        tuple(columns),
        tuple(lanes),
        arches,
        max(columns, default=0) + 1,
        max(lanes, default=0) + 1,
        max(arches.values(), default=0),
    )


def _lanes(plates: Sequence[Plate], columns: Sequence[int], consumers: Sequence[Sequence[int]]) -> list[int]:
    lanes = [-1] * len(plates)
    place = len(plates) - 1
    while place >= 0:
        lanes[place] = 0
        sources = plates[place].sources
        place = max(sources, key=lambda source: columns[source]) if sources else -1
    if plates:
        lanes[0] = 0
    taken: dict[int, list[tuple[int, int]]] = {}
    for first in range(len(plates)):
        if lanes[first] >= 0:
            continue
        chain = [first]
        while (following := [k for k in consumers[chain[-1]] if lanes[k] < 0 and k not in chain]) != []:
            chain.append(following[0])
        begin = max((columns[source] for source in plates[first].sources), default=columns[first] - 1) + 1
        ends = [columns[k] - 1 for k in consumers[chain[-1]]]
        end = max(max(ends, default=0), columns[chain[-1]])
        lane = 1
        while any(begin <= b and a <= end for a, b in taken.get(lane, [])):
            lane += 1
        taken.setdefault(lane, []).append((begin, end))
        for place in chain:
            lanes[place] = lane
    return lanes


def _arches(plates: Sequence[Plate], columns: Sequence[int], lanes: Sequence[int]) -> dict[Edge, int]:
    """Ways along one lane past its plates: the shorter, the lower, and no two of a level overlap."""
    standing = {(columns[place], lanes[place]) for place in range(len(plates))}
    spans = [
        (source, place)
        for place, plate in enumerate(plates)
        for source in plate.sources
        if lanes[source] == lanes[place]
        and any((column, lanes[place]) in standing for column in range(columns[source] + 1, columns[place]))
    ]
    spans.sort(key=lambda edge: columns[edge[1]] - columns[edge[0]])
    levels: dict[int, list[tuple[int, int]]] = {}
    arches: dict[Edge, int] = {}
    for edge in spans:
        a, b = columns[edge[0]], columns[edge[1]]
        level = 1
        while any(a < d and c < b for c, d in levels.get(level, [])):
            level += 1
        levels.setdefault(level, []).append((a, b))
        arches[edge] = level
    return arches
