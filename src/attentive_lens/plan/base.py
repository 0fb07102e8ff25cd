"""Layers of a trained network that a new one is built on."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import PurePath
from typing import ClassVar

from attentive_lens.core.files import shown
from attentive_lens.core.values import Value, spec
from attentive_lens.errors import BadValue

OPEN = ".onnx"
"""How a file of the open format ends."""
MODEL_SUFFIXES = (".alens", OPEN)
SHELF = "shelf:"
"""How the name of a model on the Shelf begins where a file could be named."""


@dataclass(frozen=True)
class Base(Value):
    """Layers taken from a trained model."""

    title: ClassVar[str] = "base"

    run: int = spec(
        1,
        meaning="Number of the run the layers come from; of no account with a model file.",
        label="run",
        low=1,
        ends="From 1, as the list of runs has it.",
    )
    until: str = spec("", meaning="Name of the last layer taken over.", label="up to")
    model: str = spec(
        "",
        label="model",
        meaning="Model on the Shelf (shelf:motifs), model file (.alens, .onnx), or another workspace whose run it is,"
        " that the layers come from; empty for a run of this workspace.",
    )
    take_preprocessing: bool = spec(
        False,
        label="take over its preprocessing",
        meaning="Whether the model's preprocessing stands in place of the plan's; if not, the two must be the same.",
    )
    statistics: str = spec(
        "training images",
        label="statistics of",
        choices=("training images", "base"),
        meaning="Whose mean and deviation standardise the images: those of this workspace's training images, or those"
        " the base was trained with, whose levels may be others.",
    )
    frozen: bool = spec(True, label="frozen", meaning="Whether the layers taken over keep their weights.")
    head_warmup_epochs: int = spec(
        0,
        label="head warm-up",
        unit="epochs",
        low=0,
        high=100000,
        meaning="Where layers of the base learn on: epochs in which only the new ones learn, before.",
        ends="Usual: 1 to 5. At 0 the random new layers disturb what the base knows; with many it learns on late.",
    )
    unfreeze_every: int = spec(
        0,
        label="unfreeze every",
        unit="epochs",
        low=0,
        high=100000,
        meaning="Epochs from one part of the base that begins to learn to the part before it (gradual unfreezing);"
        " 0: all at once. Layers whose maps have the same size are a part.",
        ends="Usual: 1 to 3. At 0 all parts begin at once; with many the first parts hardly learn before the run ends.",
    )
    lr_decay: float = spec(
        1.0,
        label="learning rate by depth",
        low=0.01,
        high=1.0,
        meaning="Factor of the learning rate from each part of the base to the part before it (discriminative learning"
        " rates); 1: the same everywhere.",
        ends="Usual: 0.3 to 1. At 1 all parts learn alike; near 0 the first parts stay as they are in the base.",
    )
    normalisation: str = spec(
        "learned",
        label="batch normalisation",
        choices=("learned", "kept"),
        meaning="Whether the base's batch normalisation learns on, or keeps its weights and running statistics.",
    )

    def __post_init__(self) -> None:
        """Settings that must fit each other."""
        super().__post_init__()
        if self.frozen and self.finely != (0, 0, 1.0, "learned"):
            why = "its layers are frozen, and there is nothing in them to be learned more slowly, later or not at all"
            raise BadValue("The base cannot be tuned so", why, "Set «base.frozen = false», or take the rest back")

    @property
    def finely(self) -> tuple[int, int, float, str]:
        """How its layers learn on: `head_warmup_epochs`, `unfreeze_every`, `lr_decay` and `normalisation`."""
        return self.head_warmup_epochs, self.unfreeze_every, self.lr_decay, self.normalisation

    def held(self) -> Base:
        """The same, frozen: how its layers would learn on is no longer said."""
        return Base(self.run, self.until, self.model, self.take_preprocessing, self.statistics)

    @property
    def on_shelf(self) -> str:
        """The name of a model on the Shelf; empty for any other."""
        return self.model.removeprefix(SHELF).strip() if self.model.startswith(SHELF) else ""

    @property
    def words(self) -> str:
        """What it is, in words: «run 3», «run 3 of meadow», «best.alens», «motifs»."""
        if self.on_shelf:
            return shown(self.on_shelf)
        name = shown(PurePath(self.model).name)
        if self.model.endswith(MODEL_SUFFIXES):
            return name
        return f"run {self.run} of {name}" if self.model else f"run {self.run}"
