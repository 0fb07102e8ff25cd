"""One photograph of the sampling tape: a grain, what lies about it, the lamp, the lens and the camera."""

from __future__ import annotations

from dataclasses import dataclass
from functools import lru_cache

import numpy as np
from numpy.typing import NDArray
from scipy.ndimage import gaussian_filter

from attentive_lens.demo.grains import TYPES, Drawn, Plane, Pose, Random, grid

GRAIN, MARK, OTHER_GRAIN = 1, 2, 4
"""Bits of a mask: the named grain, the technician's mark, a second grain."""

FUCHSIN = np.array([0.30, 1.20, 0.62], np.float32)
SAFRANIN = np.array([0.16, 0.95, 0.80], np.float32)
UNSTAINED = np.array([0.35, 0.62, 1.05], np.float32)
GRIME = np.array([0.75, 0.90, 1.05], np.float32)


@dataclass(frozen=True)
class Mark:
    """A technician's ink dot.

    Attributes
    ----------
    x, y : float
        Centre as a fraction of the side, 0–1 from the upper left corner.
    absorbance : tuple of 3 floats
        Light taken from red, green and blue; blue ink by default.
    radius : float
        Fraction of the side.
    """

    x: float = 0.14
    y: float = 0.86
    absorbance: tuple[float, float, float] = (1.9, 1.45, 0.45)
    radius: float = 0.062


@dataclass(frozen=True)
class Photograph:
    """A picture (side×side×3 uint8, RGB) and its mask (side×side uint8, bits as above)."""

    pixels: NDArray[np.uint8]
    mask: NDArray[np.uint8]


def photograph(
    kind: str, random: Random, side: int = 64, mark: Mark | None = None, blur: float | None = None
) -> Photograph:
    """Take one photograph of a grain.

    Parameters
    ----------
    kind : str
        A name of `TYPES`.
    random : numpy.random.Generator
        Decides everything that varies.
    side : int
        Pixels of the square picture.
    mark : Mark or None
        The ink dot to put on it.
    blur : float or None
        Standard deviation of the focus blur in pixels; drawn (mostly sharp) if None.

    Returns
    -------
    Photograph
    """
    pose = Pose(
        x=side * random.uniform(0.38, 0.62),
        y=side * random.uniform(0.38, 0.62),
        radius=side * random.uniform(0.245, 0.335),
        turn=random.uniform(0, 2 * np.pi),
        tilt=random.uniform(-0.75, 0.75),
        spin=random.uniform(0, 2 * np.pi),
    )
    mask = np.zeros((side, side), np.uint8)
    light = lamp(side, random)
    stain = stain_of(random)
    if random.random() < 0.13:
        angle = random.uniform(0, 2 * np.pi)
        far = pose.radius * random.uniform(1.75, 2.3)
        other = Pose(
            pose.x + far * np.cos(angle),
            pose.y + far * np.sin(angle),
            pose.radius * random.uniform(0.75, 1.1),
            random.uniform(0, 2 * np.pi),
            random.uniform(-0.7, 0.7),
            random.uniform(0, 2 * np.pi),
        )
        second = str(random.choice(sorted(TYPES)))
        add_grain(light, mask, second, other, random, stain_of(random), OTHER_GRAIN)
    add_debris(light, random)
    add_grain(light, mask, kind, pose, random, stain, GRAIN)
    if random.random() < 0.12:
        _add_bubble(light, random)
    if mark is not None:
        _add_mark(light, mask, mark, random)
    if blur is None:
        blur = float(np.clip(random.gamma(2.2, 0.17), 0.15, 1.3))
    picture = gaussian_filter(light, (0, blur * side / 64, blur * side / 64), truncate=3)
    picture *= 255
    picture += camera_noise(picture.shape, random) * np.float32(255 * random.uniform(0.006, 0.016))
    pixels = np.clip(picture + np.float32(0.5), 0, 255).astype(np.uint8)
    return Photograph(np.ascontiguousarray(pixels.transpose(1, 2, 0)), mask)


def _halve(fine: Plane) -> Plane:
    """Mean over blocks of 2×2 pixels of a plane; slices, for a reduction over two axes takes five times as long."""
    rows = fine[::2] + fine[1::2]
    return (rows[:, ::2] + rows[:, 1::2]) * np.float32(0.25)


def camera_noise(shape: tuple[int, ...], random: Random) -> Plane:
    """Noise of mean 0 and deviation 1: the sum of two even draws, at a third of the cost of normal ones."""
    drawn = random.integers(0, 256, (2, *shape), np.uint8)
    noise = np.add(drawn[0], drawn[1], dtype=np.float32)
    noise -= 255
    noise *= np.float32(1 / 104.5)
    return noise


def stain_of(random: Random) -> Plane:
    """Absorbance of the stain per channel: fuchsin mostly, some safranin, some grains that took little."""
    mix = random.beta(1.2, 2.6)
    pale = 0.75 * random.beta(1.0, 5.0)
    strength = random.uniform(0.85, 1.45)
    colour = (1 - pale) * ((1 - mix) * FUCHSIN + mix * SAFRANIN) + pale * UNSTAINED
    return (strength * colour).astype(np.float32)


@lru_cache(maxsize=8)
def _ramp(size: int, coarse: int) -> Plane:
    """Weights, size×coarse, that interpolate a coarse row of numbers smoothly to a fine one."""
    place = (np.arange(size) + 0.5) / size * (coarse - 1)
    weights = np.exp(-(((place[:, None] - np.arange(coarse)) / 0.6) ** 2))
    weights[weights < 1e-6] = 0  # denormal numbers make a product ten times slower
    return (weights / weights.sum(axis=1, keepdims=True)).astype(np.float32)


def _clouds(size: int, coarse: int, random: Random, *window: int) -> Plane:
    """Smooth random field, mean about 0 and deviation about 1: size×size, or its window of rows and columns."""
    top, bottom, left, right = window or (0, size, 0, size)
    ramp = _ramp(size, coarse)
    seeds = random.standard_normal((coarse, coarse), dtype=np.float32)
    field: Plane = (ramp[top:bottom] @ seeds @ ramp[left:right].T * np.float32(1.6)).astype(np.float32)
    return field


def lamp(size: int, random: Random) -> Plane:
    """Light of the empty slide, 3×size×size, about 0.88: tint, uneven lamp, dark corners, tape."""
    tint = random.uniform(0.83, 0.93) * np.array([1.0, random.uniform(0.955, 0.985), random.uniform(0.93, 0.985)])
    x: Plane = np.linspace(-1, 1, size).astype(np.float32)
    dim = random.uniform(0.01, 0.05)
    along = x * float(random.normal(0, 0.025)) - dim * x**2
    down = x * float(random.normal(0, 0.025)) - dim * x**2
    field: Plane = 1 + along[None, :] + down[:, None]
    field = field + 0.012 * _clouds(size, 9, random)
    return field * tint.astype(np.float32)[:, None, None]


def add_grain(
    light: Plane, mask: NDArray[np.uint8], kind: str, pose: Pose, random: Random, stain: Plane, bit: int
) -> None:
    """Let the light pass through a grain, drawn at twice the size within its own window."""
    side = light.shape[1]
    reach = pose.radius * 1.3
    top, bottom = max(0, int(pose.y - reach)), min(side, int(pose.y + reach) + 1)
    left, right = max(0, int(pose.x - reach)), min(side, int(pose.x + reach) + 1)
    if top >= bottom or left >= right:
        return
    fine = Pose(2 * (pose.x - left), 2 * (pose.y - top), 2 * pose.radius, pose.turn, pose.tilt, pose.spin)
    drawn: Drawn = TYPES[kind](*grid(2 * (bottom - top), 2 * (right - left), fine), fine, random)
    texture = 1 + 0.10 * _clouds(2 * side, 16, random, 2 * top, 2 * bottom, 2 * left, 2 * right)
    dark = np.maximum(drawn.absorbance * texture, np.float32(-0.10))
    for plane, absorbance in zip(light, stain, strict=True):
        plane[top:bottom, left:right] *= _halve(np.exp(dark * -absorbance))
    m = drawn.mask
    seen = m[::2, ::2] | m[1::2, ::2] | m[::2, 1::2] | m[1::2, 1::2]
    mask[top:bottom, left:right] |= seen.astype(np.uint8) * np.uint8(bit)


def add_debris(light: Plane, random: Random) -> None:
    """Specks and now and then a fibre."""
    size = light.shape[1]
    grime = np.zeros((size, size), np.float32)
    for _ in range(random.poisson(3.2)):
        x, y = random.uniform(0, size, 2)
        width = random.gamma(2.0, 0.010) * size + 0.4
        reach = int(3 * width) + 2
        top, left = max(0, int(y) - reach), max(0, int(x) - reach)
        rows = np.arange(top, min(size, int(y) + reach), dtype=np.float32) - np.float32(y)
        columns = np.arange(left, min(size, int(x) + reach), dtype=np.float32) - np.float32(x)
        lean = np.float32(random.uniform(-0.6, 0.6))
        far = (columns[None, :] + lean * rows[:, None]) ** 2 + (1.3 * rows[:, None]) ** 2
        far = far / np.float32(2 * width**2)
        speck = random.uniform(0.15, 0.9) * np.exp(-(far * far if random.random() < 0.5 else far))
        grime[top : top + len(rows), left : left + len(columns)] += speck
    if random.random() < 0.10:
        t = np.linspace(0, 1, 6 * size, dtype=np.float32)[:, None]
        ends = random.uniform(-0.1, 1.1, (3, 2)) * size
        curve = (1 - t) ** 2 * ends[0] + 2 * (t * (1 - t)) * ends[1] + t**2 * ends[2]
        places = curve.astype(int)
        inside = ((places >= 0) & (places < size)).all(axis=1)
        thread = np.zeros((size, size), np.float32)
        thread[places[inside, 1], places[inside, 0]] = 1
        grime += gaussian_filter(thread, random.uniform(0.5, 0.9)) * random.uniform(0.5, 0.9)
    light *= np.exp(-grime * GRIME[:, None, None])


def _add_bubble(light: Plane, random: Random) -> None:
    """An air bubble in the mountant: a dark ring about a bright middle."""
    size = light.shape[1]
    angle = random.uniform(0, 2 * np.pi)
    x, y = (np.array([np.cos(angle), np.sin(angle)], np.float32) * 0.46 + 0.5) * size
    radius = np.float32(random.uniform(0.05, 0.11) * size)
    place = np.arange(size, dtype=np.float32) + 0.5
    far = np.hypot(place[None, :] - x, place[:, None] - y) / radius
    ring = 0.95 * np.exp(-(((far - 0.88) / 0.14) ** 2)) + 0.12 * (far < 0.8)
    glow = 0.22 * np.exp(-((far / 0.45) ** 2)) + 0.10 * np.exp(-(((far - 1.15) / 0.08) ** 2))
    light *= np.exp(-ring) + glow


def _add_mark(light: Plane, mask: NDArray[np.uint8], mark: Mark, random: Random) -> None:
    """An ink dot with a slightly uneven rim, never twice in the same place."""
    side = light.shape[1]
    x = (mark.x + random.normal(0, 0.018)) * side
    y = (mark.y + random.normal(0, 0.018)) * side
    radius = mark.radius * random.uniform(0.85, 1.2) * side
    place = np.arange(side, dtype=np.float32) + 0.5
    across, down = place[None, :] - x, place[:, None] - y
    angle = np.arctan2(down, across)
    wobble = 1 + random.uniform(0.02, 0.07) * np.sin(random.integers(2, 5) * angle + random.uniform(0, 6))
    far = np.hypot(across, down) / (radius * wobble)
    ink = np.clip((1.15 - far) / 0.3, 0, 1) * random.uniform(0.85, 1.1)
    ink = ink * (1 - 0.18 * np.exp(-((far / 0.6) ** 2)))
    light *= np.exp(-ink.astype(np.float32) * np.array(mark.absorbance, np.float32)[:, None, None])
    mask[far < 1.15] |= MARK
