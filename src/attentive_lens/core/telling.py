"""What a result says of itself, for whoever shows it: sentences, and tables between them."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from typing import Protocol, TypeAlias


@dataclass(frozen=True)
class Rows:
    """A table: the heads of its columns, and its cells row by row."""

    heads: tuple[str, ...]
    cells: tuple[tuple[str, ...], ...]


Words: TypeAlias = Iterator[str | Rows]


class Telling(Protocol):
    """A result that says itself."""

    def words(self) -> Words:
        """Sentences, and tables between them."""
        ...


def counted(number: int, one: str, more: str) -> str:
    """A number with its noun: «1 line names», «7 lines name»."""
    return f"{number} {one if number == 1 else more}"


def signed(value: float, form: str) -> str:
    """A number with its sign, a minus being no hyphen: «−6.0»; ``form`` as «.1f»."""
    return f"{value:+{form}}".replace("-", "\u2212")
