"""What somebody decided about an image, kept apart from what its source says."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, replace

from attentive_lens.core.numbering import place_of
from attentive_lens.images.outlines import Outline
from attentive_lens.workspace.rows import ImageRow

SETS = ("training", "validation", "test")
EXCLUDED = "excluded"
GONE = "gone"


@dataclass(frozen=True, slots=True)
class Correction:
    """Decisions about one image; those left None are the source's.

    Attributes
    ----------
    label : int or None
        Class number.
    set_name : str or None
        One of `SETS`, or `EXCLUDED`.
    flagged : bool
        Marked for somebody to come back to.
    outline : Outline or None
        Where the object is; an empty one says that there is none.
    """

    label: int | None = None
    set_name: str | None = None
    flagged: bool = False
    outline: Outline | None = None

    def __bool__(self) -> bool:
        """Whether anything was decided."""
        return self != NOTHING

    def applied(self, row: ImageRow) -> ImageRow:
        """A row of the catalogue as corrected; an image that is gone stays so."""
        label = row.label if self.label is None else self.label
        set_name = row.given_set if self.set_name is None or row.given_set == GONE else self.set_name
        return replace(row, label=label, given_set=set_name, flagged=self.flagged)


NOTHING = Correction()

Corrections = Mapping[int, Correction]
"""By image number; images without decisions are left out."""


def corrected(rows: list[ImageRow], corrections: Corrections) -> list[ImageRow]:
    """Rows, numbered from 1 without gaps, with the decisions applied."""
    if not corrections:
        return rows
    out = list(rows)
    for number, correction in corrections.items():
        out[place_of(number)] = correction.applied(out[place_of(number)])
    return out
