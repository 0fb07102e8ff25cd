"""The request that takes a table in beside the images."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from typing import ClassVar

from attentive_lens.core.values import spec
from attentive_lens.desk.requests.base import Request


@dataclass(frozen=True)
class Column:
    """What a table tells of the images.

    Attributes
    ----------
    name : str
        As the table's first line has it, in small letters.
    images, different : int
        Images of which it says anything, and how many different words it says.
    most : tuple of str
        The most frequent words, five at most.
    """

    name: str
    images: int
    different: int
    most: tuple[str, ...]


@dataclass(frozen=True)
class ColumnsKnown:
    """All columns of a workspace, and what was said of the table just taken.

    Attributes
    ----------
    columns : tuple of Column
        In the order of their names.
    tables : tuple of str
        The tables they come from.
    sentences : tuple of str
        How the table and the images met; none where none was taken.
    """

    columns: tuple[Column, ...]
    tables: tuple[str, ...]
    sentences: tuple[str, ...]

    def words(self) -> Iterator[str]:
        """Sentences, then a line a column."""
        yield from self.sentences
        if not self.columns:
            yield "No table was taken in."
        for each in self.columns:
            more = ", …" if each.different > len(each.most) else ""
            most = ", ".join(each.most)
            yield f"{each.name}: {each.different} different words for {each.images} images: {most}{more}"


@dataclass(frozen=True)
class TakeColumns(Request[ColumnsKnown]):
    """Take in a table beside the images, joined by their names: patient, device, day. List the columns without one."""

    result: ClassVar[type[object]] = ColumnsKnown
    task: ClassVar[str] = "columns.take_columns"
    arguments: ClassVar[tuple[str, ...]] = ("table",)
    workspace: str
    table: str = spec(
        "", names="table", meaning="Table of text (columns parted by commas, semicolons or tabs) or Parquet."
    )
    by: str = spec("", meaning="Its column that names the images; the one that does if left out.")
    forget: bool = spec(False, meaning="Forget all columns first.")
