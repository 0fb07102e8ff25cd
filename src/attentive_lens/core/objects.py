"""Python's objects in a process that must not stall."""

from __future__ import annotations

import gc


def settle() -> None:
    """Clean up now, and look no more through what is then in use: later collections take milliseconds, not tenths."""
    gc.collect()
    gc.freeze()


class Same:
    """A key that stands for one object, whatever it is equal to, and keeps it: an address alone is used again.

    Parameters
    ----------
    thing : object
        May be None.
    """

    def __init__(self, thing: object) -> None:
        self.thing = thing

    def __eq__(self, other: object) -> bool:
        return isinstance(other, Same) and self.thing is other.thing

    def __hash__(self) -> int:
        return id(self.thing)
