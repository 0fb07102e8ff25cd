"""Undo: a list of immutable states for each thing that is changed, and one timeline over all of them."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import Generic, TypeVar

from attentive_lens.desk.observing import Signal

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

    def map(self, change: Callable[[S], S]) -> None:
        """Change every state alike: what somebody else did meanwhile is in none of the steps."""
        self._states = [(summary, change(state)) for summary, state in self._states]


@dataclass(frozen=True)
class Step:
    """Something that was done.

    Attributes
    ----------
    summary : str
        What, in words that go after «Taken back:».
    back, forth : callable
        Take it back, do it again; whether that could be done: if not, they have said why.
    """

    summary: str
    back: Callable[[], bool]
    forth: Callable[[], bool]


class Timeline:
    """What was done in a workspace, whatever it was done to, in the order it was done.

    Attributes
    ----------
    changed : Signal
        Something was done, taken back or done again.
    """

    def __init__(self) -> None:
        self.changed = Signal()
        self._done: list[Step] = []
        self._undone: list[Step] = []

    @property
    def last(self) -> str:
        """What `undo` would take back; an empty word if nothing."""
        return self._done[-1].summary if self._done else ""

    @property
    def next(self) -> str:
        """What `redo` would do again; an empty word if nothing."""
        return self._undone[-1].summary if self._undone else ""

    def add(self, step: Step) -> None:
        """Something was done; what was taken back before cannot be done again."""
        self._done.append(step)
        self._undone.clear()
        self.changed.emit()

    def undo(self) -> str:
        """Take the last step back; what it was, or an empty word if there is none or it could not be done."""
        return self._move(self._done, self._undone, lambda step: step.back())

    def redo(self) -> str:
        """Do the step taken back last again; what it was, or an empty word."""
        return self._move(self._undone, self._done, lambda step: step.forth())

    def _move(self, out: list[Step], into: list[Step], go: Callable[[Step], bool]) -> str:
        if not out or not go(out[-1]):
            return ""
        step = out.pop()
        into.append(step)
        self.changed.emit()
        return step.summary
