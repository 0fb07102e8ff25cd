"""A curve from elsewhere, to be drawn beside a run's own: a CSV file with a column of epochs and one a measure."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path

from attentive_lens.core.tables import number_in, table_in
from attentive_lens.errors import BadFile
from attentive_lens.plan.measures import DRAWN, GENERATED, MEASURES

EPOCH = ("epoch", "epochs", "step")
"""What the column of epochs may be called."""
IMAGES = ("images", "samples")
"""What it may be called where images seen are counted in place of epochs."""


@dataclass(frozen=True)
class Reference:
    """A named curve, by measure.

    Attributes
    ----------
    name : str
        The file's, without its ending.
    curves : dict
        (epoch, value) pairs in the order of the epochs, by measure; accuracies from 0 to 1.
    in_images : bool
        Whether images seen stand in place of the epochs.
    """

    name: str
    curves: dict[str, tuple[tuple[float, float], ...]]
    in_images: bool = False


def read_reference(file: Path) -> Reference:
    """From a CSV file whose head names an epoch and measures, such as «epoch,accuracy,loss» or «images,bound».

    A value given as hundredths (greater than 1, of a measure that is a part) is taken as such; without a column of
    epochs rows are counted from 1.

    Raises
    ------
    BadFile
        If it cannot be read, has no column of a measure, or a value is no number; the line is named.
    """
    what = f"{file.name} is no reference curve"
    remedy = f"Name columns epoch and {', '.join(list(MEASURES)[:3])} in its first line"
    head, rows = table_in(file, what, remedy)
    known = MEASURES | DRAWN | GENERATED
    columns = {name: head.index(name) for name in known if name in head}
    if not columns:
        raise BadFile(what, f"its first line has {', '.join(head[:8]) or 'nothing'}", remedy)
    first = next((name for name in (*EPOCH, *IMAGES) if name in head), "")
    at = head.index(first) if first else None
    curves: dict[str, list[tuple[float, float]]] = {name: [] for name in columns}
    for line, row in rows.items():
        epoch = number_in(row, at, file, line) if at is not None else float(line - 1)
        for name, column in columns.items():
            if row[column].strip():
                curves[name].append((epoch, number_in(row, column, file, line)))
    ready = {}
    for name, points in curves.items():
        hundredths = known[name].is_share and any(value > 1 for _, value in points)
        ready[name] = tuple(sorted((epoch, value / 100 if hundredths else value) for epoch, value in points))
    return Reference(file.stem, ready, first in IMAGES)
