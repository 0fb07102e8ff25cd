"""How long and in what portions a network is trained."""

from __future__ import annotations

from dataclasses import dataclass
from typing import ClassVar

from attentive_lens.core.values import Value, spec


@dataclass(frozen=True)
class Training(Value):
    """Length and portions of the training, and the machine's part in it."""

    title: ClassVar[str] = "training"

    epochs: int = spec(20, label="epochs", low=1, high=100000, meaning="Times every training image is shown.")
    batch_size: int = spec(32, label="batch size", unit="images", low=1, high=4096, meaning="Images in one step.")
    augmentation_variants: int = spec(
        0,
        label="augmentation variants",
        low=0,
        high=10000,
        meaning="Augmented variants made of each image, which come in turn; 0: a new one at every epoch. With a few,"
        " the outputs of a frozen base are computed only once.",
    )
    clip_norm: float = spec(
        0.0,
        label="gradient clipping (norm)",
        low=0.0,
        high=1e6,
        meaning="A longer gradient is shortened to this norm; 0: never.",
    )
    kernels: str = spec(
        "auto",
        label="kernels",
        choices=("auto", "direct", "tiles"),
        meaning="How convolutions are computed: by their shape, or one way wherever it applies.",
    )
    threads: int = spec(
        2, label="threads", low=1, high=64, meaning="Cores used; the result is the same for any number."
    )
