"""Known-good networks to start from; engineers change one rather than begin with nothing."""

from __future__ import annotations

from dataclasses import dataclass

from attentive_lens.plan.blocks import Residual, built
from attentive_lens.plan.layers import (
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
from attentive_lens.plan.network import NetworkPlan


@dataclass(frozen=True)
class Starter:
    """A starting network: its name, when to take it, and its layers."""

    name: str
    when: str
    network: NetworkPlan


def _block(filters: int, depth: int = 1) -> list[LayerSettings]:
    layers: list[LayerSettings] = []
    for _ in range(depth):
        layers += [Convolution(filters=filters), Relu()]
    return [*layers, MaxPooling()]


def _head(units: int, rate: float) -> list[LayerSettings]:
    return [Flatten(), Connected(units=units), Relu(), Dropout(rate=rate), Output()]


STARTERS: dict[str, Starter] = {
    starter.name: starter
    for starter in (
        Starter(
            "two blocks",
            "A first try in a minute, and images of a few clear shapes.",
            NetworkPlan.stack([*_block(8), *_block(16), *_head(32, 0.3)]),
        ),
        Starter(
            "three blocks",
            "The usual start: enough depth for texture and shape, quick to train.",
            NetworkPlan.stack([*_block(16), *_block(32), *_block(64), *_head(64, 0.3)]),
        ),
        Starter(
            "three double blocks",
            "Finer texture and more classes; about five times the cost of three blocks.",
            NetworkPlan.stack([*_block(16, 2), *_block(32, 2), *_block(64, 2), *_head(128, 0.4)]),
        ),
        Starter(
            "residual",
            "Many images or many classes: deep, evenly trained by normalisation and short cuts.",
            built(
                [
                    Convolution(filters=16),
                    BatchNormalisation(),
                    Relu(),
                    *(Residual(filters=filters, stride=2) for filters in (16, 32, 64)),
                    GlobalPooling(),
                    Dropout(rate=0.2),
                    Output(),
                ]
            ),
        ),
    )
}
