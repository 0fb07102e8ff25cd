"""Settings of the layers that make adversarial pairs: what an image is drawn of, and where real ones come in beside."""

from __future__ import annotations

from dataclasses import dataclass
from typing import ClassVar, Self

from attentive_lens.core.values import spec
from attentive_lens.plan.layers.base import DoesNotFit, LayerSettings, Shape, text

DISTRIBUTIONS = ("normal", "uniform")


@dataclass(frozen=True)
class Noise(LayerSettings):
    """Random numbers of which a generator draws an image, others for each."""

    kind: ClassVar[str] = "noise"
    idea: ClassVar[str] = "Random numbers in place of the image, of which a generator draws; 0 where none are given."
    is_code: ClassVar[bool] = True
    is_input: ClassVar[bool] = True

    size: int = spec(
        64,
        label="size",
        low=1,
        high=4096,
        meaning="Numbers for each image.",
        ends="Usual: 32 to 256. Few cannot tell images apart; many cost weights and add little.",
    )
    distribution: str = spec(
        "normal", label="distribution", choices=DISTRIBUTIONS, meaning="Standard normal, or even from -1 to 1."
    )

    def output_shape(self, input_shape: Shape, *others: Shape) -> Shape:
        """(size,), whatever the image is."""
        return (self.size,)

    def output_channels(self, *inputs: int | None) -> int | None:
        """Its size."""
        return self.size

    def reach(self, input_shape: Shape) -> None:
        """It looks at no image."""
        return


@dataclass(frozen=True)
class ClassInput(LayerSettings):
    """Which class an image is of, or is to be drawn of: 1 for that class and 0 for all others."""

    kind: ClassVar[str] = "class"
    idea: ClassVar[str] = "The class of each image, real or to be drawn: 1 for it, 0 for all others."
    is_input: ClassVar[bool] = True
    is_class: ClassVar[bool] = True

    classes: int = spec(
        0,
        label="classes",
        low=0,
        high=100_000,
        meaning="How many there are; 0: as many as there are in the images.",
        ends="Usual: 0. Another number must be that of the images' classes.",
    )

    def for_classes(self, classes: int) -> Self:
        """With as many as there are."""
        return self.with_(classes=classes)

    def output_shape(self, input_shape: Shape, *others: Shape) -> Shape:
        """(classes,), whatever the image is."""
        return (max(1, self.classes),)

    def output_channels(self, *inputs: int | None) -> int | None:
        """As many as classes, once that is known."""
        return self.classes or None

    def reach(self, input_shape: Shape) -> None:
        """It looks at no image."""
        return


@dataclass(frozen=True)
class RealOrDrawn(LayerSettings):
    """Where a discriminator begins: the image that was drawn, or a real one in its place."""

    kind: ClassVar[str] = "real or drawn"
    idea: ClassVar[str] = "Where a discriminator begins: real images come in beside those that the generator draws."
    joins: ClassVar[bool] = True
    is_meeting: ClassVar[bool] = True

    def output_shape(self, input_shape: Shape, *others: Shape) -> Shape:
        """As given; real and drawn images are of one shape."""
        for other in others:
            if other != input_shape:
                why = f"real images are {text(input_shape)}, and those drawn are {text(other)}"
                remedy = "Let the generator end at the input size, with as many channels"
                raise DoesNotFit("Real and drawn images do not fit", why, remedy)
        return input_shape


GENERATING: tuple[type[LayerSettings], ...] = (
    Noise,
    ClassInput,
    RealOrDrawn,
)
