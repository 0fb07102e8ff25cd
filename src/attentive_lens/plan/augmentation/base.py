"""What every augmentation step has."""

from __future__ import annotations

from dataclasses import dataclass
from typing import TYPE_CHECKING, ClassVar

from attentive_lens.core.values import Kind, spec

if TYPE_CHECKING:
    from attentive_lens.plan.preprocessing import Preprocessing


@dataclass(frozen=True)
class AugmentationStep(Kind):
    """Base of the steps: a change made to a training image with some probability.

    To add one: its settings in the file of its family here, its arithmetic in the file of the same name in
    ``images/augmentation``, and one line in each room's table.
    """

    section: ClassVar[str] = "augmentation"
    caution: ClassVar[str] = ""
    """What to ask oneself where the change may change the meaning."""
    last: ClassVar[bool] = False
    """Whether it is done after all others, wherever it stands in the augmentation."""
    for_pictures: ClassVar[bool] = False
    """Whether it is for ordinary pictures, grey or in colour, and stands aside for channels of other names."""

    probability: float = spec(
        0.5,
        label="probability",
        low=0.0,
        high=1.0,
        meaning="Part of the images changed, 0 to 1.",
        ends="Usual: 0.5. At 0 it is never done; at 1 the network never sees an image as it is, and what it "
        "will be asked about it knows only changed.",
    )

    def acts_on(self, preprocessing: Preprocessing) -> bool:
        """Whether it changes images that are prepared so; if not, it stands aside."""
        return not (self.for_pictures and preprocessing.channel_names)
