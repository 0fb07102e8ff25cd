"""Layers of a trained network that a new one is built on."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import PurePath
from typing import ClassVar

from attentive_lens.core.files import shown
from attentive_lens.core.values import Value, spec

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
        1, meaning="Number of the run the layers come from; of no account with a model file.", label="run", low=1
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
