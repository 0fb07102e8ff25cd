"""Pollen grains as a microscope sees them: how much light a stained, translucent body takes away.

A grain is drawn as an absorbance, so overlapping things simply add up (Beer-Lambert). Its body is a sphere
seen along one axis, with a thin, dense wall; the path of the light through that wall is longest at the rim,
which makes the dark outline. Ornament (pores, furrows, spines, net) is a density on the wall, evaluated on
the near and, fainter, on the far side of the body in the grain's own, turned frame.
"""

from __future__ import annotations

import math
from collections.abc import Callable
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

Plane = NDArray[np.float32]
Random = np.random.Generator

WALL = 0.10
"""Thickness of the wall as a fraction of the radius."""


@dataclass(frozen=True)
class Drawn:
    """A grain on its canvas.

    Attributes
    ----------
    absorbance : ndarray, H×W float32, 0 or above
        Light taken away per unit of stain.
    mask : ndarray, H×W bool
        Where the grain is.
    """

    absorbance: Plane
    mask: NDArray[np.bool_]


@dataclass(frozen=True)
class Pose:
    """Where and how a grain lies: centre and radius in pixels, in-plane turn and tilt in radians."""

    x: float
    y: float
    radius: float
    turn: float
    tilt: float
    spin: float


def grid(height: int, width: int, pose: Pose) -> tuple[Plane, Plane]:
    """Coordinates of every pixel's centre in the grain's plane, in radii, turned with it."""
    x = (np.arange(width, dtype=np.float32) + 0.5 - pose.x) / pose.radius
    y = (np.arange(height, dtype=np.float32) + 0.5 - pose.y) / pose.radius
    c, s = math.cos(pose.turn), math.sin(pose.turn)
    return x[None, :] * c + y[:, None] * s, y[:, None] * c - x[None, :] * s


def _frame(pose: Pose) -> Plane:
    """Rows are the grain's own axes seen in the plane: spin about its pole, then tilt of the pole."""
    ct, st = np.cos(pose.tilt), np.sin(pose.tilt)
    cs, ss = np.cos(pose.spin), np.sin(pose.spin)
    tilt = np.array([[1, 0, 0], [0, ct, -st], [0, st, ct]])
    spin = np.array([[cs, 0, ss], [0, 1, 0], [-ss, 0, cs]])
    return (spin @ tilt).astype(np.float32)


def _ball(
    across: Plane,
    down: Plane,
    pose: Pose,
    density: Callable[[Plane], Plane],
    content: float,
    wall: float = WALL,
) -> tuple[Plane, NDArray[np.bool_]]:
    """Absorbance of a ball of radius 1 with an ornamented wall; ``density`` takes points×3 unit vectors."""
    squared = across * across + down * down
    inside = squared < 1.0
    rho = squared[inside]
    x, y = across[inside], down[inside]
    outer = np.sqrt(1.0 - rho)
    inner = np.sqrt(np.maximum((1.0 - wall) ** 2 - rho, 0.0))
    path = outer - inner
    axes = _frame(pose)
    both = np.stack([np.concatenate([x, x]), np.concatenate([y, y]), np.concatenate([outer, -outer])], axis=1)
    near, far = np.split(density(both @ axes.T), 2)
    out = np.zeros(across.shape, np.float32)
    out[inside] = path * (near * 1.25 + (0.3 * far + 0.5)) * 1.5 + content * 2 * inner
    rim = (squared >= 1.0) & (squared < 1.4)
    out[rim] = -0.10 * np.exp(-(((np.sqrt(squared[rim]) - 1.05) / 0.05) ** 2))
    return out, inside


def _spread(count: int, random: Random, jitter: float) -> Plane:
    """Points on the unit sphere, nearly even (golden-angle spiral), each moved a little."""
    k = np.arange(count) + 0.5
    height = 1 - 2 * k / count
    angle = np.pi * (1 + 5**0.5) * k
    flat = np.sqrt(1 - height**2)
    points = np.stack([flat * np.cos(angle), height, flat * np.sin(angle)], axis=1)
    points += random.normal(0, jitter, points.shape)
    return (points / np.linalg.norm(points, axis=1, keepdims=True)).astype(np.float32)


def _pore(cosine: Plane, size: float) -> Plane:
    """Density of a thin round opening with a thickened ring about it; ``cosine`` of the angle to its centre."""
    squared = np.maximum(2 - 2 * cosine, 0)
    angle = np.sqrt(squared)
    hole = np.exp(-((squared / size**2) ** 2))
    ring = np.exp(-(((angle - 1.55 * size) / (0.5 * size)) ** 2))
    return (1.5 * ring - 0.9 * hole).astype(np.float32)


def smooth(across: Plane, down: Plane, pose: Pose, random: Random) -> Drawn:
    """A plain ball with one ringed pore."""
    size = random.uniform(0.17, 0.24)
    lean = random.uniform(0.2, 1.0)
    pole = np.array([np.sin(lean) * 0.8, np.sin(lean) * 0.6, np.cos(lean)], np.float32)
    squash = random.uniform(0.90, 1.0)

    def density(unit: Plane) -> Plane:
        return 0.75 + 1.3 * _pore(unit @ pole, size)

    dark, inside = _ball(across, down / squash, pose, density, random.uniform(0.24, 0.34), 0.08)
    return Drawn(dark, inside)


def spiny(across: Plane, down: Plane, pose: Pose, random: Random) -> Drawn:
    """A ball set with pointed spines: dots on its face, thorns on its outline."""
    points = _spread(int(random.integers(58, 92)), random, 0.05)
    length = random.uniform(0.24, 0.36)
    core = 1.0 / (1.0 + 0.62 * length)
    width = random.uniform(0.085, 0.11)

    def density(unit: Plane) -> Plane:
        nearest = (points @ unit.T).max(axis=0)
        angle2 = np.maximum(2 - 2 * nearest, 0)
        return (0.55 + 2.2 * np.exp(-angle2 / width**2)).astype(np.float32)

    dark, inside = _ball(across / core, down / core, pose, density, random.uniform(0.24, 0.34))
    seen = points @ _frame(pose)
    angles = np.linspace(-np.pi, np.pi, 361, dtype=np.float32)
    edge = seen[np.abs(seen[:, 2]) < 0.5]
    away = np.abs((angles[:, None] - np.arctan2(edge[:, 1], edge[:, 0]) + np.pi) % (2 * np.pi) - np.pi)
    tip = (1 + length) * np.hypot(edge[:, 0], edge[:, 1]) - 1
    reach = (1 + tip * np.clip(1 - away / (1.35 * width), 0, 1)).max(axis=1, initial=1)
    radius = np.hypot(across, down) / core
    thorn = (radius < np.interp(np.arctan2(down, across), angles, reach)) & ~inside
    dark[thorn] = np.maximum(dark[thorn], 0.0) + 0.62
    return Drawn(dark, inside | thorn)


def netted(across: Plane, down: Plane, pose: Pose, random: Random) -> Drawn:
    """A ball whose wall is a net of raised ridges round sunken meshes."""
    points = _spread(int(random.integers(34, 58)), random, 0.09)
    ridge = random.uniform(0.055, 0.08)

    def density(unit: Plane) -> Plane:
        near = points @ unit.T
        best = near.max(axis=0)
        near[near >= best] = -2
        gap = np.sqrt(np.maximum(2 - 2 * near.max(axis=0), 0)) - np.sqrt(np.maximum(2 - 2 * best, 0))
        return (0.30 + 2.1 * np.exp(-((gap / ridge) ** 2))).astype(np.float32)

    squash = random.uniform(0.92, 1.0)
    dark, inside = _ball(across, down / squash, pose, density, random.uniform(0.20, 0.30), 0.13)
    return Drawn(dark, inside)


def furrowed(across: Plane, down: Plane, pose: Pose, random: Random) -> Drawn:
    """A long body with three furrows running from pole to pole, each with a pore half way."""
    stretch = random.uniform(1.30, 1.55)
    pose = Pose(pose.x, pose.y, pose.radius, pose.turn, pose.tilt * 0.8, pose.spin)
    seen = math.hypot(stretch * math.cos(pose.tilt), math.sin(pose.tilt))
    narrow = 1.0 / seen**0.5
    half = random.uniform(0.14, 0.20)

    def density(unit: Plane) -> Plane:
        latitude = unit[:, 1]
        flat = np.sqrt(np.maximum(1 - latitude**2, 1e-6))
        around = np.arctan2(unit[:, 0], unit[:, 2])
        away = np.abs((around + np.pi / 3) % (2 * np.pi / 3) - np.pi / 3) * flat
        open_ = half * np.sqrt(np.maximum(1 - (latitude / 0.88) ** 2, 1e-4))
        groove = np.exp(-(((away / (0.75 * open_)) ** 2) ** 2))
        lips = np.exp(-(((away - 1.35 * open_) / (0.4 * half)) ** 2)) * (np.abs(latitude) < 0.86)
        pore = np.exp(-((away**2 + latitude**2) / 0.13**2))
        return (0.85 + 1.25 * lips - 0.85 * groove + 1.1 * pore).astype(np.float32)

    dark, inside = _ball(across / narrow, down / (narrow * seen), pose, density, random.uniform(0.26, 0.36), 0.12)
    return Drawn(dark, inside)


def winged(across: Plane, down: Plane, pose: Pose, random: Random) -> Drawn:
    """A body between two air sacs with a fine net in their walls."""
    body = random.uniform(0.50, 0.58)
    sac = random.uniform(0.47, 0.55)
    apart = random.uniform(0.60, 0.70) * (0.80 + 0.20 * math.cos(pose.tilt))
    hang = random.uniform(0.16, 0.32)
    points = _spread(90, random, 0.12)

    def grainy(unit: Plane) -> Plane:
        return (0.9 + 0.35 * (points[::3] @ unit.T).max(axis=0)).astype(np.float32)

    def netty(unit: Plane) -> Plane:
        return (0.35 + 1.9 * (1 - (points @ unit.T).max(axis=0)) * 14).astype(np.float32)

    dark, mask = _ball(across / (body * 1.25), (down + 0.10) / body, pose, grainy, random.uniform(0.26, 0.36))
    for side in (-1.0, 1.0):
        lobe = sac * random.uniform(0.93, 1.07)
        air, inside = _ball((across - side * apart) / lobe, (down - hang) / (lobe * 0.86), pose, netty, 0.05, 0.10)
        dark = dark + 0.85 * np.where(mask, 0.45 * np.maximum(air, 0), air).astype(np.float32)
        mask = mask | inside
    return Drawn(dark.astype(np.float32), mask)


def triangular(across: Plane, down: Plane, pose: Pose, random: Random) -> Drawn:
    """A flattened body, three-cornered from above, with a pore in each corner."""
    down = (down / math.cos(pose.tilt * 0.75)).astype(np.float32)
    radius = np.sqrt(across * across + down * down)
    corner = np.float32(random.uniform(0.13, 0.18))
    cosine = across / np.maximum(radius, np.float32(1e-6))
    three = (4 * cosine * cosine - 3) * cosine
    reach = np.float32(0.86) * (1 + corner * three + np.float32(0.035) * (2 * three * three - 1))
    flat = Pose(pose.x, pose.y, pose.radius, pose.turn, 0.0, 0.0)
    scale: Plane = (1 / reach).astype(np.float32)

    def density(unit: Plane) -> Plane:
        return np.full(len(unit), 0.85, np.float32)

    dark, mask = _ball(across * scale, down * scale, flat, density, random.uniform(0.24, 0.32), 0.12)
    x, y = across[mask], down[mask]
    pores = np.float32(0.10) * np.exp(-((radius[mask] - np.float32(0.30)) ** 2) / np.float32(0.01))
    for k in range(3):
        c, s = np.float32(np.cos(2 * np.pi * k / 3)), np.float32(np.sin(2 * np.pi * k / 3))
        along = x * c + y * s - np.float32(0.80) * (np.float32(1.035) + corner)
        side = np.abs(y * c - x * s)
        collar = np.exp(-((side - np.float32(0.17)) ** 2) / np.float32(0.0056) - along**2 / np.float32(0.0225))
        gap = np.exp(-(side**2) / np.float32(0.0081) - (along - np.float32(0.02)) ** 2 / np.float32(0.0144))
        pores += np.float32(0.75) * collar - np.float32(0.6) * gap
    dark[mask] = np.maximum(dark[mask] + pores, 0)
    return Drawn(dark, mask)


Draw = Callable[[Plane, Plane, Pose, Random], Drawn]

TYPES: dict[str, Draw] = {
    "furrowed": furrowed,
    "netted": netted,
    "smooth": smooth,
    "spiny": spiny,
    "triangular": triangular,
    "winged": winged,
}
"""The six grain types by name, in the order of their class numbers."""
