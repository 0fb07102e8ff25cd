"""How long and in what portions a network is trained."""

from __future__ import annotations

from dataclasses import dataclass
from typing import ClassVar

from attentive_lens.core.values import Value, spec
from attentive_lens.plan.measures import MEASURES

PRECISIONS = {"single": 4, "double": 8}
"""Of weights and of all that is computed with them: bytes of a number."""
UNIFORM, CLASS_BALANCED = SAMPLINGS = ("uniform", "class-balanced")


@dataclass(frozen=True)
class Training(Value):
    """Length and portions of the training, and the machine's part in it."""

    title: ClassVar[str] = "training"

    epochs: int = spec(
        20,
        label="epochs",
        low=1,
        high=100000,
        meaning="Times as many images are shown as are in training.",
        ends="Usual: 20 to 200, more with few images. Few: still improving at the end; many: learned by heart, "
        "though the best epoch is kept.",
    )
    batch_size: int = spec(
        32,
        label="batch size",
        unit="images",
        low=1,
        high=4096,
        meaning="Images in one step.",
        ends="Usual: 16 to 128. Small: unsteady steps, slow epochs; large: few steps an epoch, more memory, "
        "and a larger learning rate is needed.",
    )
    sampling: str = spec(
        UNIFORM,
        label="sampling",
        choices=SAMPLINGS,
        meaning="Uniform: an epoch shows every training image once. Class-balanced: every class as often as the others;"
        " images of small classes come again, others augmented, and of large ones a part.",
    )
    augmentation_variants: int = spec(
        0,
        label="augmentation variants",
        low=0,
        high=10000,
        meaning="Augmented variants made of each image, which come in turn; 0: a new one at every epoch. With a few,"
        " the outputs of a frozen base are computed only once.",
        ends="Usual: 0; 4 to 16 on a frozen base. Few: variants are learned by heart.",
    )
    clip_norm: float = spec(
        0.0,
        label="gradient clipping (norm)",
        low=0.0,
        high=1e6,
        meaning="A longer gradient is shortened to this norm; 0: never.",
        ends="Usual: 0, or 1 to 10 where the loss jumps. Small ones make every step as long as this, whatever "
        "the slope.",
    )
    evaluate_every: int = spec(
        1,
        label="evaluate every",
        unit="epochs",
        low=1,
        high=100000,
        meaning="Epochs from one evaluation on the validation set to the next; the last epoch is always evaluated.",
        ends="Usual: 1. More saves time with many validation images, and the best epoch may fall between.",
    )
    evaluation_batch_size: int = spec(
        256,
        label="evaluation batch size",
        unit="images",
        low=8,
        high=4096,
        meaning="Images evaluated at once.",
        ends="Usual: 256. Small: slow; large: more memory. The figures are the same.",
    )
    best_by: str = spec(
        "accuracy",
        label="best by",
        choices=MEASURES,
        meaning="The measure, on the validation set, by which the best epoch is chosen; of equals, that of less loss.",
    )
    keep_last: int = spec(
        0,
        label="keep last",
        unit="epochs",
        low=0,
        high=1000,
        meaning="Models of so many last epochs kept besides the best one; 0: none.",
        ends="Usual: 0. Each takes the room of a model file.",
    )
    keep_every: int = spec(
        0,
        label="keep every",
        unit="epochs",
        low=0,
        high=10000,
        meaning="Epochs from one model that is kept for good to the next, besides the best one; 0: none.",
        ends="Usual: 0. Each takes the room of a model file.",
    )
    checkpoint_minutes: float = spec(
        2.0,
        label="save every",
        unit="minutes",
        low=0.05,
        high=1440.0,
        meaning="Minutes between checkpoints within a long epoch.",
        ends="Usual: 2 to 10. Short ones cost time where models are large; of long ones that much work is lost "
        "if the machine goes off.",
    )
    precision: str = spec(
        "single",
        label="precision",
        choices=tuple(PRECISIONS),
        meaning="Of weights and of all that is computed with them: single, 4 bytes a number, or double, 8 bytes, which"
        " takes twice the memory and about 1.6 times the time, for who asks whether rounding matters.",
    )
    kernels: str = spec(
        "auto",
        label="kernels",
        choices=("auto", "direct", "tiles"),
        meaning="How convolutions are computed: by their shape, or one way wherever it applies.",
    )
    threads: int = spec(
        2,
        label="threads",
        low=1,
        high=64,
        meaning="Cores used on a machine; the result is the same for any number.",
        ends="Usual: the machine's cores. One leaves room for other work; more than cores brings nothing.",
    )

    @property
    def bytes_a_number(self) -> int:
        """Of weights, and of what is computed with them."""
        return PRECISIONS[self.precision]
