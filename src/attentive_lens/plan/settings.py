"""The smaller parts of a plan: split, preparation, base and training settings."""

from __future__ import annotations

import re
from dataclasses import dataclass
from typing import ClassVar

from attentive_lens.errors import BadValue
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
    test: float = spec(
        0.0,
        label="kept for the test",
        low=0.0,
        high=0.9,
        meaning="Part of every class kept for one last judgement, where the source names no test set; 0 to 0.9.",
    )
    keep_together: str = spec(
        "copies",
        label="never parted",
        choices=("copies", "same name", "nothing"),
        meaning="Images that go into one set together: copies that the fault finder knows, or a part of their names.",
    )
    pattern: str = spec(
        "",
        label="part of the name",
        meaning="Regular expression; images for which it finds the same text in the name stay together.",
    )
    subset: float = spec(
        1.0,
        label="part used",
        low=0.001,
        high=1.0,
        meaning="Part of every class used at all, 0 to 1; a small one makes a first run quick.",
    )
    folds: int = spec(
        0, label="folds", low=0, high=100, meaning="Equal parts that take turns as the validation set; 0 for one split."
    )
    fold: int = spec(1, label="fold judged by", low=1, high=100, meaning="Which fold is the validation set, from 1.")

    def __post_init__(self) -> None:
        """Settings that must fit each other."""
        super().__post_init__()
        if self.folds and self.fold > self.folds:
            raise BadValue("split.fold", f"there is no fold {self.fold} of {self.folds}", "Choose a lower one")
        if self.validation + self.test > 0.95:
            raise BadValue("split", "validation and test leave nothing to train on", "Lower one of them")
        try:
            re.compile(self.pattern)
        except (re.error, OverflowError, RecursionError) as error:
            raise BadValue("split.pattern", f"it is no regular expression: {error}", "Mend it") from None


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
    colour: str = spec(
        "colour",
        label="colour",
        choices=("colour", "grey", "luma-chroma"),
        meaning="Red, green and blue; one channel; or brightness apart from colour (luma, and two of chroma).",
    )
    level: str = spec(
        "scale and centre",
        label="levels",
        choices=("scale", "scale and centre", "local contrast"),
        meaning="Scale to 0–1; centre also takes off the training mean and divides by its deviation; local contrast"
        " does so with the mean and deviation of each pixel's neighbourhood.",
    )

    @property
    def shape(self) -> tuple[int, int, int]:
        """(rows, columns, channels) of a prepared image."""
        return (self.side, self.side, 1 if self.colour == "grey" else 3)


@dataclass(frozen=True)
class Base(Value):
    """Layers taken from an earlier run."""

    title: ClassVar[str] = "base"

    run: int = spec(meaning="Number of the run the layers come from.", label="from run", low=1)
    until: str = spec(meaning="Name of the last layer taken over.", label="up to")
    frozen: bool = spec(True, label="frozen", meaning="Whether the layers taken over keep their weights.")


OPTIMISER_ARRAYS = {"adam": 2, "sgd": 0, "momentum": 1, "nesterov": 1, "adagrad": 1, "rmsprop": 1}
"""Arrays of the weights' size that each optimiser keeps, for the memory a run needs."""


@dataclass(frozen=True)
class Training(Value):
    """How the weights are learned."""

    title: ClassVar[str] = "training"

    epochs: int = spec(20, label="epochs", low=1, high=100000, meaning="Times every training image is shown.")
    batch: int = spec(32, label="batch", unit="images", low=1, high=4096, meaning="Images in one step.")
    optimiser: str = spec(
        "adam",
        label="optimiser",
        choices=tuple(OPTIMISER_ARRAYS),
        meaning="The rule that turns gradients into steps.",
    )
    rate: float = spec(0.001, label="learning rate", low=1e-8, high=10.0, meaning="Length of a step.")
    momentum: float = spec(
        0.9, label="momentum", low=0.0, high=0.9999, meaning="Part of the last step kept in the next, 0 to 1."
    )
    decay: float = spec(
        0.0, label="weight decay", low=0.0, high=1.0, meaning="Pull of every kernel and matrix towards zero."
    )
    decays: str = spec(
        "apart",
        label="decay acts",
        choices=("apart", "with the gradient"),
        meaning="Apart from the optimiser’s rule (decoupled; with adam: AdamW), or added to the gradient (L2).",
    )
    clip: float = spec(
        0.0, label="longest gradient", low=0.0, high=1e6, meaning="The whole gradient is shortened to it; 0: never."
    )
    loss: str = spec(
        "softmax cross-entropy",
        label="loss",
        choices=("softmax cross-entropy", "sigmoid cross-entropy", "squared error", "absolute error"),
        meaning="What training makes small.",
    )
    smoothing: float = spec(
        0.0, label="label smoothing", low=0.0, high=0.9, meaning="Part of every label shared out over all classes."
    )
    classes_count: str = spec(
        "by images",
        label="classes count",
        choices=("by images", "the same"),
        meaning="By how many images they have, or all the same: rare ones weigh more (class weights).",
    )
    schedule: str = spec(
        "constant",
        label="rate over time",
        choices=("constant", "steps", "exponential", "cosine", "one cycle", "plateau"),
        meaning="How the learning rate changes: in steps, evenly falling, along a cosine, up and down once, or when"
        " the validation loss no longer falls.",
    )
    every: float = spec(
        10.0, label="every", unit="epochs", low=0.01, high=1e5, meaning="Steps and exponential: epochs between falls;"
        " plateau: epochs of patience.",
    )  # fmt: skip
    falls: float = spec(0.1, label="falls to", low=0.0001, high=1.0, meaning="Factor of each fall.")
    warm_up: float = spec(
        0.0, label="warm-up", unit="epochs", low=0.0, high=1e5, meaning="Epochs over which the rate rises from zero."
    )
    start: str = spec(
        "he",
        label="weights start",
        choices=("he", "glorot", "orthogonal", "normal", "constant"),
        meaning="How new weights are drawn.",
    )
    kernels: str = spec(
        "auto",
        label="kernels",
        choices=("auto", "gather", "tiles"),
        meaning="How convolutions are computed: by their shape, or one way wherever it applies.",
    )
    threads: int = spec(
        2, label="threads", low=1, high=64, meaning="Cores used; the result is the same for any number."
    )
