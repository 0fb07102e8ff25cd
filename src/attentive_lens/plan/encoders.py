"""Networks that draw, to start from: encoder, codes, decoder.

Each is made for a side of image and so many channels. To add one: its parts and one line in `ENCODERS`.
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
from attentive_lens.plan.network import NetworkPlan
from attentive_lens.plan.tasks import Encode

USUAL_SIDE, USUAL_CHANNELS = 64, 3
LEAST_SIDE = 8
"""Side of the maps, at most, on which a convolutional decoder begins."""
WIDEST = 128
MOST_CONNECTED = 64
"""Side of what a fully connected layer draws, at most, if it can be halved evenly."""


@dataclass(frozen=True)
class Encoder:
    """A starting network that draws: its name, when to take it, and its parts for a side and a number of channels."""

    name: str
    when: str
    parts: Callable[[int, int], list[LayerSettings]]

    task: ClassVar[type[Encode]] = Encode
    brings: ClassVar[Mapping[str, Any]] = {}
    """What a plan takes over with it; nothing."""

    def network_for(self, side: int, channels: int = USUAL_CHANNELS) -> NetworkPlan:
        """The network for prepared images of ``side`` pixels and so many channels."""
        return built(self.parts(side, channels))

    @cached_property
    def network(self) -> NetworkPlan:
        """For images of the usual side."""
        return self.network_for(USUAL_SIDE)


def _halvings(side: int) -> int:
    """How many times a side can be halved evenly until the maps are small."""
    times = 0
    while side > LEAST_SIDE and side % 2 == 0:
        side, times = side // 2, times + 1
    return times


def _convolutional(side: int, channels: int, code: list[LayerSettings], blurs: bool) -> list[LayerSettings]:
    """Strided convolutions down to the codes, and back up by transposed ones, or by resampling and convolutions."""
    times = _halvings(side)
    widths = [min(WIDEST, 16 << k) for k in range(times)]
    parts: list[LayerSettings] = []
    for width in widths:
        parts += [Convolution(filters=width, kernel_size=4, stride=2, padding="same"), LeakyRelu(negative_slope=0.2)]
    small, last = side >> times, widths[-1] if widths else channels
    parts += [Flatten(), *code, Connected(units=small**2 * last), Relu(), Reshape(side=small)]
    for width in reversed([channels, *widths[:-1]]) if widths else []:
        if blurs:
            parts += [Resampling(), Convolution(filters=width)]
        else:
            parts += [TransposedConvolution(filters=width)]
        parts += [Relu()]
    return [*(parts[:-1] if widths else parts), Drawing()]


def _connected(side: int, channels: int) -> list[LayerSettings]:
    """One layer of tanh on each side; larger images are drawn coarser and blended."""
    factor = next(n for n in (1, 2, 4, 8, 16) if side % n == 0 and (side // n <= MOST_CONNECTED or side % (2 * n)))
    small = side // factor
    blend: list[LayerSettings] = [Resampling(factor=factor, interpolation="bilinear")] if factor > 1 else []
    return [Flatten(), Connected(units=400), Tanh(), *_normal(16), Connected(units=400), Tanh(),
            Connected(units=small**2 * channels), Reshape(side=small), *blend, Drawing()]  # fmt: skip


def _normal(size: int) -> list[LayerSettings]:
    return [Connected(units=2 * size), NormalCodes()]


ENCODERS: dict[str, Encoder] = {
    encoder.name: encoder
    for encoder in (
        Encoder(
            "variational",
            "The usual start: sixteen codes, drawn from and drawn at random.",
            lambda side, channels: _convolutional(side, channels, _normal(16), False),
        ),
        Encoder(
            "variational, two codes",
            "A map of what the images are made of, at which one can look; drawings are coarse.",
            lambda side, channels: _convolutional(side, channels, _normal(2), False),
        ),
        Encoder(
            "variational, fully connected",
            "Small images, and comparisons with the literature: one layer of tanh on each side.",
            _connected,
        ),
        Encoder(
            "auto-encoder",
            "Codes without a distribution: sharper drawings, strange images, a base for a classifier; denoising.",
            lambda side, channels: _convolutional(side, channels, [Connected(units=32), Codes()], True),
        ),
    )
}
