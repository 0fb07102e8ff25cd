"""Adversarial pairs to start from: a generator that draws of noise, and a discriminator that tells drawn from real.

Each is made for a size of image and so many channels. To add one: its parts and one line in `GENERATORS`.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from functools import cached_property
from typing import Any, ClassVar

from attentive_lens.errors import BadValue
from attentive_lens.plan.averaging import ExponentialMovingAverage
from attentive_lens.plan.blocks import Builder
from attentive_lens.plan.encoders import USUAL_CHANNELS, USUAL_SIDE
from attentive_lens.plan.initialisations import He, Orthogonal
from attentive_lens.plan.layers import (
    Add,
    BatchNormalisation,
    ClassInput,
    Concatenate,
    Connected,
    Convolution,
    Drawing,
    Flatten,
    LeakyRelu,
    Multiply,
    Noise,
    Output,
    RealOrDrawn,
    Relu,
    Reshape,
    Tanh,
    TransposedConvolution,
)
from attentive_lens.plan.layers.base import Sides, both, one_or_both, product, text
from attentive_lens.plan.layers.coding import NO_LIKELIHOOD
from attentive_lens.plan.network import NetworkPlan
from attentive_lens.plan.nodes import IMAGE, Learning, Node
from attentive_lens.plan.optimisers import Adam
from attentive_lens.plan.tasks import Generate

SMALLEST = 4
"""Shorter side of the maps, at least, on which a generator begins and to which a discriminator goes down."""
FIRST, WIDEST = 32, 256
"""Maps of the discriminator's first convolution, and the most that one has."""
MOST_BEGUN = 1024
"""Pixels of the maps, at most, on which a generator begins."""
CLASS_UNITS = 32
"""Values that stand for the class beside the noise."""


@dataclass(frozen=True)
class Generator:
    """A starting pair: its name, when to take it, and whether it is told classes."""

    name: str
    when: str
    by_class: bool

    task: ClassVar[type[Generate]] = Generate
    brings: ClassVar[Mapping[str, Any]] = {
        "task": Generate(adversarial_loss="hinge", mismatched=True, spectral_normalisation=True),
        "optimiser": Adam(learning_rate=1e-3, beta1=0.0, beta2=0.9),
        "initialisation": Orthogonal(gain=1.0),
        "averaging": ExponentialMovingAverage(decay=0.999),
    }
    """What a plan takes over with it."""

    def network_for(self, size: Sides, channels: int = USUAL_CHANNELS) -> NetworkPlan:
        """The network for prepared images of a size and so many channels.

        Raises
        ------
        BadValue
            If so large an image cannot be drawn from a few pixels, for its sides cannot be halved.
        """
        onto, sides = Builder(), both(size)
        label = _generate(onto, sides, channels, self.by_class)
        _discriminate(onto, sides, label)
        return NetworkPlan(tuple(onto.nodes))

    @cached_property
    def network(self) -> NetworkPlan:
        """For images of the usual side."""
        return self.network_for(USUAL_SIDE)


def _halved(sides: tuple[int, int], times: int) -> tuple[int, int]:
    return sides[0] >> times, sides[1] >> times


def _widths(sides: tuple[int, int]) -> list[int]:
    """Maps after each halving of both sides, as long as they can be halved evenly."""
    widths: list[int] = []
    while min(sides) >= 2 * SMALLEST and all(side % 2 == 0 for side in sides):
        widths.append(min(WIDEST, FIRST << len(widths)))
        sides = _halved(sides, 1)
    return widths


def _generate(onto: Builder, sides: tuple[int, int], channels: int, by_class: bool) -> str:
    """Noise, and the class by a branch of its own joined to the noise's; its node, empty without."""
    widths = _widths(sides)
    small, last = _halved(sides, len(widths)), widths[-1] if widths else FIRST
    if product(small) > MOST_BEGUN:
        why = f"it draws from small maps, and {text(sides)} pixels cannot be halved evenly down to them"
        raise BadValue("The generator does not fit the input size", why, "Choose multiples of 8 or 16 for its sides")
    noise = onto.add(Noise(), IMAGE)
    label = ""
    if by_class:
        label = onto.add(ClassInput(), IMAGE)
        onto.add(Concatenate(), noise, _of_class(onto, CLASS_UNITS, label))
    onto.add(Connected(units=product(small) * last))
    onto.add(Reshape(side=one_or_both(small)))
    onto.add(BatchNormalisation())
    onto.add(Relu())
    for width in reversed(widths[:-1]):
        onto.add(TransposedConvolution(filters=width))
        onto.add(BatchNormalisation())
        onto.add(Relu())
    onto.add(TransposedConvolution(filters=channels) if widths else Convolution(filters=channels))
    onto.add(Tanh())
    onto.add(Drawing(likelihood=NO_LIKELIHOOD))
    return label


def _discriminate(onto: Builder, sides: tuple[int, int], label: str) -> None:
    """Strided convolutions down to one score of all that they see; a class has factors of its own for that, besides
    those of all (projection discriminator, Miyato & Koyama 2018, eq. 4).
    """
    onto.add(RealOrDrawn(), IMAGE, onto.last)
    width = FIRST
    for width in _widths(sides) or [FIRST]:
        onto.add(Convolution(filters=width, kernel_size=4, stride=2, padding="same"))
        onto.add(LeakyRelu(negative_slope=0.2))
    seen = onto.add(Flatten())
    if label:
        units = product(_halved(sides, len(_widths(sides)))) * width
        onto.add(Add(), seen, onto.add(Multiply(), seen, _of_class(onto, units, label)))
    onto.add(Output())


def _of_class(onto: Builder, units: int, label: str) -> str:
    """So many values for each class, as large as others from the start; the name of their layer."""
    layer = Connected(units=units)
    return onto.put(Node(onto.names.free(layer), layer, (label,), Learning(initialisation=He.kind)))


GENERATORS: dict[str, Generator] = {
    generator.name: generator
    for generator in (
        Generator(
            "generator", "Draws images of noise, made better by a network that tells them from real ones.", False
        ),
        Generator("generator, by class", "The same, told which class to draw: a row of drawings for each.", True),
    )
}
