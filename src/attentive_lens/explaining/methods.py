"""What is said of every map method: its name in the trade, what it shows, when it misleads, what it costs.

Nothing here computes, so that every face can list them; the arithmetic is in ``explaining/saliency``.
"""

from __future__ import annotations

from dataclasses import dataclass


@dataclass(frozen=True)
class MethodFacts:
    """A map method.

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

    label: str
    shows: str
    misleads: str
    cost: str
    signed: bool = False
    slow: bool = False


METHOD_FACTS: dict[str, MethodFacts] = {
    "gradient_times_input": MethodFacts(
        "gradient × input",
        "What each pixel adds to the score.",
        "Counted from the mean colour: a pixel of that colour adds nothing, even where emptiness is the reason.",
        "one pass each way",
        signed=True,
    ),
    "gradient": MethodFacts(
        "gradient",
        "Where a small change would move the score most.",
        "It is noisy, and weak where the answer is so sure that small changes no longer matter.",
        "one pass each way",
    ),
    "smoothed_gradient": MethodFacts(
        "smoothed gradient",
        "Where small changes move the score, averaged over noisy copies of the image.",
        "Noise the network never met may show a part of the image that it does not use.",
        "16 passes each way",
    ),
    "integrated_gradients": MethodFacts(
        "integrated gradients",
        "What each pixel adds to the score on the way from the image out of focus to this one; the parts add up.",
        "All depends on where the way begins: what the image out of focus shows already adds nothing.",
        "16 passes each way",
        signed=True,
    ),
    "guided_gradient": MethodFacts(
        "guided gradient",
        "Shapes in the image that active units pass on.",
        "It draws edges even for a network that has learned nothing.",
        "one pass each way",
    ),
    "class_activation": MethodFacts(
        "class activation",
        "Where the last feature maps speak for the answer, coarsely.",
        "It is as coarse as the maps of its layer, and says nothing of what happens after it.",
        "one pass each way",
    ),
    "contribution": MethodFacts(
        "contribution",
        "The score shared out to the pixels, layer by layer, by what each added.",
        "The rule decides much: two rules may share out the same score differently.",
        "two passes each way, four with alpha-beta, and as many again for the sum",
        signed=True,
    ),
    "contribution_alpha_beta": MethodFacts(
        "contribution α2 β1",
        "The score shared out to the pixels, layer by layer, by what each added.",
        "The rule decides much: two rules may share out the same score differently.",
        "two passes each way, four with alpha-beta, and as many again for the sum",
        signed=True,
    ),
    "occlusion": MethodFacts(
        "occlusion",
        "How much the score falls when a square covers the place.",
        "A square is itself something to see; two things that stand in for each other both look unimportant.",
        "about 290 forward passes",
        signed=True,
        slow=True,
    ),
    "random_masks": MethodFacts(
        "random masks",
        "How much the score gains where the place is left uncovered, over random covers.",
        "It is grainy, and random covers make images that no camera takes.",
        "400 forward passes",
        signed=True,
        slow=True,
    ),
}
"""By key, in the order of lists."""

DEFAULT = "integrated_gradients"
BASELINES = ("blurred", "own mean", "training mean", "darkest", "black")
"""Where integrated gradients may begin, besides another image: the image out of focus, its mean colour, the mean
colour of the training images, every channel at its least in the image, black."""
