"""Known-good networks to start from; engineers change one rather than begin with nothing.

Each is made for a side of image and a number of classes: larger images are shrunk further before the head, more
classes widen it. To add one: its parts and one line in `STARTERS`.
"""

from __future__ import annotations

import math
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from functools import cached_property
from typing import TypeAlias

from attentive_lens.plan.blocks import Block, Bottleneck, Branches, Dense, Residual, Separable, Squeeze, built
from attentive_lens.plan.layers import (
    AveragePooling,
    BatchNormalisation,
    Connected,
    Convolution,
    Dropout,
    Flatten,
    GlobalPooling,
    LayerSettings,
    MaxPooling,
    Output,
    Relu,
)
from attentive_lens.plan.layers.base import Sides, both
from attentive_lens.plan.network import NetworkPlan

Parts: TypeAlias = list[LayerSettings | Block]

USUAL_SIDE, FEW_CLASSES = 64, 2
LARGEST_FLAT = 16
"""Side of the maps that are laid out in one row, at most: every further pixel costs a weight for each unit."""
LAST_SIDE = 8
"""Side of the last maps of the networks that pool globally, about."""
MOST_UNITS = 1024


@dataclass(frozen=True)
class Starter:
    """A starting network: its name, when to take it, and its parts for a side of image and a number of classes."""

    name: str
    when: str
    parts: Callable[[int, int], Parts]

    def network_for(self, size: Sides, classes: int = FEW_CLASSES) -> NetworkPlan:
        """The network for prepared images of a size and so many classes; the shorter side says how far they shrink."""
        return built(self.parts(min(both(size)), classes))

    @cached_property
    def network(self) -> NetworkPlan:
        """For images of the usual side and a few classes."""
        return self.network_for(USUAL_SIDE)


def _steps(side: int, blocks: int) -> list[int]:
    """By how much each of some blocks shrinks the maps: by 2, the first ones by 4 where the last would be too large.

    The factor of a block that would leave nothing is 1.
    """
    factors = [2] * blocks
    for k in range(blocks):
        if side // math.prod(factors) > LARGEST_FLAT:
            factors[k] = 4
    for k in reversed(range(blocks)):
        if side // math.prod(factors) < 1:
            factors[k] = 1
    return factors


def _stages(side: int) -> int:
    """How many times a side is halved until about `LAST_SIDE` is left, at least once."""
    return max(1, min(5, round(math.log2(max(1, side) / LAST_SIDE))))


def _pooled(filters: Sequence[int], depth: int, side: int) -> Parts:
    """Blocks of convolutions and a pooling."""
    parts: Parts = []
    for count, factor in zip(filters, _steps(side, len(filters)), strict=True):
        for _ in range(depth):
            parts += [Convolution(filters=count), Relu()]
        parts += [MaxPooling(kernel_size=factor, stride=factor)] if factor > 1 else []
    return parts


def _head(units: int, rate: float, classes: int) -> Parts:
    while units < min(2 * classes, MOST_UNITS):
        units *= 2
    return [Flatten(), Connected(units=units), Relu(), Dropout(rate=rate), Output()]


def _normalised(filters: int, kernel_size: int = 3, stride: int = 1) -> Parts:
    return [Convolution(filters=filters, kernel_size=kernel_size, stride=stride), BatchNormalisation(), Relu()]


def _global_head(rate: float) -> Parts:
    return [GlobalPooling(), Dropout(rate=rate), Output()]


def _widths(side: int, first: int = 16) -> list[int]:
    """Filters of each stage: twice as many where the maps have half the side."""
    return [first << stage for stage in range(_stages(side))]


def _fully_connected(side: int, classes: int) -> Parts:
    shrink = -(-side // 32)
    pool: Parts = [AveragePooling(kernel_size=shrink, stride=shrink)] if shrink > 1 else []
    units = min(MOST_UNITS, max(128, 2 * classes))
    return [*pool, Flatten(), Connected(units=units), Relu(), Dropout(rate=0.3), Connected(units=units // 2), Relu(),
            Output()]  # fmt: skip


def _strided(side: int, classes: int) -> Parts:
    del classes
    parts = _normalised(16)
    for filters in _widths(side, 32):
        parts += _normalised(filters, stride=2)
    return [*parts, *_global_head(0.2)]


def _normalised_blocks(side: int, classes: int) -> Parts:
    del classes
    parts: Parts = []
    for filters in _widths(side):
        parts += [*_normalised(filters), *_normalised(filters), MaxPooling()]
    return [*parts, *_global_head(0.2)]


def _residual(side: int, classes: int) -> Parts:
    del classes
    blocks = [Residual(filters=filters, stride=2) for filters in _widths(side)]
    return [*_normalised(16), *blocks, *_global_head(0.2)]


def _bottleneck(side: int, classes: int) -> Parts:
    del classes
    parts = _normalised(16)
    for filters in _widths(side, 64):
        parts += [Bottleneck(filters=filters, stride=2), Bottleneck(filters=filters)]
    return [*parts, *_global_head(0.2)]


def _dense(side: int, classes: int) -> Parts:
    del classes
    halved = side >= LAST_SIDE * 4
    parts, maps = _normalised(24, stride=2 if halved else 1), 24
    for _ in range(_stages(side // 2 if halved else side)):
        maps = (maps + 4 * 12) // 2
        parts += [Dense(growth_rate=12, depth=4), *_normalised(maps, kernel_size=1), AveragePooling()]
    return [*parts, *_global_head(0.2)]


def _branches(side: int, classes: int) -> Parts:
    del classes
    parts = [*_normalised(16), MaxPooling()] if side >= 16 else _normalised(16)
    for filters in _widths(max(16, side // 2)):
        parts += [Branches(filters=filters), MaxPooling()]
    return [*parts, *_global_head(0.2)]


def _separable(side: int, classes: int) -> Parts:
    del classes
    parts = _normalised(16, stride=2) if side >= 32 else _normalised(16)
    for filters in _widths(max(16, side // 2), 32):
        parts += [Separable(filters=filters, stride=2), Separable(filters=filters)]
    return [*parts, *_global_head(0.2)]


def _squeezed(side: int, classes: int) -> Parts:
    del classes
    parts = _normalised(16)
    for filters in _widths(side):
        parts += [Residual(filters=filters, stride=2), Squeeze()]
    return [*parts, *_global_head(0.2)]


STARTERS: dict[str, Starter] = {
    starter.name: starter
    for starter in (
        Starter(
            "fully connected",
            "A baseline without convolutions: whatever does not beat it has not learned to look.",
            _fully_connected,
        ),
        Starter(
            "two blocks",
            "A first try in a minute, and images of a few clear shapes.",
            lambda side, classes: [*_pooled((8, 16), 1, side), *_head(32, 0.3, classes)],
        ),
        Starter(
            "three blocks",
            "The usual start: enough depth for texture and shape, quick to train.",
            lambda side, classes: [*_pooled((16, 32, 64), 1, side), *_head(64, 0.3, classes)],
        ),
        Starter(
            "three double blocks",
            "Finer texture and more classes; at nearly three times the time of three blocks.",
            lambda side, classes: [*_pooled((16, 32, 64), 2, side), *_head(128, 0.4, classes)],
        ),
        Starter(
            "normalised blocks",
            "Pairs of normalised convolutions and global pooling: few weights, trains evenly, place does not matter.",
            _normalised_blocks,
        ),
        Starter(
            "strided",
            "Convolutions that move by two in place of pooling: cheap, and no value is thrown away unseen.",
            _strided,
        ),
        Starter(
            "residual",
            "Many images or many classes: deep, evenly trained by normalisation and short cuts.",
            _residual,
        ),
        Starter(
            "bottleneck",
            "Deeper than residual, for many classes: costly windows stand between cheap 1×1 ones.",
            _bottleneck,
        ),
        Starter(
            "squeeze-and-excite",
            "As residual, and every map is turned up or down by what the whole image holds.",
            _squeezed,
        ),
        Starter(
            "densely connected",
            "Few images: every layer sees the maps of all before it, so few weights do much.",
            _dense,
        ),
        Starter(
            "multi-branch",
            "Things of several sizes at once: 1×1, 3×3 and 5×5 windows side by side.",
            _branches,
        ),
        Starter(
            "depthwise-separable",
            "The fewest weights and multiplications for the depth: for models that must run on small machines.",
            _separable,
        ),
    )
}
