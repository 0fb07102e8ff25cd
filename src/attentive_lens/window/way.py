"""The way that was walked through the window, kept in both directions."""

from __future__ import annotations

from dataclasses import dataclass, field

from attentive_lens.core.records import PlainTable

MOST = 200
"""Places that are kept."""


@dataclass(frozen=True)
class Place:
    """A stage, and where in it one was."""

    stage: str
    bookmark: PlainTable = field(default_factory=dict)


class Way:
    """Places behind and ahead of where one is."""

    def __init__(self) -> None:
        self.behind: list[Place] = []
        self.ahead: list[Place] = []

    def leave(self, place: Place) -> None:
        """Go somewhere new from a place: what lay ahead of it is forgotten, and no place stands twice in a row."""
        self.ahead.clear()
        if not self.behind or self.behind[-1] != place:
            self.behind = [*self.behind, place][-MOST:]

    def step(self, here: Place, forward: bool = False) -> Place | None:
        """The place before, or the one come back from; None where there is none. ``here`` can be come back to."""
        out_of, into = (self.ahead, self.behind) if forward else (self.behind, self.ahead)
        while out_of and out_of[-1] == here:
            out_of.pop()
        if not out_of:
            return None
        into.append(here)
        return out_of.pop()
