"""The map methods: name in the trade, what each shows, when it misleads, what it costs, and its settings.

Nothing here computes, so that every face can list them and make forms and options of their fields; the arithmetic is in
``explaining/saliency``. To add one: a class here and one in a file there, each in its table.
"""

from __future__ import annotations

import re
from dataclasses import dataclass
from typing import ClassVar

from attentive_lens.core.extensions import take_kinds
from attentive_lens.core.values import Kind, spec, unknown_word

BASELINES = ("blurred", "own mean", "training mean", "darkest", "black")
"""Where integrated gradients may begin, besides another image: the image out of focus, its mean colour, the mean
colour of the training images, every channel at its least in the image, black."""
CHANNEL = "channel of the image"
"""What the setting of a map of one channel names."""
_IMAGE = re.compile(r"image ([1-9]\d{0,8})")


@dataclass(frozen=True)
class MapSettings(Kind):
    """A map method with its settings.

    Attributes
    ----------
    label : str
        Its name in the trade, for a list.
    shows, misleads : str
        One sentence each: what the map shows, and when not to believe it.
    cost : str
        In passes through the network.
    signed : bool
        Whether values below zero mean «speaks against».
    slow : bool
        Whether it takes hundreds of passes.
    """

    section: ClassVar[str] = "method"
    label: ClassVar[str] = ""
    shows: ClassVar[str] = ""
    misleads: ClassVar[str] = ""
    cost: ClassVar[str] = ""
    signed: ClassVar[bool] = False
    slow: ClassVar[bool] = False

    @property
    def words(self) -> str:
        """In a sentence: its name, and the settings that are not the usual ones."""
        settings = ", ".join(f"{self.specs()[name].label} {value}" for name, value in self.unusual.items())
        return f"{self.label} {settings}".rstrip()

    @property
    def tip(self) -> str:
        """What it shows, when it misleads, what it costs."""
        return f"{self.shows} {self.misleads} It costs {self.cost}."

    @property
    def other_image(self) -> int | None:
        """Number of another image of the workspace that it needs."""
        return None


@dataclass(frozen=True)
class ByChannelSettings(MapSettings):
    """A method that gives every channel of the image its own part, summed unless one is asked for."""

    channel: str = spec(
        "",
        label="of channel",
        offers=("",),
        names=CHANNEL,
        meaning="One channel of the image, by its name: what it alone adds; all together if none is named.",
    )


@dataclass(frozen=True)
class GradientTimesInputSettings(ByChannelSettings):
    """Gradient × input."""

    kind: ClassVar[str] = "gradient_times_input"
    label: ClassVar[str] = "gradient × input"
    shows: ClassVar[str] = "What each pixel adds to the lead over the next class."
    misleads: ClassVar[str] = (
        "Counted from the mean colour: a pixel of that colour adds nothing, even where emptiness is the reason."
    )
    cost: ClassVar[str] = "one pass each way"
    signed: ClassVar[bool] = True


@dataclass(frozen=True)
class GradientSettings(ByChannelSettings):
    """Gradient."""

    kind: ClassVar[str] = "gradient"
    label: ClassVar[str] = "gradient"
    shows: ClassVar[str] = "Where a small change would move the lead over the next class most."
    misleads: ClassVar[str] = "It is noisy, and weak where the answer is so sure that small changes no longer matter."
    cost: ClassVar[str] = "one pass each way"


@dataclass(frozen=True)
class SmoothedGradientSettings(ByChannelSettings):
    """Smoothed gradient."""

    kind: ClassVar[str] = "smoothed_gradient"
    label: ClassVar[str] = "smoothed gradient"
    shows: ClassVar[str] = (
        "Where small changes move the lead over the next class, averaged over noisy copies of the image."
    )
    misleads: ClassVar[str] = "Noise the network never met may show a part of the image that it does not use."
    cost: ClassVar[str] = "16 passes each way"


@dataclass(frozen=True)
class IntegratedGradientsSettings(ByChannelSettings):
    """Integrated gradients."""

    kind: ClassVar[str] = "integrated_gradients"
    label: ClassVar[str] = "integrated gradients"
    shows: ClassVar[str] = (
        "What each pixel adds to the lead over the next class, from the image out of focus on; the parts add up."
    )
    misleads: ClassVar[str] = (
        "All depends on where the way begins: what the image out of focus shows already adds nothing."
    )
    cost: ClassVar[str] = "16 passes each way"
    signed: ClassVar[bool] = True

    baseline: str = spec(
        BASELINES[0],
        label="from",
        offers=BASELINES,
        names="image",
        meaning="Where the way to the image begins: what is there already adds nothing; or another image of the"
        " workspace, as «image 12».",
    )

    def __post_init__(self) -> None:
        super().__post_init__()
        if self.baseline not in BASELINES and self.other_image is None:
            raise unknown_word("baseline", self.baseline[:60], frozenset({*BASELINES, "image N"}))

    @property
    def other_image(self) -> int | None:
        """Where it begins, if that is another image."""
        number = _IMAGE.fullmatch(self.baseline)
        return int(number[1]) if number else None


@dataclass(frozen=True)
class GuidedGradientSettings(ByChannelSettings):
    """Guided gradient."""

    kind: ClassVar[str] = "guided_gradient"
    label: ClassVar[str] = "guided gradient"
    shows: ClassVar[str] = "Shapes in the image that active units pass on."
    misleads: ClassVar[str] = "It draws edges even for a network that has learned nothing."
    cost: ClassVar[str] = "one pass each way"


@dataclass(frozen=True)
class ClassActivationSettings(MapSettings):
    """Class activation."""

    kind: ClassVar[str] = "class_activation"
    label: ClassVar[str] = "class activation"
    shows: ClassVar[str] = "Where the last feature maps speak for the answer, coarsely."
    misleads: ClassVar[str] = "It is as coarse as the maps of its layer, and says nothing of what happens after it."
    cost: ClassVar[str] = "one pass each way"

    layer: str = spec(
        "",
        label="at",
        offers=("",),
        names="layer with maps",
        meaning="The layer whose maps are weighed: an earlier one is finer and knows less; the last that has maps if"
        " none is named.",
    )


@dataclass(frozen=True)
class ContributionSettings(ByChannelSettings):
    """Contribution, by the epsilon rule."""

    kind: ClassVar[str] = "contribution"
    label: ClassVar[str] = "contribution"
    shows: ClassVar[str] = "The lead over the next class shared out to the pixels, layer by layer, by what each added."
    misleads: ClassVar[str] = "The rule decides much: two rules may share out the same lead differently."
    cost: ClassVar[str] = "two passes each way, and as many again for the sum"
    signed: ClassVar[bool] = True
    rule: ClassVar[str] = "epsilon"


@dataclass(frozen=True)
class AlphaBetaSettings(ContributionSettings):
    """Contribution, by the alpha-beta rule."""

    kind: ClassVar[str] = "contribution_alpha_beta"
    label: ClassVar[str] = "contribution α2 β1"
    cost: ClassVar[str] = "four passes each way, and as many again for the sum"
    rule: ClassVar[str] = "alpha-beta"


@dataclass(frozen=True)
class OcclusionSettings(MapSettings):
    """Occlusion."""

    kind: ClassVar[str] = "occlusion"
    label: ClassVar[str] = "occlusion"
    shows: ClassVar[str] = "How much the lead over the next class falls when a square covers the place."
    misleads: ClassVar[str] = (
        "A square is itself something to see; two things that stand in for each other both look unimportant."
    )
    cost: ClassVar[str] = "about 290 forward passes"
    signed: ClassVar[bool] = True
    slow: ClassVar[bool] = True


@dataclass(frozen=True)
class RandomMasksSettings(MapSettings):
    """Random masks."""

    kind: ClassVar[str] = "random_masks"
    label: ClassVar[str] = "random masks"
    shows: ClassVar[str] = (
        "How much the lead over the next class gains where the place is left uncovered, over random covers."
    )
    misleads: ClassVar[str] = "It is grainy, and random covers make images that no camera takes."
    cost: ClassVar[str] = "400 forward passes"
    signed: ClassVar[bool] = True
    slow: ClassVar[bool] = True


MAP_METHODS: dict[str, type[MapSettings]] = {
    method.kind: method
    for method in (
        GradientTimesInputSettings,
        GradientSettings,
        SmoothedGradientSettings,
        IntegratedGradientsSettings,
        GuidedGradientSettings,
        ClassActivationSettings,
        ContributionSettings,
        AlphaBetaSettings,
        OcclusionSettings,
        RandomMasksSettings,
    )
}
"""By kind, in the order of lists."""
take_kinds(MAP_METHODS, "explaining.methods", MapSettings)
MapSettings.rows = MAP_METHODS

DEFAULT: MapSettings = IntegratedGradientsSettings()
"""The method that is shown first."""
QUICK: MapSettings = GradientTimesInputSettings()
"""For many images, or while something moves: one pass each way."""
