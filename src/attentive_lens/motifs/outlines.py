"""Outlines of things: how deep every point of the plane lies inside, each with three settings from 0 to 1.

To add one: a function here and one line in `OUTLINES`.
"""

from __future__ import annotations

import math
from collections.abc import Callable

import numpy as np

from attentive_lens.motifs.patterns import Plane, Random, Settings, plane


def _polar(across: Plane, down: Plane) -> tuple[Plane, Plane]:
    return np.hypot(across, down), np.arctan2(down, across)


def _stroke(across: Plane, down: Plane, a: tuple[float, float], b: tuple[float, float], half: float) -> Plane:
    """A straight line with round ends: half its width less the distance to it."""
    dx, dy = b[0] - a[0], b[1] - a[1]
    at = np.clip(((across - a[0]) * dx + (down - a[1]) * dy) / (dx * dx + dy * dy + 1e-9), 0, 1)
    return plane(half - np.hypot(across - a[0] - at * dx, down - a[1] - at * dy))


def ellipse(across: Plane, down: Plane, settings: Settings, form: Random) -> Plane:
    """How round."""
    del form
    ratio = 0.35 + 0.65 * settings[0]
    return plane((1 - np.hypot(across, down / ratio)) * ratio)


def polygon(across: Plane, down: Plane, settings: Settings, form: Random) -> Plane:
    """How many corners, how rounded, how wide."""
    del form
    corners, down = 3 + int(settings[0] * 5.99), down / (0.6 + 0.4 * settings[2])
    distance, angle = _polar(across, down)
    sector = 2 * math.pi / corners
    sharp = np.cos((angle + math.pi) % sector - sector / 2) * distance
    soft = 0.5 * settings[1]
    return plane(math.cos(sector / 2) * (1 - soft) + soft * 0.9 - (1 - soft) * sharp - soft * distance)


def star(across: Plane, down: Plane, settings: Settings, form: Random) -> Plane:
    """How many points, how deep, how sharp."""
    del form
    points = 3 + int(settings[0] * 6.99)
    distance, angle = _polar(across, down)
    wave = np.abs(((angle * points / math.pi) % 2) - 1) ** (0.6 + 1.5 * settings[2])
    return plane(1 - (0.25 + 0.5 * settings[1]) * (1 - wave) - distance)


def petals(across: Plane, down: Plane, settings: Settings, form: Random) -> Plane:
    """How many lobes, how deep."""
    del form
    distance, angle = _polar(across, down)
    depth = 0.1 + 0.3 * settings[1]
    return plane(1 - depth + depth * np.cos(angle * (2 + int(settings[0] * 6.99))) - distance)


def blob(across: Plane, down: Plane, settings: Settings, form: Random) -> Plane:
    """An outline without a rule: how uneven, how fine."""
    distance, angle = _polar(across, down)
    edge = np.full(distance.shape, 0.72, np.float32)
    for k in range(2, 8):
        size = (0.06 + 0.18 * settings[0]) * form.normal() / (k - 1) ** (1.4 - settings[1])
        edge += size * np.cos(k * angle + form.uniform(0, 2 * math.pi))
    return plane(edge - distance)


def burr(across: Plane, down: Plane, settings: Settings, form: Random) -> Plane:
    """A body with thorns: how many, how long, how thin."""
    del form
    distance, angle = _polar(across, down)
    count, length = 9 + int(settings[0] * 16), 0.12 + 0.3 * settings[1]
    thorn = np.abs(np.cos(angle * count / 2)) ** (3 + 12 * settings[2])
    return plane(1 - length + length * thorn - distance)


def gear(across: Plane, down: Plane, settings: Settings, form: Random) -> Plane:
    """Square teeth: how many, how long, and a hole."""
    del form
    distance, angle = _polar(across, down)
    tooth = np.tanh(5 * np.cos(angle * (5 + int(settings[0] * 9))))
    edge = 0.85 + (0.05 + 0.1 * settings[1]) * tooth - distance
    return plane(np.minimum(edge, distance - 0.4 * settings[2]))


def ring(across: Plane, down: Plane, settings: Settings, form: Random) -> Plane:
    """How thick, how round."""
    del form
    distance = np.hypot(across, down / (0.5 + 0.5 * settings[1]))
    half = 0.08 + 0.2 * settings[0]
    return plane(half - np.abs(distance - 1 + half))


def crescent(across: Plane, down: Plane, settings: Settings, form: Random) -> Plane:
    """How much is cut away, and by how large a disc."""
    del form
    size = 0.6 + 0.5 * settings[1]
    off = 0.35 + 0.6 * settings[0]
    return plane(np.minimum(1 - np.hypot(across, down), np.hypot(across - off, down) - size))


def cross(across: Plane, down: Plane, settings: Settings, form: Random) -> Plane:
    """How many arms, how thick, how unequal."""
    arms, half = 3 + int(settings[0] * 3.99), 0.1 + 0.15 * settings[1]
    field = np.full(across.shape, -9, np.float32)
    for k in range(arms):
        angle, long = 2 * math.pi * k / arms, 1 - half - 0.5 * settings[2] * float(form.uniform())
        field = np.maximum(field, _stroke(across, down, (0, 0), (long * math.cos(angle), long * math.sin(angle)), half))
    return field


def bar(across: Plane, down: Plane, settings: Settings, form: Random) -> Plane:
    """How thick, how square its ends."""
    del form
    half = 0.1 + 0.25 * settings[0]
    if settings[1] > 0.5:
        return plane(np.minimum(1 - np.abs(across), half - np.abs(down)))
    return _stroke(across, down, (-1 + half, 0), (1 - half, 0), half)


def frame(across: Plane, down: Plane, settings: Settings, form: Random) -> Plane:
    """A box: its proportions, how thick its walls, filled where they are thick."""
    del form
    edge = np.minimum(0.85 - np.abs(across), 0.85 * (0.4 + 0.6 * settings[0]) - np.abs(down))
    wall = 0.08 + 0.14 * settings[1]
    return plane(edge if settings[2] > 0.5 else np.minimum(edge, wall - edge))


def bow(across: Plane, down: Plane, settings: Settings, form: Random) -> Plane:
    """A bent rod: how thick, how far it goes round."""
    del form
    distance, angle = _polar(across, down)
    half, around = 0.1 + 0.15 * settings[0], 0.7 + 1.9 * settings[1]
    inside = half - np.abs(distance - 1 + half)
    ends = np.array([-around, around])
    caps = [half - np.hypot(across - (1 - half) * math.cos(a), down - (1 - half) * math.sin(a)) for a in ends]
    body = np.where(np.abs(angle) < around, inside, np.float32(-9))
    return plane(np.maximum(body, np.maximum(*caps)))


def beads(across: Plane, down: Plane, settings: Settings, form: Random) -> Plane:
    """Discs in a row: how many, how bent, how unequal."""
    count, bend = 2 + int(settings[0] * 4.99), 0.7 * settings[1]
    field = np.full(across.shape, -9, np.float32)
    radius = 1 / count
    for k in range(count):
        x = -1 + (2 * k + 1) * radius
        size = radius * (1 - 0.5 * settings[2] * float(form.uniform()))
        field = np.maximum(field, size * 1.1 - np.hypot(across - x, down - bend * (x * x - 0.4)))
    return field.astype(np.float32)


def cluster(across: Plane, down: Plane, settings: Settings, form: Random) -> Plane:
    """Discs in a heap: how many, how large, how unequal."""
    field = np.full(across.shape, -9, np.float32)
    for _ in range(3 + int(settings[0] * 5.99)):
        angle, off = form.uniform(0, 2 * math.pi), 0.65 * math.sqrt(form.uniform())
        size = (0.2 + 0.2 * settings[1]) * (1 - 0.6 * settings[2] * form.uniform())
        field = np.maximum(field, size - np.hypot(across - off * math.cos(angle), down - off * math.sin(angle)))
    return field.astype(np.float32)


def spiral(across: Plane, down: Plane, settings: Settings, form: Random) -> Plane:
    """How many turns, how thick."""
    del form
    distance, angle = _polar(across, down)
    turns = 1 + 2 * settings[0]
    wave = np.cos(angle - 2 * math.pi * turns * distance)
    half = 0.25 + 0.5 * settings[1]
    return plane(np.minimum((wave - 1 + 2 * half - half) / (2 * math.pi * turns), 1 - distance))


def drop(across: Plane, down: Plane, settings: Settings, form: Random) -> Plane:
    """One end round, one pointed: how thick, how pointed."""
    del form
    at = np.clip((across + 1) / 2, 1e-4, 1)
    width = (0.5 + 0.4 * settings[0]) * at ** (0.7 + 0.8 * settings[1]) * np.sqrt(np.clip(1 - at, 0, 1)) * 1.6
    return plane(np.where(np.abs(across) < 1, width - np.abs(down), -np.abs(across) + 0.9))


def strokes(across: Plane, down: Plane, settings: Settings, form: Random) -> Plane:
    """Lines from place to place: how many, how thick, whether each begins where the last one ended."""
    half, field = 0.07 + 0.1 * settings[1], np.full(across.shape, -9, np.float32)
    places = form.uniform(-0.85, 0.85, (12, 2))
    for k in range(3 + int(settings[0] * 3.99)):
        a, b = (places[k], places[k + 1]) if settings[2] > 0.4 else (places[k], places[k + 6])
        field = np.maximum(field, _stroke(across, down, (a[0], a[1]), (b[0], b[1]), half))
    return field


def twig(across: Plane, down: Plane, settings: Settings, form: Random) -> Plane:
    """A line with side lines: how many, at what angle, how thick."""
    half, angle = 0.05 + 0.08 * settings[2], 0.5 + 0.8 * settings[1]
    field = _stroke(across, down, (-0.95, 0), (0.95, 0), half)
    count = 2 + int(settings[0] * 3.99)
    for k in range(count):
        x, long = -0.7 + 1.3 * k / count, (0.9 - 0.6 * k / count) * (0.7 + 0.3 * form.uniform())
        for side in (-1, 1):
            end = (x + long * math.cos(angle), side * long * math.sin(angle))
            field = np.maximum(field, _stroke(across, down, (x, 0), end, half * 0.8))
    return field


OUTLINES: dict[str, Callable[[Plane, Plane, Settings, Random], Plane]] = {
    outline.__name__: outline
    for outline in (
        *(ellipse, polygon, star, petals, blob, burr, gear, ring, crescent, cross, bar, frame, bow, beads, cluster),
        *(spiral, drop, strokes, twig),
    )
}
"""Each: coordinates, in which the thing fills about -1 to 1, its settings, and a generator that is the same for all
pictures of a kind → H×W float32: about the distance to the edge, above 0 inside."""
