"""The smaller parts of a plan: split, preparation, base and training settings."""

from __future__ import annotations

from dataclasses import dataclass
from typing import ClassVar

from attentive_lens.plan.values import Value, spec


@dataclass(frozen=True)
class Split(Value):
    """How the images not already in a set are parted."""

    title: ClassVar[str] = "split"

    validation: float = spec(
        0.2,
        label="held out for validation",
        low=0.0,
        high=0.9,
        meaning="Part of every class kept from training to judge it by, 0 to 0.9.",
    )


@dataclass(frozen=True)
class Preparation(Value):
    """What is done to every image, of any set, before the network sees it."""

    title: ClassVar[str] = "preparation"

    side: int = spec(
        64,
        label="working size",
        unit="pixels",
        low=4,
        high=1024,
        meaning="Side of the square the network sees.",
    )
    fit: str = spec(
        "stretch",
        label="other shapes are",
        choices=("stretch", "border", "crop"),
        meaning="Stretched to the square, set in a border, or cut to their middle.",
    )
    colour: str = spec("colour", label="colour", choices=("colour", "grey"), meaning="Three channels or one.")
    level: str = spec(
        "scale and centre",
        label="levels",
        choices=("scale", "scale and centre"),
        meaning="Scale to 0–1; centre also takes off the training mean and divides by its deviation.",
    )

    @property
    def shape(self) -> tuple[int, int, int]:
        """(rows, columns, channels) of a prepared image."""
        return (self.side, self.side, 3 if self.colour == "colour" else 1)


@dataclass(frozen=True)
class Base(Value):
    """Layers taken from an earlier run."""

    title: ClassVar[str] = "base"

    run: int = spec(meaning="Number of the run the layers come from.", label="from run", low=1)
    until: str = spec(meaning="Name of the last layer taken over.", label="up to")
    frozen: bool = spec(True, label="frozen", meaning="Whether the layers taken over keep their weights.")


@dataclass(frozen=True)
class Training(Value):
    """How the weights are learned."""

    title: ClassVar[str] = "training"

    optimiser: str = spec(
        "adam",
        label="optimiser",
        choices=("adam", "momentum"),
        meaning="The rule that turns gradients into steps: Adam, or stochastic gradient descent with momentum.",
    )
    rate: float = spec(0.001, label="learning rate", low=1e-8, high=10.0, meaning="Length of a step.")
    momentum: float = spec(
        0.9, label="momentum", low=0.0, high=0.9999, meaning="Part of the last step kept in the next, 0 to 1."
    )
    batch: int = spec(32, label="batch", unit="images", low=1, high=4096, meaning="Images in one step.")
    epochs: int = spec(20, label="epochs", low=1, high=100000, meaning="Times every training image is shown.")
    threads: int = spec(
        2, label="threads", low=1, high=64, meaning="Cores used; the result is the same for any number."
    )
