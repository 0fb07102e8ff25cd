"""What the parts of the catalogue that have files of their own share."""

from __future__ import annotations

import sqlite3
from collections.abc import Callable
from contextlib import AbstractContextManager
from typing import ClassVar


class CataloguePart:
    """Reads and writes some tables of the catalogue.

    Parameters
    ----------
    opened : callable
        Gives the catalogue's database for one transaction.
    keep_copy : callable
        Writes the catalogue's copy anew.

    Attributes
    ----------
    tables_held : tuple of str
        Those it has for itself.
    """

    tables_held: ClassVar[tuple[str, ...]]

    def __init__(
        self, opened: Callable[[], AbstractContextManager[sqlite3.Connection]], keep_copy: Callable[[], None]
    ) -> None:
        self._opened, self._keep_copy = opened, keep_copy

    def forget(self) -> None:
        """All that was taken, and from where."""
        with self._opened() as base:
            self._empty(base)
        self._keep_copy()

    def _empty(self, base: sqlite3.Connection) -> None:
        for table in self.tables_held:
            base.execute(f"DELETE FROM {table}")
