"""What every kind of layer tells about itself without running anything."""

from __future__ import annotations

import math
from abc import abstractmethod
from dataclasses import dataclass
from typing import ClassVar, Self, TypeAlias

from attentive_lens.core.values import Kind
from attentive_lens.errors import BadValue

Shape: TypeAlias = tuple[int, ...]
"""Shape of one image's feature maps: (rows, columns, channels), or (values,) once flattened."""


class DoesNotFit(BadValue):
    """A layer that cannot stand where it was put."""


@dataclass(frozen=True)
class Reach:
    """How an output pixel looks at its input: extent of the window, step and padding before, in input pixels.

    A window that is not square is told by the square that it fits in.
    """

    kernel: int = 1
    stride: int = 1
    before: int = 0


@dataclass(frozen=True)
class Axis:
    """How a layer's windows go over the rows of its input, or over its columns; all in input pixels.

    Attributes
    ----------
    side : int
        Pixels of the input.
    extent, stride : int
        Pixels that a window spans, and that it moves each time.
    before, after : int
        Padding.
    count : int
        Windows that fit: pixels of the output.
    ceil : bool
        Whether a window at the end counts that is not filled.
    """

    side: int
    extent: int
    stride: int
    before: int
    after: int
    count: int
    ceil: bool = False


@dataclass(frozen=True)
class LayerSettings(Kind):
    """Base of all layers' settings.

    To add a layer: its settings and shape rule and a line in its family's table here, its arithmetic and a line in the
    table of the same name in ``engine/layers``.
    """

    needs_map: ClassVar[bool] = False
    """Whether the input must be (rows, columns, channels)."""
    joins: ClassVar[bool] = False
    """Whether it takes two or more inputs; all others take one."""
    is_output: ClassVar[bool] = False
    """Whether it gives the network's scores, and so must stand last and nowhere else."""
    draws: ClassVar[bool] = False
    """Whether it is an output that gives images, not scores."""
    is_code: ClassVar[bool] = False
    """Whether its output is what an image is drawn from; a network that draws has one such layer."""
    is_input: ClassVar[bool] = False
    """Whether its values come with each image, not from it."""
    is_class: ClassVar[bool] = False
    """Whether these say which class the image is of."""
    is_meeting: ClassVar[bool] = False
    """Whether images that were drawn and real ones, its first input, come in by it: where a discriminator begins."""
    is_variational: ClassVar[bool] = False
    """Whether its inputs are means and log variances of a normal distribution, of which it draws codes."""
    is_rectifier: ClassVar[bool] = False
    """Whether it sets negative values to 0 and does nothing else, so that a layer before it may do so at once."""

    whole_batch: ClassVar[bool] = False
    """Whether training it needs sums over the whole batch."""

    filter_axis: ClassVar[int] = -1
    """Axis of its kernel or matrix along which its filters or units stand side by side."""

    def for_scores(self, units: int) -> Self:
        """As it stands where an output must give so many scores; the same by default."""
        del units
        return self

    def for_classes(self, classes: int) -> Self:
        """As it stands where there are so many classes; the same by default."""
        del classes
        return self

    @abstractmethod
    def output_shape(self, input_shape: Shape, *others: Shape) -> Shape:
        """Shape that comes out for one image's inputs; `DoesNotFit` where they cannot be taken."""

    def output_channels(self, *inputs: int | None) -> int | None:
        """Channels that come out for those of the inputs, None where they are not known; as they came by default."""
        return inputs[0]

    def weight_shapes(self, input_shape: Shape) -> dict[str, Shape]:
        """Shapes of the arrays that training changes, by name; none by default."""
        del input_shape
        return {}

    def state_shapes(self, input_shape: Shape) -> dict[str, Shape]:
        """Shapes of further arrays that are kept with the weights but have no gradient; none by default."""
        del input_shape
        return {}

    def multiply_adds(self, input_shape: Shape) -> int:
        """Multiplications with addition for one image, forward."""
        del input_shape
        return 0

    def reach(self, input_shape: Shape) -> Reach | None:
        """Window on the input, or None when an output sees the whole of it."""
        del input_shape
        return Reach()

    def axes(self, input_shape: Shape) -> tuple[Axis, Axis] | None:
        """How its windows go over rows and over columns; None if it has none."""
        del input_shape
        return None

    @property
    def summary(self) -> str:
        """What decides its output's shape, for an error further on: «5×5 kernel, valid padding»."""
        return ""

    def settings_in_use(self) -> tuple[str, ...]:
        """Names of the settings that do something beside the others; a form shows these."""
        return tuple(self.specs())

    def check_input(self, where: str, input_shape: Shape) -> None:
        """Refuse an input of the wrong rank, naming the node ``where`` it happens."""
        if self.needs_map and len(input_shape) != 3:
            raise DoesNotFit(
                f"The layer {where} does not fit",
                f"a {self.kind} looks at rows and columns, and its input was flattened to {input_shape[0]} values",
                "Move it before the flatten layer",
            )


@dataclass(frozen=True)
class SameShape(LayerSettings):
    """Base of the layers whose output has the shape of their input."""

    def output_shape(self, input_shape: Shape, *others: Shape) -> Shape:
        """As given."""
        return input_shape


Sides: TypeAlias = int | tuple[int, ...]
"""One number for all sides, or one each: (rows, columns), or (top, bottom, left, right)."""
Pads: TypeAlias = tuple[tuple[int, int], tuple[int, int]]
"""Pixels before and after, of rows and of columns."""


def both(sides: Sides) -> tuple[int, int]:
    """Rows and columns."""
    return (sides, sides) if isinstance(sides, int) else (sides[0], sides[1])


def one_or_both(sides: tuple[int, int]) -> Sides:
    """Rows and columns as a setting has them: one number where they are as many."""
    return sides[0] if sides[0] == sides[1] else sides


def four(sides: Sides) -> Pads:
    """Top and bottom, left and right."""
    if isinstance(sides, tuple) and len(sides) == 4:
        return (sides[0], sides[1]), (sides[2], sides[3])
    rows, columns = both(sides)
    return (rows, rows), (columns, columns)


def windows(side: int, extent: int, stride: int, before: int, after: int) -> int:
    """How many windows of ``extent`` pixels, ``stride`` apart, fit on ``side`` pixels with padding."""
    return (side + before + after - extent) // stride + 1


def text(shape: Shape) -> str:
    """A shape as people write it: 64×64×3."""
    return "×".join(str(n) for n in shape)


def product(shape: Shape) -> int:
    """Number of values in a shape."""
    return math.prod(shape)
