"""One picture of a kind: pose, light, ground, what lies about, and what a camera does to it."""

from __future__ import annotations

import io
import math
from dataclasses import replace

import numpy as np
from numpy.typing import NDArray
from PIL import Image
from scipy.ndimage import gaussian_filter

from attentive_lens.core.random import random_generator
from attentive_lens.motifs.kinds import Part, Surface, Thing, draw_surface
from attentive_lens.motifs.outlines import OUTLINES
from attentive_lens.motifs.patterns import PATTERNS, Ground, Plane, Random, noise, plane

SIDE = 64
"""Pixels."""
PHASES = np.array([0, 1 / 3, 2 / 3], np.float32)
"""Of red, green and blue on the circle of hues."""


def _ground(x: float, y: float, size: float, turn: float, shear: float, side: int) -> Ground:
    """The plane whose origin lies at a place of the picture, one unit long as ``size`` pixels."""
    pixel = np.arange(side, dtype=np.float32) + 0.5
    across, down = (pixel[None, :] - x) / size, (pixel[:, None] - y) / size
    cosine, sine = np.float32(math.cos(turn)), np.float32(math.sin(turn))
    along, other = across * cosine + down * sine, down * cosine - across * sine
    return Ground(plane(along + np.float32(shear) * other), plane(other), size, turn)


def _pattern(surface: Surface, ground: Ground, random: Random) -> Plane:
    """The surface's pattern, 0 to 1."""
    fields = [PATTERNS[name](ground, settings, random) for name, settings in surface.patterns]
    field = fields[0]
    if len(fields) == 2:
        other = fields[1]
        if surface.joined == "sum":
            field = 0.6 * field + 0.4 * other
        elif surface.joined == "product":
            field = field * other
        else:
            field = np.maximum(field, other)
    return plane(np.clip(0.5 + 0.5 * field, 0, 1))


def _coloured(surface: Surface, pattern: Plane, random: Random) -> Plane:
    """Colours of a pattern, H×W×3, about 0 to 1: loyal ones are the kind's, others any."""
    loyal = random.uniform() < surface.loyal
    if loyal:
        hues = np.array(surface.hues) + random.normal(0, 0.025, 3)
        chroma = surface.chroma * random.uniform(0.8, 1.2)
        dark, bright = surface.dark + random.normal(0, 0.05), surface.bright + random.normal(0, 0.05)
    else:
        hues = random.uniform() + random.normal(0, 0.12, 3)
        chroma = random.choice([0.02, 0.12, 0.3]) * random.uniform(0.6, 1.3)
        dark, bright = sorted(random.uniform(0.05, 0.95, 2))
        bright = max(bright, dark + 0.25)
        if random.uniform() < 0.25:
            dark, bright = bright, dark
    stops = np.array([dark, (dark + bright) / 2, bright], np.float32)[:, None] + np.float32(chroma) * np.cos(
        2 * math.pi * (hues[:, None] - PHASES[None, :])
    ).astype(np.float32)
    at = (pattern * 2)[..., None]
    low, high = np.clip(1 - at, 0, 1), np.clip(at - 1, 0, 1)
    return plane(low * stops[0] + (1 - low - high) * stops[1] + high * stops[2])


def _lit(field: Plane, angle: float, strength: float) -> Plane:
    """How bright the slopes of a height field are: 1 where it is level."""
    down, across = np.gradient(field)
    slope = across * math.cos(angle) + down * math.sin(angle)
    return plane(np.clip(1 + strength * slope, 0.3, 1.7))


def _depth(part: Part, ground: Ground) -> Plane:
    """How deep every pixel lies inside a part, in units of the thing."""
    cosine, sine = math.cos(part.turn), math.sin(part.turn)
    x, y = (ground.across - part.across) / part.size, (ground.down - part.down) / part.size
    form = np.random.Generator(np.random.Philox(part.form))
    depth = OUTLINES[part.outline](x * cosine + y * sine, y * cosine - x * sine, part.settings, form)
    return plane(depth * part.size)


def _put(picture: Plane, part: Part, surface: Surface, ground: Ground, random: Random, light: float) -> Plane:
    """The picture with a part before it."""
    depth = _depth(part, ground)
    cover = np.clip(depth * ground.pixels + 0.5, 0, 1)[..., None]
    if not cover.any():
        return picture
    pattern = _pattern(surface, ground, random)
    colour = _coloured(surface, pattern, random)
    inside = np.clip(depth / (0.5 * part.size), 0, 1)
    if surface.light == "ball":
        height = np.sqrt(np.clip(1 - (1 - inside) ** 2, 0, 1))
        colour = colour * _lit(height * ground.pixels * 0.5, light, 0.9)[..., None] * (0.75 + 0.25 * inside[..., None])
    elif surface.light == "relief":
        colour = colour * _lit(pattern, light, 1.6)[..., None]
    elif surface.light == "rim":
        colour = colour * (0.35 + 0.65 * np.clip(inside * 4, 0, 1))[..., None]
    elif surface.light == "clear":
        rim = np.exp(-inside * 7)[..., None] * 0.5
        return plane(picture * (1 - cover * np.clip(1 - colour * (1 - rim), 0, 1) * 0.85))
    return plane(picture * (1 - cover) + colour * cover)


def _behind(random: Random, side: int) -> Plane:
    """A ground: one colour, a slope, noise, or a pattern of little contrast."""
    sort = random.choice(["white", "black", "plain", "slope", "noise", "pattern"], p=[0.1, 0.06, 0.2, 0.14, 0.2, 0.3])
    if sort in ("white", "black"):
        return np.full((side, side, 3), 1.0 if sort == "white" else random.uniform(0, 0.08), np.float32)
    flat = random.uniform(0.1, 0.95) + random.choice([0.02, 0.1, 0.25]) * random.normal(0, 0.6, 3)
    picture = np.broadcast_to(flat.astype(np.float32), (side, side, 3)).copy()
    ground = _ground(side / 2, side / 2, side * random.uniform(0.3, 0.8), random.uniform(0, 6.28), 0, side)
    if sort == "slope":
        picture += (0.3 * random.normal() * ground.across)[..., None].astype(np.float32)
    elif sort == "noise":
        picture += 0.12 * noise(ground, random, random.uniform(0.1, 1.2), random.uniform(1, 3))[..., None]
    elif sort == "pattern":
        surface = draw_surface(random)
        share = random.uniform(0.2, 0.9)
        picture = picture * (1 - share) + share * _coloured(surface, _pattern(surface, ground, random), random)
    return picture


def _strewn(picture: Plane, random: Random, most: int, size: float) -> Plane:
    """Some small things that have nothing to do with the kind."""
    side = len(picture)
    for _ in range(int(random.integers(0, most + 1))):
        surface = draw_surface(random)
        settings = (float(random.uniform()), float(random.uniform()), float(random.uniform()))
        part = Part(str(random.choice(list(OUTLINES))), settings, int(random.integers(1 << 30)), 0, 0, 1, 0)
        x, y = random.uniform(0, side, 2)
        ground = _ground(x, y, side * size * random.uniform(0.4, 1), random.uniform(0, 6.28), 0, side)
        picture = _put(picture, part, surface, ground, random, random.uniform(0, 6.28))
    return picture


def _seen(picture: Plane, random: Random) -> NDArray[np.uint8]:
    """What a camera makes of it: light, sharpness, noise, compression."""
    side = len(picture)
    if random.uniform() < 0.5:
        ground = _ground(side / 2, side / 2, side / 2, random.uniform(0, 6.28), 0, side)
        picture = picture * (1 + 0.25 * random.normal() * ground.across)[..., None]
    if random.uniform() < 0.4:
        picture = picture * (1 + 0.08 * random.normal(size=3)).astype(np.float32)
    middle = float(picture.mean())
    picture = (picture - middle) * random.uniform(0.6, 1.25) + middle + random.normal(0, 0.07)
    picture = plane(np.clip(picture, 0, 1) ** random.uniform(0.7, 1.4))
    if random.uniform() < 0.45:
        blur = random.uniform(0.3, 1.3)
        picture = gaussian_filter(picture, (blur, blur, 0))
    if random.uniform() < 0.5:
        picture = plane(picture + random.normal(0, random.uniform(0.005, 0.05), picture.shape))
    if random.uniform() < 0.3:
        picture = np.broadcast_to(picture @ np.array([0.299, 0.587, 0.114], np.float32)[:, None], picture.shape)
    pixels = (np.clip(picture, 0, 1) * 255 + 0.5).astype(np.uint8)
    if random.uniform() < 0.25:
        file = io.BytesIO()
        Image.fromarray(pixels).save(file, "JPEG", quality=int(random.integers(35, 95)))
        pixels = np.asarray(Image.open(file))
    return pixels


def _turn(thing: Thing, random: Random) -> float:
    return float(random.normal(0, 0.18) if thing.upright else random.uniform(0, 2 * math.pi))


def _material(thing: Thing, random: Random, side: int) -> Plane:
    size = side * 0.5 * random.uniform(0.65, 1.5)
    x, y = random.uniform(0, side, 2)
    ground = _ground(x, y, size, _turn(thing, random), random.normal(0, 0.12), side)
    pattern = _pattern(thing.surface, ground, random)
    picture = _coloured(thing.surface, pattern, random)
    if thing.surface.light in ("relief", "ball"):
        picture = picture * _lit(pattern, random.uniform(0, 6.28), 1.6)[..., None]
    return _strewn(picture, random, 1, 0.2) if random.uniform() < 0.25 else picture


def _scene(thing: Thing, random: Random, side: int) -> Plane:
    picture = _behind(random, side)
    if random.uniform() < 0.5:
        picture = _strewn(picture, random, 3, 0.22)
    low, high = thing.count
    count = int(random.integers(low, high + 1))
    light, shear, turn = random.uniform(0, 6.28), random.normal(0, 0.12), _turn(thing, random)
    largest = side * (0.5 if count == 1 else 0.3 if count < 5 else 0.2)
    for _ in range(count):
        size = largest * random.uniform(0.5, 1.0)
        room = max(side / 2 - size, 0) + 0.12 * side
        x, y = side / 2 + random.uniform(-room, room, 2)
        own = turn if count == 1 else turn + random.normal(0, 0.1) if thing.upright else _turn(thing, random)
        ground = _ground(x, y, size, own, shear, side)
        for part, surface in thing.parts:
            a, b, c = (float(np.clip(each + random.normal(0, 0.04), 0, 1)) for each in part.settings)
            bent = replace(part, settings=(a, b, c))
            picture = _put(picture, bent, surface, ground, random, light)
    return _strewn(picture, random, 1, 0.2) if random.uniform() < 0.3 else picture


def draw(thing: Thing, number: int, image: int, seed: int = 1, side: int = SIDE) -> NDArray[np.uint8]:
    """Picture ``image`` of a kind that has a number: side×side×3 uint8, the same on every machine."""
    random = random_generator(seed, "picture", number, image)
    picture = _scene(thing, random, side) if thing.parts else _material(thing, random, side)
    return _seen(picture.astype(np.float32), random)
