"""What a network is for: the tasks a plan may have."""

from __future__ import annotations

from dataclasses import dataclass
from typing import ClassVar

from attentive_lens.core.values import Kind, spec
from attentive_lens.errors import BadValue
from attentive_lens.plan.layers.coding import NO_LIKELIHOOD
from attentive_lens.plan.losses import LossSettings
from attentive_lens.plan.measures import DRAWN, GENERATED, LABELLED, MEASURES, Measure
from attentive_lens.plan.network import NetworkPlan
from attentive_lens.plan.nodes import IMAGE
from attentive_lens.plan.preprocessing import Preprocessing
from attentive_lens.plan.stopping import Stopping
from attentive_lens.plan.training import UNIFORM, Training

ADVERSARIAL_LOSSES = ("non-saturating", "least squares", "hinge")
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
    several: ClassVar[bool] = False
    """Whether an image may have several labels, each of which is answered by itself."""
    is_pair: ClassVar[bool] = False
    """Whether a second network, which tells drawn from real images, is trained with the one that draws."""
    encodes: ClassVar[bool] = False
    """Whether it gives every image codes."""

    @property
    def wanted(self) -> str:
        """What a batch's targets are: classes where empty, or the "augmented" or "plain" images."""
        return ""

    def output(self, loss: LossSettings) -> str:
        """What makes answers of what the network gives, as it stands in a model file."""
        return IMAGES if self.draws else loss.output

    def units(self, loss: LossSettings, classes: int) -> int:
        """Scores that the network gives, for so many classes."""
        return loss.outputs(classes)

    @property
    def measures(self) -> dict[str, Measure]:
        """What its epochs are told by, beside the loss, what stands for all first."""
        return DRAWN if self.draws else MEASURES

    def loss_words(self, loss: LossSettings) -> str:
        """What training makes small."""
        return "minus the lower bound" if self.draws else loss.kind

    def best_by(self, chosen: str) -> str:
        """The measure by which the best epoch is chosen; empty where that is always the last one."""
        return "loss" if self.draws else chosen

    @property
    def idle(self) -> frozenset[str]:
        """Settings of a plan, or whole sections, that have no part in it."""
        return frozenset({"loss", "training.best_by"}) if self.draws else frozenset()

    def unfit_training(self, loss: LossSettings, training: Training, stopping: Stopping) -> BadValue | None:
        """Why it cannot be trained for so, or a rule would wait for what is never measured; None if it can."""
        del loss
        rules = (
            ("training.best_by", training.best_by, "validation", "training.best_by" not in self.idle),
            ("stopping.patience_measure", stopping.patience_measure, "validation", stopping.patience > 0),
            ("stopping.target_measure", stopping.target_measure, stopping.target_set, stopping.target > 0),
        )
        for key, name, images, counts in rules:
            known = self.measured_on(images)
            if counts and name not in known:
                why = f"{key} is {name}, and what is measured of {images} images is {', '.join(known)}"
                return BadValue("The training does not fit the task", why, f"Set {key} to one of them")
        return None

    def fitted(self, stopping: Stopping) -> Stopping:
        """The rules of another task for this one: patience waits for the loss, a target is off, where nothing else is.

        A target for one measure says nothing of another.
        """
        if stopping.patience_measure not in self.measured_on("validation"):
            stopping = stopping.with_(patience_measure="loss")
        if stopping.target_measure not in self.measured_on(stopping.target_set):
            stopping = stopping.with_(target=0.0)
        return stopping

    def measured_on(self, images: str) -> tuple[str, ...]:
        """Measures that a rule may wait for, of training or validation images."""
        known = (name for name in MEASURES if name == "loss" or name in self.measures)
        return tuple(name for name in known if images != "training" or name in ("accuracy", "loss"))

    def misfit(self, network: NetworkPlan, preprocessing: Preprocessing) -> BadValue | None:
        """Why a network is none for it; None if it is."""
        del preprocessing
        if not network.draws:
            return None
        why = f"its layer {network.drawing.name} draws images, and the task is to answer classes"
        remedy = f"Set task={'generate' if network.meeting else 'encode'}, or choose a network without it"
        return BadValue("The network does not fit the task", why, remedy)


@dataclass(frozen=True)
class Classify(TaskSettings):
    """The class of every image."""

    kind: ClassVar[str] = "classify"
    idea: ClassVar[str] = "Answers the class of every image."


@dataclass(frozen=True)
class MultiLabel(TaskSettings):
    """Every label of an image."""

    kind: ClassVar[str] = "multi-label"
    idea: ClassVar[str] = "Answers of every label whether an image has it: several may be right, or none."
    several: ClassVar[bool] = True

    @property
    def measures(self) -> dict[str, Measure]:
        """Of labels."""
        return LABELLED

    def unfit_training(self, loss: LossSettings, training: Training, stopping: Stopping) -> BadValue | None:
        """A loss by which one class takes from another, what counts images by their one class, or their measures."""
        what = "The training does not fit the task"
        if loss.output != "sigmoid":
            why = f"{loss.kind} lets an image have one class, and the task is multi-label"
            return BadValue(what, why, "Set loss=sigmoid cross-entropy, or task=classify")
        if training.sampling != UNIFORM:
            why = f"{training.sampling} sampling goes by the one class of an image, and the task is multi-label"
            return BadValue(what, why, "Set training.sampling=uniform; loss.class_weights=balanced weighs rare labels")
        return super().unfit_training(loss, training, stopping)


@dataclass(frozen=True)
class Encode(TaskSettings):
    """Codes of every image, from which it is drawn again."""

    kind: ClassVar[str] = "encode"
    idea: ClassVar[str] = "Draws every image again from a few codes (auto-encoder), without looking at labels."
    draws: ClassVar[bool] = True
    encodes: ClassVar[bool] = True

    divergence_weight: float = spec(
        1.0,
        label="divergence weight",
        low=0.0,
        high=1000.0,
        meaning="Part of the divergence of normal codes in the loss; 1 is the lower bound of the likelihood.",
        ends="Usual: 0.1 to 4. Near 0 codes are used freely and random ones draw nothing; large ones leave "
        "codes unused.",
    )
    warmup_epochs: int = spec(
        0,
        label="divergence warm-up",
        unit="epochs",
        low=0,
        high=100000,
        meaning="In which its weight rises from 0.",
        ends="Usual: 0 to a third of the run. At 0 codes may go unused from the start; as long as the run, the "
        "full weight is never reached.",
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
        if not network.nodes[-1].layer.draws:
            why = "its last layer gives scores, and the task is to draw images again"
            return BadValue(what, why, "Choose one that draws, as network=variational, or set task=classify")
        if getattr(network.nodes[-1].layer, "likelihood", "") == NO_LIKELIHOOD:
            why = f"{network.nodes[-1].name} says of no image how likely it is"
            return BadValue(what, why, "Set its likelihood to gaussian or bernoulli")
        if any(node.layer.is_input for node in network.nodes):
            why = "noise and classes are for networks that draw without an image"
            return BadValue(what, why, "Take these layers out, or set task=generate")
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


@dataclass(frozen=True)
class Generate(TaskSettings):
    """Images of noise, by a network that is trained against another one, which tells them from real ones.

    Goodfellow 2014, algorithm 1; told the class, Mirza & Osindero 2014.
    """

    kind: ClassVar[str] = "generate"
    idea: ClassVar[str] = "Draws images of noise (generator), against a network that tells them from real ones."
    draws: ClassVar[bool] = True
    is_pair: ClassVar[bool] = True

    adversarial_loss: str = spec(
        "non-saturating",
        label="adversarial loss",
        choices=ADVERSARIAL_LOSSES,
        meaning="What both make small: cross-entropy of real against drawn, each side its own; squared distances from"
        " 1 and 0; or margins (hinge).",
    )
    discriminator_steps: int = spec(
        1,
        label="discriminator steps",
        low=1,
        high=100,
        meaning="Batches the discriminator learns from for one step.",
        ends="Usual: 1 to 5. More make the discriminator sure of itself, and the run that many times longer.",
    )
    generator_steps: int = spec(
        1,
        label="generator steps",
        low=1,
        high=100,
        meaning="Steps of the generator when its turn has come.",
        ends="Usual: 1 or 2. Many let the generator follow a discriminator that knows little.",
    )
    mismatched: bool = spec(
        False,
        label="mismatched classes",
        meaning="Real images under another class are shown to the discriminator too, to be judged as drawn ones: for"
        " pairs that are told classes.",
    )
    spectral_normalisation: bool = spec(
        False,
        label="spectral normalisation",
        meaning="Every kernel and matrix of the discriminator that sees the image is used divided by its largest"
        " singular value.",
    )

    @property
    def wanted(self) -> str:
        """Images as they are augmented."""
        return "augmented"

    def units(self, loss: LossSettings, classes: int) -> int:
        """One: how real an image looks."""
        return 1

    @property
    def measures(self) -> dict[str, Measure]:
        """Of both networks."""
        return GENERATED

    def loss_words(self, loss: LossSettings) -> str:
        """The generator's."""
        return f"{self.adversarial_loss} loss of the generator"

    def best_by(self, chosen: str) -> str:
        """Nothing says of an epoch how good its drawings are: the last one counts."""
        return ""

    def misfit(self, network: NetworkPlan, preprocessing: Preprocessing) -> BadValue | None:
        """A network that does not draw of noise, or whose drawings do not meet real images."""

        def fault(why: str, remedy: str) -> BadValue:
            return BadValue("The network does not fit the task", why, remedy)

        start = "Start from one that does, as network=generator"
        kinds = {
            "noise": [node for node in network.nodes if node.layer.is_code and node.layer.is_input],
            "drawing": [node for node in network.nodes if node.layer.draws],
            "real or drawn": [node for node in network.nodes if node.layer.is_meeting],
        }
        for kind, nodes in kinds.items():
            if len(nodes) != 1:
                return fault(f"{len(nodes)} of its layers are «{kind}», and a pair has one", start)
        (noise,), (drawing,), (meeting,) = kinds.values()
        if network.nodes[-1].layer.draws or not network.nodes[-1].layer.is_output:
            return fault("its last layer does not say how real an image looks", "Let it end with «output»")
        if getattr(drawing.layer, "likelihood", "") != NO_LIKELIHOOD:
            why = f"{drawing.name} has a likelihood, and here the discriminator judges what is drawn"
            return fault(why, f"Set its likelihood to {NO_LIKELIHOOD}")
        if meeting.after != (IMAGE, drawing.name):
            why = f"{meeting.name} stands after {' and '.join(meeting.after)}"
            return fault(why, f"Let it stand after {IMAGE} and {drawing.name}")
        draws = network.up_to(drawing.name)
        for node in network.nodes:
            if node.name in draws:
                if IMAGE in node.after and not node.layer.is_input:
                    why = f"{node.name} looks at the image, and the generator draws without one"
                    return fault(why, f"Let it stand after {noise.name}")
                continue
            for source in node.after:
                if source in draws and node is not meeting and not network.node(source).layer.is_input:
                    why = f"{node.name} of the discriminator looks at {source} of the generator"
                    return fault(why, f"Let it stand after {meeting.name}")
        return None


TASKS: dict[str, type[TaskSettings]] = {task.kind: task for task in (Classify, MultiLabel, Encode, Generate)}
