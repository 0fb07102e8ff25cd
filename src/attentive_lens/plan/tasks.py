"""What a network is for: the tasks a plan may have."""

from __future__ import annotations

from dataclasses import dataclass
from typing import ClassVar

from attentive_lens.core.values import Kind, spec
from attentive_lens.errors import BadValue
from attentive_lens.plan.losses import LossSettings
from attentive_lens.plan.network import NetworkPlan
from attentive_lens.plan.preprocessing import Preprocessing

IMAGES = "images"
"""In place of an output function in a model file: its network gives images, not scores."""


@dataclass(frozen=True)
class TaskSettings(Kind):
    """Base of the tasks.

    Attributes
    ----------
    draws : bool
        Whether the network gives images.
    """

    section: ClassVar[str] = "task"
    draws: ClassVar[bool] = False

    @property
    def wanted(self) -> str:
        """What a batch's targets are: classes where empty, or the "augmented" or "plain" images."""
        return ""

    def output(self, loss: LossSettings) -> str:
        """What makes answers of what the network gives, as it stands in a model file."""
        return IMAGES if self.draws else loss.output

    def best_by(self, chosen: str) -> str:
        """The measure by which the best epoch is chosen."""
        return "loss" if self.draws else chosen

    def misfit(self, network: NetworkPlan, preprocessing: Preprocessing) -> BadValue | None:
        """Why a network is none for it; None if it is."""
        del preprocessing
        if not network.draws:
            return None
        why = "its last layer draws images, and the task is to answer classes"
        return BadValue("The network does not fit the task", why, "Set task=encode, or let the last layer be «output»")


@dataclass(frozen=True)
class Classify(TaskSettings):
    """The class of every image."""

    kind: ClassVar[str] = "classify"
    idea: ClassVar[str] = "Answers the class of every image."


@dataclass(frozen=True)
class Encode(TaskSettings):
    """Codes of every image, from which it is drawn again."""

    kind: ClassVar[str] = "encode"
    idea: ClassVar[str] = "Draws every image again from a few codes (auto-encoder), without looking at labels."
    draws: ClassVar[bool] = True

    divergence_weight: float = spec(
        1.0,
        label="divergence weight",
        low=0.0,
        high=1000.0,
        meaning="Part of the divergence of normal codes in the loss; 1 is the lower bound of the likelihood.",
    )
    warmup_epochs: int = spec(
        0, label="divergence warm-up", unit="epochs", low=0, high=100000, meaning="In which its weight rises from 0."
    )
    denoise: bool = spec(
        False,
        label="denoise",
        meaning="The image is to be drawn as it was before the augmentation, which is the noise; if not, as it came.",
    )

    @property
    def wanted(self) -> str:
        """Images."""
        return "plain" if self.denoise else "augmented"

    def weight_at(self, epoch: int, part: float) -> float:
        """The divergence's weight within an epoch from 0, so great a part of it being over."""
        risen = min(1.0, (epoch + part) / self.warmup_epochs) if self.warmup_epochs else 1.0
        return self.divergence_weight * risen

    def misfit(self, network: NetworkPlan, preprocessing: Preprocessing) -> BadValue | None:
        """A network that does not draw images of the input's shape from one layer of codes."""
        what = "The network does not fit the task"
        if not network.draws:
            why = "its last layer gives scores of classes, and the task is to draw images"
            return BadValue(what, why, "Choose one that draws, as network=variational, or set task=classify")
        codes = [node.name for node in network.nodes if node.layer.is_code]
        if len(codes) != 1:
            why = f"{len(codes)} of its layers are codes, and images are drawn from one"
            return BadValue(what, why, "Let exactly one layer be «codes» or «normal codes»")
        (code,) = codes
        past = {code}
        for node in network.nodes:
            if past.intersection(node.after):
                past.add(node.name)
                if not past.issuperset(node.after):
                    why = f"{node.name} stands after layers that the codes do not feed, so it would not need them"
                    return BadValue(what, why, f"Let all that stands after {code} be fed by it alone")
        drawn = network.facts(preprocessing.shape)[-1].shape
        if drawn != preprocessing.shape:
            shapes = ["×".join(map(str, shape)) for shape in (drawn, preprocessing.shape)]
            why = f"it draws images of {shapes[0]}, and they come in as {shapes[1]}"
            return BadValue(what, why, "Let the decoder end at the input size, with as many channels")
        return None


TASKS: dict[str, type[TaskSettings]] = {task.kind: task for task in (Classify, Encode)}
