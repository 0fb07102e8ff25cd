"""Settings of the normalisations."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any, ClassVar

from attentive_lens.core.values import spec
from attentive_lens.plan.layers.base import DoesNotFit, LayerSettings, SameShape, Shape, text


def _epsilon() -> Any:
    """Of a division by a deviation."""
    return spec(
        1e-5,
        label="epsilon",
        low=1e-8,
        high=0.1,
        meaning="Added to the variance before the root.",
        ends="Usual: 0.00001. Smaller lets maps that are nearly constant blow up; large ones leave them unnormalised.",
    )


@dataclass(frozen=True)
class BatchNormalisation(SameShape):
    """Centres and scales every channel over the batch; over the training's running figures at inference."""

    kind: ClassVar[str] = "batch normalisation"
    idea: ClassVar[str] = "Centres and scales every channel over the whole batch, so that deep networks train evenly."
    whole_batch: ClassVar[bool] = True

    momentum: float = spec(
        0.9,
        label="momentum",
        low=0.0,
        high=0.9999,
        meaning="Part of the running mean and variance kept at each step.",
        ends="Usual: 0.9 to 0.99. At 0 the last batch alone counts; near 1 answers lag behind in a short run.",
    )
    epsilon: float = _epsilon()

    def weight_shapes(self, input_shape: Shape) -> dict[str, Shape]:
        """``scale`` and ``shift``: C."""
        return {"scale": (input_shape[-1],), "shift": (input_shape[-1],)}

    def state_shapes(self, input_shape: Shape) -> dict[str, Shape]:
        """Running ``mean`` and ``variance``: C."""
        return {"mean": (input_shape[-1],), "variance": (input_shape[-1],)}


@dataclass(frozen=True)
class GroupNormalisation(SameShape):
    """Centres and scales groups of channels within each image."""

    kind: ClassVar[str] = "group normalisation"
    idea: ClassVar[str] = "Centres and scales groups of channels within each image; the same with any batch size."
    needs_map: ClassVar[bool] = True

    groups: int = spec(
        8,
        label="groups",
        low=1,
        high=4096,
        meaning="Into how many groups the channels are put.",
        ends="Usual: 8 to 32. At 1 all channels together; as many as channels: each map by itself, whose "
        "strength is lost then.",
    )
    epsilon: float = _epsilon()

    def output_shape(self, input_shape: Shape, *others: Shape) -> Shape:
        """As given."""
        if input_shape[2] % self.groups:
            raise DoesNotFit(
                "The normalisation does not fit",
                f"{input_shape[2]} channels cannot be put into {self.groups} equal groups, input {text(input_shape)}",
                "Choose a number of groups that divides the channels",
            )
        return input_shape

    def weight_shapes(self, input_shape: Shape) -> dict[str, Shape]:
        """``scale`` and ``shift``: C."""
        return {"scale": (input_shape[2],), "shift": (input_shape[2],)}


@dataclass(frozen=True)
class ScaleAndShift(SameShape):
    """A learned factor and offset for every channel."""

    kind: ClassVar[str] = "scale and shift"
    idea: ClassVar[str] = "Multiplies every channel by a learned factor and adds a learned offset."

    def weight_shapes(self, input_shape: Shape) -> dict[str, Shape]:
        """``scale`` and ``shift``: C."""
        return {"scale": (input_shape[-1],), "shift": (input_shape[-1],)}


@dataclass(frozen=True)
class LocalResponse(SameShape):
    """Divides every value by the strength of its neighbour channels."""

    kind: ClassVar[str] = "local response normalisation"
    idea: ClassVar[str] = "Divides every value by the strength of the channels beside it."
    needs_map: ClassVar[bool] = True

    size: int = spec(
        5,
        label="size",
        low=1,
        high=255,
        meaning="Channels counted together.",
        ends="Usual: 5. At 1 a map damps itself alone; wide ones let a strong one silence many.",
    )
    k: float = spec(
        2.0,
        label="k",
        low=0.001,
        high=100.0,
        meaning="Added to the sum.",
        ends="Usual: 1 to 2. Near 0 quiet places are divided by almost nothing.",
    )
    alpha: float = spec(
        1e-4,
        label="alpha",
        low=1e-8,
        high=10.0,
        meaning="Of the squares' sum.",
        ends="Usual: 0.0001. Near 0 nothing is damped; large ones flatten everything strong.",
    )
    beta: float = spec(
        0.75,
        label="beta",
        low=0.01,
        high=4.0,
        meaning="The sum is raised to it.",
        ends="Usual: 0.75. Near 0 nothing is damped; beyond 1 strong places come out weaker than faint ones.",
    )


NORMALISATIONS: tuple[type[LayerSettings], ...] = (
    BatchNormalisation,
    GroupNormalisation,
    LocalResponse,
    ScaleAndShift,
)
