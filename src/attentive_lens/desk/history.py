"""Undo as a list of immutable states: undoing shows the one before again."""

from __future__ import annotations

from typing import Generic, TypeVar

S = TypeVar("S")


class History(Generic[S]):
    """States in the order they came, each with the words for what led to it.

    Parameters
    ----------
    first : S
        Where it starts; states are never changed in place.
    """

    def __init__(self, first: S) -> None:
        self._states: list[tuple[str, S]] = [("", first)]
        self._at = 0

    @property
    def state(self) -> S:
        """The state in force."""
        return self._states[self._at][1]

    @property
    def last(self) -> str:
        """What `undo` would take back; an empty word if nothing."""
        return self._states[self._at][0]

    @property
    def before(self) -> S:
        """The state `undo` would go back to."""
        return self._states[max(0, self._at - 1)][1]

    @property
    def after(self) -> S:
        """The state `redo` would go forward to."""
        return self._states[min(len(self._states) - 1, self._at + 1)][1]

    @property
    def next(self) -> str:
        """What `redo` would do again; an empty word if nothing."""
        return self._states[self._at + 1][0] if self._at + 1 < len(self._states) else ""

    def add(self, summary: str, state: S) -> None:
        """A new state; what was undone before is forgotten."""
        del self._states[self._at + 1 :]
        self._states.append((summary, state))
        self._at += 1

    def undo(self) -> str:
        """Go back one state; what was taken back, or an empty word at the first."""
        summary = self.last
        self._at = max(0, self._at - 1)
        return summary

    def redo(self) -> str:
        """Go forward one state; what was done again, or an empty word at the last."""
        summary = self.next
        self._at = min(len(self._states) - 1, self._at + 1)
        return summary
