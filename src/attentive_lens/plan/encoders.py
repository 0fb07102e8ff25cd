"""Networks that draw, to start from: encoder, codes, decoder.

Each is made for a size of image and so many channels. To add one: its parts and one line in `ENCODERS`.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass
from functools import cached_property
from typing import Any, ClassVar

from attentive_lens.plan.blocks import built
from attentive_lens.plan.layers import (
    Codes,
    Connected,
    Convolution,
    Drawing,
    Flatten,
    LayerSettings,
    LeakyRelu,
    NormalCodes,
    Relu,
    Resampling,
    Reshape,
    Tanh,
    TransposedConvolution,
)
from attentive_lens.plan.layers.base import Sides, both, one_or_both, product
from attentive_lens.plan.network import NetworkPlan
from attentive_lens.plan.tasks import Encode

USUAL_SIDE, USUAL_CHANNELS = 64, 3
LEAST_SIDE = 8
"""Longer side of the maps, at most, on which a convolutional decoder begins."""
WIDEST = 128
MOST_CONNECTED = 64
"""Longer side of what a fully connected layer draws, at most, if it can be halved evenly."""


@dataclass(frozen=True)
class Encoder:
    """A starting network that draws: its name, when to take it, its parts for both sides and some channels."""

    name: str
    when: str
    parts: Callable[[tuple[int, int], int], list[LayerSettings]]

    task: ClassVar[type[Encode]] = Encode
    brings: ClassVar[Mapping[str, Any]] = {}
    """What a plan takes over with it; nothing."""

    def network_for(self, size: Sides, channels: int = USUAL_CHANNELS) -> NetworkPlan:
        """The network for prepared images of a size and so many channels."""
        return built(self.parts(both(size), channels))

    @cached_property
    def network(self) -> NetworkPlan:
        """For images of the usual side."""
        return self.network_for(USUAL_SIDE)


def _halvings(sides: tuple[int, int]) -> int:
    """How many times both sides can be halved evenly until the maps are small."""
    times = 0
    while max(sides) > LEAST_SIDE << times and all(side % (2 << times) == 0 for side in sides):
        times += 1
    return times


def _convolutional(
    sides: tuple[int, int], channels: int, code: list[LayerSettings], blurs: bool
) -> list[LayerSettings]:
    """Strided convolutions down to the codes, and back up by transposed ones, or by resampling and convolutions."""
    times = _halvings(sides)
    widths = [min(WIDEST, 16 << k) for k in range(times)]
    parts: list[LayerSettings] = []
    for width in widths:
        parts += [Convolution(filters=width, kernel_size=4, stride=2, padding="same"), LeakyRelu(negative_slope=0.2)]
    small, last = (sides[0] >> times, sides[1] >> times), widths[-1] if widths else channels
    parts += [Flatten(), *code, Connected(units=product(small) * last), Relu(), Reshape(side=one_or_both(small))]
    for width in reversed([channels, *widths[:-1]]) if widths else []:
        if blurs:
            parts += [Resampling(), Convolution(filters=width)]
        else:
            parts += [TransposedConvolution(filters=width)]
        parts += [Relu()]
    return [*(parts[:-1] if widths else parts), Drawing()]


def _connected(sides: tuple[int, int], channels: int) -> list[LayerSettings]:
    """One layer of tanh on each side; larger images are drawn coarser and blended."""
    factor = 1
    while factor < 16 and max(sides) // factor > MOST_CONNECTED and all(side % (2 * factor) == 0 for side in sides):
        factor *= 2
    small = (sides[0] // factor, sides[1] // factor)
    blend: list[LayerSettings] = [Resampling(factor=factor, interpolation="bilinear")] if factor > 1 else []
    return [Flatten(), Connected(units=400), Tanh(), *_normal(16), Connected(units=400), Tanh(),
            Connected(units=product(small) * channels), Reshape(side=one_or_both(small)), *blend,
            Drawing()]  # fmt: skip


def _normal(size: int) -> list[LayerSettings]:
    return [Connected(units=2 * size), NormalCodes()]


ENCODERS: dict[str, Encoder] = {
    encoder.name: encoder
    for encoder in (
        Encoder(
            "variational",
            "The usual start: sixteen codes, drawn from and drawn at random.",
            lambda sides, channels: _convolutional(sides, channels, _normal(16), False),
        ),
        Encoder(
            "variational, two codes",
            "A map of what the images are made of, at which one can look; drawings are coarse.",
            lambda sides, channels: _convolutional(sides, channels, _normal(2), False),
        ),
        Encoder(
            "variational, fully connected",
            "Small images, and comparisons with the literature: one layer of tanh on each side.",
            _connected,
        ),
        Encoder(
            "auto-encoder",
            "Codes without a distribution: sharper drawings, strange images, a base for a classifier; denoising.",
            lambda sides, channels: _convolutional(sides, channels, [Connected(units=32), Codes()], True),
        ),
    )
}
