"""Settings of the layers that make auto-encoders: codes, and the images that are drawn from them."""

from __future__ import annotations

import math
from dataclasses import dataclass
from typing import ClassVar

from attentive_lens.core.values import spec
from attentive_lens.plan.layers.base import DoesNotFit, LayerSettings, SameShape, Shape, Sides, both, product, text

NO_LIKELIHOOD = "none"
LIKELIHOODS = ("gaussian", "bernoulli", NO_LIKELIHOOD)


@dataclass(frozen=True)
class Codes(SameShape):
    """What an image is drawn from: the values that come in, as they are."""

    kind: ClassVar[str] = "codes"
    idea: ClassVar[str] = "The few values of a plain auto-encoder, from which the decoder draws the image again."
    is_code: ClassVar[bool] = True

    def output_shape(self, input_shape: Shape, *others: Shape) -> Shape:
        """As it came in: one row of values."""
        if len(input_shape) != 1:
            raise DoesNotFit(*_row(self.kind, input_shape))
        return input_shape


@dataclass(frozen=True)
class NormalCodes(LayerSettings):
    """Codes drawn from a normal distribution whose means and log variances come in (Kingma & Welling 2014)."""

    kind: ClassVar[str] = "normal codes"
    idea: ClassVar[str] = "Draws codes from a normal distribution: half the values are means, half are log variances."
    is_code: ClassVar[bool] = True
    is_variational: ClassVar[bool] = True

    samples: int = spec(
        1,
        label="samples",
        low=1,
        high=64,
        meaning="Codes drawn for each image at a training step; the mean otherwise.",
        ends="Usual: 1. More give a steadier gradient at that many times the decoder's cost.",
    )

    def output_shape(self, input_shape: Shape, *others: Shape) -> Shape:
        """(half the values,)."""
        if len(input_shape) != 1:
            raise DoesNotFit(*_row(self.kind, input_shape))
        if input_shape[0] % 2:
            why = f"half of its inputs are means and half log variances, and {input_shape[0]} is odd"
            raise DoesNotFit(f"The {self.kind} layer does not fit", why, "Give the layer before it an even number")
        return (input_shape[0] // 2,)

    def output_channels(self, *inputs: int | None) -> int | None:
        """Half of them."""
        return inputs[0] // 2 if inputs[0] is not None else None

    def reach(self, input_shape: Shape) -> None:
        """Codes see what their inputs do."""
        return


@dataclass(frozen=True)
class Reshape(LayerSettings):
    """Lays a row of values out as maps, rows first."""

    kind: ClassVar[str] = "reshape"
    idea: ClassVar[str] = "Lays a row of values out as maps: where a decoder begins to draw."

    side: Sides = spec(
        4,
        label="side",
        unit="pixels",
        low=1,
        high=2048,
        counts=(2,),
        meaning="Rows and columns of the maps; two numbers where they are not square.",
        ends="Usual: 4 to 8 in a decoder. As many values must come in as it lays out.",
    )

    def output_shape(self, input_shape: Shape, *others: Shape) -> Shape:
        """(rows, columns, values / (rows · columns))."""
        sides = both(self.side)
        values, area = product(input_shape), product(sides)
        if values % area:
            why = f"{values} values cannot be laid out as maps of {text(sides)}"
            remedy = f"Give the layer before it a multiple of {area} units"
            raise DoesNotFit(f"The {self.kind} layer does not fit", why, remedy)
        return (*sides, values // area)

    def output_channels(self, *inputs: int | None) -> int | None:
        """Not known without the inputs' sides."""
        return None

    def reach(self, input_shape: Shape) -> None:
        """Where a value stood says nothing of where in the image it looks."""
        return


@dataclass(frozen=True)
class Drawing(LayerSettings):
    """The image as it is drawn, and how likely other images are by it: the last layer of an auto-encoder, or of the
    generator in an adversarial pair.
    """

    kind: ClassVar[str] = "drawing"
    idea: ClassVar[str] = "The image drawn: the mean of every pixel's distribution, or what a generator draws."
    is_output: ClassVar[bool] = True
    draws: ClassVar[bool] = True

    likelihood: str = spec(
        "gaussian",
        label="likelihood",
        choices=LIKELIHOODS,
        meaning="How pixels, 0 to 1, are distributed about what is drawn: normally, or each as a chance of being 1;"
        " none in a generator, whose drawings from -1 to 1 a discriminator judges.",
    )
    mean: str = spec(
        "within 0-1",
        label="mean",
        choices=("within 0-1", "free"),
        meaning="Of the normal distribution: held within the range of pixels by a sigmoid, or whatever is drawn.",
    )
    variance: str = spec(
        "fixed", label="variance", choices=("fixed", "learned"), meaning="Of the normal distribution, one for all."
    )
    deviation: float = spec(
        0.3,
        label="standard deviation",
        low=1e-3,
        high=10.0,
        meaning="Of the normal distribution, in parts of the range of pixels; where it is learned, the start.",
        ends="Usual: 0.1 to 0.5. Small ones weigh every pixel and leave codes little freedom; large ones let "
        "codes go unused.",
    )

    def settings_in_use(self) -> tuple[str, ...]:
        """All of a normal distribution; without one the likelihood alone."""
        return tuple(self.specs()) if self.likelihood == "gaussian" else ("likelihood",)

    @property
    def learns_variance(self) -> bool:
        """Whether the variance is a weight."""
        return self.likelihood == "gaussian" and self.variance == "learned"

    def output_shape(self, input_shape: Shape, *others: Shape) -> Shape:
        """The maps that come in; a row of values is laid out as a square of three channels, or of one."""
        if len(input_shape) == 3:
            return input_shape
        values = input_shape[0]
        for channels in (3, 1):
            side = math.isqrt(values // channels)
            if side and side**2 * channels == values:
                return (side, side, channels)
        why = f"{values} values are no square image of one channel or three"
        raise DoesNotFit(f"The {self.kind} layer does not fit", why, "Give the layer before it side × side × 3 units")

    def weight_shapes(self, input_shape: Shape) -> dict[str, Shape]:
        """``log_variance``: 1, where the variance is learned."""
        return {"log_variance": (1,)} if self.learns_variance else {}

    def reach(self, input_shape: Shape) -> None:
        """Every pixel is drawn from all codes."""
        return


def _row(kind: str, shape: Shape) -> tuple[str, str, str]:
    """Why a layer of codes does not fit maps."""
    why = f"it takes one row of values, and its input is {text(shape)}"
    return f"The {kind} layer does not fit", why, "Put a fully connected layer before it"


CODING: tuple[type[LayerSettings], ...] = (
    Codes,
    NormalCodes,
    Reshape,
    Drawing,
)
