"""The last few answers a process gave itself, each under all that decides it."""

from __future__ import annotations

from collections.abc import Hashable
from typing import Generic, TypeVar

T = TypeVar("T")


class Recent(Generic[T]):
    """Answers by their keys; of more than so many the oldest are forgotten.

    A key must hold everything that decides the answer, and answers are not changed by those who get them.

    Parameters
    ----------
    most : int
        Answers remembered, 1 or more.
    """

    def __init__(self, most: int) -> None:
        self._most = most
        self._known: dict[Hashable, T] = {}

    def known(self, key: Hashable) -> T | None:
        """The answer under a key, or None."""
        return self._known.get(key)

    def keep(self, key: Hashable, answer: T) -> T:
        """Remember an answer, and give it back."""
        self._known.pop(key, None)
        self._known[key] = answer
        for oldest in list(self._known)[: -self._most]:
            self._known.pop(oldest, None)
        return answer
