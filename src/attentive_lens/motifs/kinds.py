"""Kinds of things and of materials: what all pictures of a class have in common."""

from __future__ import annotations

from dataclasses import dataclass

from attentive_lens.core.random import random_generator
from attentive_lens.motifs.outlines import OUTLINES
from attentive_lens.motifs.patterns import PATTERNS, Random, Settings

MATERIALS = 3
"""Every third kind is a material, which fills its picture; the others are things before a ground."""
LIGHTS = ("flat", "ball", "relief", "rim", "clear")
"""How a surface takes the light: evenly, as a ball, by its bumps, dark at its edge, or as stained glass."""


@dataclass(frozen=True)
class Surface:
    """What a thing looks like.

    Attributes
    ----------
    patterns : tuple of (name, settings)
        One or two of `PATTERNS`.
    joined : str
        How two become one: ``"sum"``, ``"product"`` or ``"most"``.
    hues : tuple of three floats
        Directions of colour from dark to bright, in turns.
    chroma : float, 0 or above
        How far the colours are from grey.
    loyal : float, 0 to 1
        How alike the colours of two pictures are; at 0 they are any.
    dark, bright : float, 0 to 1
        Brightness of the ends of the pattern.
    light : str
        One of `LIGHTS`.
    """

    patterns: tuple[tuple[str, Settings], ...]
    joined: str
    hues: tuple[float, float, float]
    chroma: float
    loyal: float
    dark: float
    bright: float
    light: str


@dataclass(frozen=True)
class Part:
    """An outline at its place in the thing: middle, size and turn in the thing's own measure."""

    outline: str
    settings: Settings
    form: int
    across: float
    down: float
    size: float
    turn: float


@dataclass(frozen=True)
class Thing:
    """A kind: parts with their surfaces before a ground, or one surface all over.

    Attributes
    ----------
    parts : tuple of (Part, Surface)
        None for a material.
    surface : Surface
        Of a material; of a thing that of its first part.
    upright : bool
        Whether its pictures are turned a little only, in place of any way.
    count : tuple of two ints
        How many stand in a picture.
    """

    parts: tuple[tuple[Part, Surface], ...]
    surface: Surface
    upright: bool
    count: tuple[int, int]


def _settings(random: Random) -> Settings:
    a, b, c = (float(at) for at in random.uniform(size=3))
    return a, b, c


def draw_surface(random: Random, plain: float = 0.12) -> Surface:
    """Any surface; plain is the share of those without a pattern, 0 to 1."""
    names = list(PATTERNS)
    first = names[0] if random.uniform() < plain else str(random.choice(names[1:]))
    patterns: tuple[tuple[str, Settings], ...] = ((first, _settings(random)),)
    if random.uniform() < 0.45:
        patterns += ((str(random.choice(names[1:])), _settings(random)),)
    dark, bright = sorted(random.uniform(0.05, 0.95, 2))
    if bright - dark < 0.25:
        dark, bright = max(0.05, dark - 0.2), min(0.95, bright + 0.2)
    near = random.uniform() < 0.6
    hue = random.uniform()
    others = hue + random.normal(0, 0.08, 2) if near else random.uniform(size=2)
    return Surface(
        patterns,
        str(random.choice(["sum", "product", "most"])),
        (float(hue), float(others[0]), float(others[1])),
        float(random.choice([0.02, 0.12, 0.3]) * random.uniform(0.6, 1.3)),
        float(random.choice([0.0, 0.0, 0.7, 0.95])),
        float(dark),
        float(bright),
        str(random.choice(LIGHTS)),
    )


def _draw_part(random: Random, *, first: bool) -> Part:
    outline, settings, form = str(random.choice(list(OUTLINES))), _settings(random), int(random.integers(1 << 30))
    if first:
        return Part(outline, settings, form, 0.0, 0.0, 1.0, 0.0)
    across, down = random.uniform(-0.8, 0.8, 2)
    return Part(
        outline,
        settings,
        form,
        float(across),
        float(down),
        float(random.uniform(0.25, 0.6)),
        float(random.uniform(0, 6.28)),
    )


def kind(number: int, seed: int = 1) -> Thing:
    """The kind of a number, 0 or above; the same on every machine."""
    random = random_generator(seed, "kind", number)
    if number % MATERIALS == 0:
        return Thing((), draw_surface(random, plain=0), bool(random.uniform() < 0.5), (1, 1))
    surface = draw_surface(random)
    parts = [(_draw_part(random, first=True), surface)]
    for _ in range(int(random.choice([0, 0, 1, 1, 2]))):
        parts.append((_draw_part(random, first=False), draw_surface(random)))
    count = ((1, 1), (1, 1), (1, 1), (2, 4), (5, 9))[int(random.integers(5))]
    return Thing(tuple(parts), surface, bool(random.uniform() < 0.6), count)
