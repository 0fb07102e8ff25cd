"""Patterns of surfaces: fields over a plane, each with three settings from 0 to 1.

To add one: a function here and one line in `PATTERNS`.
"""

from __future__ import annotations

import math
from collections.abc import Callable
from dataclasses import dataclass
from typing import TypeAlias

import numpy as np
from numpy.typing import NDArray
from scipy.spatial import cKDTree

Plane: TypeAlias = NDArray[np.float32]
Random: TypeAlias = np.random.Generator
Settings: TypeAlias = tuple[float, float, float]


@dataclass(frozen=True)
class Ground:
    """The plane a pattern is drawn on.

    Attributes
    ----------
    across, down : ndarray, H×W float32
        Where every pixel lies in the pattern's own plane; about -1 to 1 within the picture.
    pixels : float, above 0
        Pixels of the picture that one unit of the plane is long.
    turn : float, radians
        How the plane lies in the picture.
    """

    across: Plane
    down: Plane
    pixels: float
    turn: float


def plane(values: object) -> Plane:
    """Values as float32."""
    return np.asarray(values, np.float32)


def _between(low: float, high: float, at: float) -> float:
    """``at`` from 0 to 1 as a value from low to high, in equal factors."""
    return float(low * (high / low) ** at)


def _even(field: Plane) -> Plane:
    """Mean 0, deviation ½, and no value beyond -1 and 1."""
    spread = float(field.std()) + 1e-6
    return plane(np.clip((field - field.mean()) / (2 * spread), -1, 1))


def noise(ground: Ground, random: Random, wave: float, slope: float, ratio: float = 1, along: float = 0) -> Plane:
    """Noise with a spectrum of our choice, by way of the Fourier transform; mean 0, deviation 1.

    Parameters
    ----------
    ground : Ground
    random : Generator
    wave : float, above 0
        Longest waves, in units of the plane.
    slope : float
        Amplitude falls as frequency to this power above that of the longest waves.
    ratio : float, 1 or more
        How many times longer the waves are along the direction ``along`` (radians) than across it.
    along : float
    """
    height, width = ground.across.shape
    y, x = np.fft.fftfreq(height)[:, None], np.fft.rfftfreq(width)[None, :]
    angle = along + ground.turn
    cosine, sine = math.cos(angle), math.sin(angle)
    along_it, across_it = (x * cosine + y * sine) * ratio, y * cosine - x * sine
    frequency = np.sqrt(along_it**2 + across_it**2) * ground.pixels * wave
    amplitude = frequency**2 / (1 + frequency ** (2 + slope))
    white = np.fft.rfft2(random.standard_normal((height, width), np.float32))
    field = np.fft.irfft2(white * amplitude, s=(height, width)).astype(np.float32)
    return plane((field - field.mean()) / (field.std() + 1e-9))


def _points(ground: Ground, random: Random, spacing: float, jitter: float) -> NDArray[np.float64]:
    """Points of a lattice of triangles that covers the plane in view, each moved at random."""
    low_x, high_x = float(ground.across.min()) - spacing, float(ground.across.max()) + spacing
    low_y, high_y = float(ground.down.min()) - spacing, float(ground.down.max()) + spacing
    rows = np.arange(low_y, high_y + spacing, spacing * 0.87)
    columns = np.arange(low_x, high_x + spacing, spacing)
    x, y = np.meshgrid(columns, rows)
    x = x + (np.arange(len(rows)) % 2)[:, None] * spacing / 2 + random.uniform(0, spacing)
    places = np.stack([x.ravel(), y.ravel()], axis=1)
    return places + random.uniform(-0.5, 0.5, places.shape) * spacing * jitter


def _nearest(ground: Ground, points: NDArray[np.float64], count: int) -> tuple[Plane, NDArray[np.int64]]:
    """Distances of the nearest points to every pixel, H×W×count, and which they are."""
    places = np.stack([ground.across.ravel(), ground.down.ravel()], axis=1)
    distances, which = cKDTree(points).query(places, count)
    shape = (*ground.across.shape, count)
    return plane(distances).reshape(shape), np.asarray(which).reshape(shape)


def _warped(ground: Ground, random: Random, amount: float, wave: float) -> tuple[Plane, Plane]:
    if amount < 0.02:
        return ground.across, ground.down
    return (
        ground.across + amount * noise(ground, random, wave, 2),
        ground.down + amount * noise(ground, random, wave, 2),
    )


def plain(ground: Ground, settings: Settings, random: Random) -> Plane:
    """One value all over."""
    del settings, random
    return np.zeros(ground.across.shape, np.float32)


def clouds(ground: Ground, settings: Settings, random: Random) -> Plane:
    """Soft noise: size, roughness, how much it is drawn out."""
    size, rough, drawn = settings
    return _even(noise(ground, random, _between(0.15, 1.5, size), 3 - 2 * rough, 1 + 3 * max(0, drawn - 0.4)))


def grain(ground: Ground, settings: Settings, random: Random) -> Plane:
    """Spots of one size with edges: size, hardness, share of bright."""
    size, hard, share = settings
    field = noise(ground, random, _between(0.06, 0.5, size), 6)
    return plane(np.tanh((field + 1.6 * (share - 0.5)) * _between(0.5, 5, hard)))


def fibres(ground: Ground, settings: Settings, random: Random) -> Plane:
    """Long thin threads: thickness, length, and a second direction across the first."""
    thick, long, crossed = settings
    wave, ratio = _between(0.04, 0.2, thick), _between(4, 16, long)
    field = noise(ground, random, wave, 3, ratio)
    if crossed > 0.6:
        field = np.maximum(field, noise(ground, random, wave, 3, ratio, math.pi / 2 * crossed))
    return _even(field)


def cracks(ground: Ground, settings: Settings, random: Random) -> Plane:
    """Thin dark lines where noise changes its sign: size, width, roughness."""
    size, width, rough = settings
    field = np.abs(noise(ground, random, _between(0.15, 0.8, size), 4 - 2 * rough))
    return plane(1 - 2 * np.exp(-((field / _between(0.06, 0.4, width)) ** 2)))


def stripes(ground: Ground, settings: Settings, random: Random) -> Plane:
    """Bands: how many, how wavy, how hard their edges."""
    count, wavy, hard = settings
    across, _ = _warped(ground, random, 0.25 * wavy**2, 0.8)
    wave = np.sin(across * _between(5, 32, count) + random.uniform(0, 2 * math.pi))
    return plane(np.tanh(wave * _between(0.8, 6, hard)))


def weave(ground: Ground, settings: Settings, random: Random) -> Plane:
    """Two systems of bands that cross: how many, at what angle, how wavy."""
    count, angle, wavy = settings
    across, down = _warped(ground, random, 0.12 * wavy**2, 0.6)
    frequency, turn = _between(6, 26, count), math.pi / 2 * (0.5 + 0.5 * angle)
    other = across * math.cos(turn) + down * math.sin(turn)
    return _even(np.maximum(np.sin(across * frequency), np.sin(other * frequency)))


def checks(ground: Ground, settings: Settings, random: Random) -> Plane:
    """Fields that alternate: how many, their proportions, how wavy."""
    count, proportion, wavy = settings
    across, down = _warped(ground, random, 0.15 * wavy**2, 0.7)
    frequency = _between(4, 18, count)
    wave = np.sin(across * frequency) * np.sin(down * frequency * _between(0.4, 1, proportion))
    return plane(np.tanh(6 * wave))


def bricks(ground: Ground, settings: Settings, random: Random) -> Plane:
    """Rows of blocks with joints, each block of a shade of its own: size, proportions, width of the joints."""
    size, proportion, joint = settings
    height = _between(0.12, 0.6, size)
    width = height * _between(1, 3, proportion)
    down = ground.down / height + random.uniform(0, 1)
    row = np.floor(down)
    across = ground.across / width + 0.5 * (row % 2) + random.uniform(0, 1)
    column = np.floor(across)
    edge = np.minimum(
        np.minimum(down - row, 1 - down + row) * height, np.minimum(across - column, 1 - across + column) * width
    )
    shades = random.uniform(0.1, 0.9, 256).astype(np.float32)
    shade = shades[(row * 31 + column * 7).astype(np.int64) & 255]
    return plane(np.where(edge < _between(0.01, 0.06, joint), np.float32(-1), shade))


def cells(ground: Ground, settings: Settings, random: Random) -> Plane:
    """A net of walls around points: size, disorder, thickness of the walls."""
    size, disorder, wall = settings
    spacing = _between(0.15, 0.8, size)
    distances, _ = _nearest(ground, _points(ground, random, spacing, disorder), 2)
    gap = (distances[..., 1] - distances[..., 0]) / spacing
    return plane(np.tanh((gap / _between(0.06, 0.4, wall) - 1) * 2))


def pebbles(ground: Ground, settings: Settings, random: Random) -> Plane:
    """Domes side by side: size, disorder, how steep."""
    size, disorder, steep = settings
    spacing = _between(0.12, 0.7, size)
    distances, _ = _nearest(ground, _points(ground, random, spacing, disorder), 1)
    return _even(-((distances[..., 0] / spacing) ** _between(0.6, 3, steep)))


def patches(ground: Ground, settings: Settings, random: Random) -> Plane:
    """Flat pieces of many shades: size, disorder, how wavy their edges."""
    size, disorder, wavy = settings
    spacing = _between(0.15, 0.8, size)
    points = _points(ground, random, spacing, disorder)
    across, down = _warped(ground, random, 0.1 * wavy, 0.3)
    _, which = _nearest(Ground(across, down, ground.pixels, ground.turn), points, 1)
    return random.uniform(-1, 1, len(points)).astype(np.float32)[which[..., 0]]


def dots(ground: Ground, settings: Settings, random: Random) -> Plane:
    """Discs on a lattice: spacing, disorder, size."""
    space, disorder, size = settings
    spacing = _between(0.15, 0.7, space)
    distances, _ = _nearest(ground, _points(ground, random, spacing, disorder), 1)
    radius = spacing * (0.15 + 0.3 * size)
    return plane(np.tanh((radius - distances[..., 0]) * ground.pixels))


def loops(ground: Ground, settings: Settings, random: Random) -> Plane:
    """Rings on a lattice: spacing, disorder, size."""
    space, disorder, size = settings
    spacing = _between(0.25, 0.9, space)
    distances, _ = _nearest(ground, _points(ground, random, spacing, disorder), 1)
    radius = spacing * (0.2 + 0.25 * size)
    return plane(np.tanh((0.09 * spacing - np.abs(distances[..., 0] - radius)) * ground.pixels * 1.5))


def rings(ground: Ground, settings: Settings, random: Random) -> Plane:
    """Bands around one middle: how many, how far off it lies, how wavy."""
    count, off, wavy = settings
    across, down = _warped(ground, random, 0.1 * wavy**2, 0.6)
    distance = np.hypot(across - off, down - 0.3 * off)
    return plane(np.sin(distance * _between(6, 28, count) + random.uniform(0, 2 * math.pi)))


def rays(ground: Ground, settings: Settings, random: Random) -> Plane:
    """Sectors around one middle: how many, how far off it lies, how hard."""
    count, off, hard = settings
    angle = np.arctan2(ground.down - 0.4 * off, ground.across - 0.4 * off)
    wave = np.sin(angle * round(_between(3, 20, count)) + random.uniform(0, 2 * math.pi))
    return plane(np.tanh(wave * _between(0.8, 5, hard)))


def specks(ground: Ground, settings: Settings, random: Random) -> Plane:
    """Few small bright spots: size, how few, how soft."""
    size, few, soft = settings
    field = noise(ground, random, _between(0.05, 0.2, size), 5 - 2 * soft)
    return plane(2 / (1 + np.exp(-(field - 1 - 1.2 * few) * 4)) - 1)


PATTERNS: dict[str, Callable[[Ground, Settings, Random], Plane]] = {
    pattern.__name__: pattern
    for pattern in (
        *(plain, clouds, grain, fibres, cracks, stripes, weave, checks, bricks, cells, pebbles, patches, dots, loops),
        *(rings, rays, specks),
    )
}
"""Each: the ground, its settings and a generator → H×W float32 from -1 to 1."""
