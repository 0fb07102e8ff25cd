"""What can be tried on an image by hand: each change with its knobs."""

from __future__ import annotations

from dataclasses import dataclass

MIX = "mix"
"""The change that takes another image besides."""


@dataclass(frozen=True)
class Knob:
    """A setting of a change: its name, words, least and greatest value, and where it begins."""

    name: str
    words: str
    low: float
    high: float
    start: float


@dataclass(frozen=True)
class Way:
    """A change: its name, words, knobs, and whether it has a place that is dragged on the picture."""

    name: str
    words: str
    knobs: tuple[Knob, ...]
    placed: bool = False


_SIZE = Knob("side", "side", 0.05, 1.0, 0.3)
WAYS = (
    Way(
        "cover",
        "cover with the mean colour",
        (Knob("side", "height", 0.02, 1.0, 0.3), Knob("across", "width", 0.02, 1.0, 0.3)),
        placed=True,
    ),
    Way("blur", "blur a square", (_SIZE, Knob("width", "how much", 0.01, 0.2, 0.06)), placed=True),
    Way(
        "brush",
        "paint a disc",
        (
            Knob("radius", "radius", 0.02, 0.5, 0.12),
            Knob("red", "red", 0, 1, 0.8),
            Knob("green", "green", 0, 1, 0.8),
            Knob("blue", "blue", 0, 1, 0.8),
        ),
        placed=True,
    ),
    Way(
        "clone",
        "paint with another place",
        (
            Knob("radius", "radius", 0.02, 0.5, 0.12),
            Knob("from_row", "from, down", 0, 1, 0.5),
            Knob("from_column", "from, right", 0, 1, 0.5),
        ),
        placed=True,
    ),
    Way(MIX, "mix with another image", (Knob("share", "share", 0, 1, 0.4),)),
    Way("translate", "move", (Knob("down", "down", -0.5, 0.5, 0.0), Knob("across", "right", -0.5, 0.5, 0.1))),
    Way("rotate", "rotate", (Knob("degrees", "degrees", -180, 180, 15),)),
    Way("scale", "scale", (Knob("factor", "times", 0.3, 3.0, 1.2),)),
    Way("brighten", "brighten", (Knob("factor", "times", 0.2, 2.5, 1.2),)),
    Way("noise", "add noise", (Knob("deviation", "how much", 0, 0.5, 0.08),)),
    Way("denoise", "median of a window", (Knob("window", "pixels", 1, 9, 3),)),
)
"""What can be tried, in the order of the list."""
