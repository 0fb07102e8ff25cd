"""What a model is judged by on a set: a name, which way is better, and what it means."""

from __future__ import annotations

from dataclasses import dataclass

from attentive_lens.core.extensions import take_kinds


@dataclass(frozen=True)
class Measure:
    """One figure of a model on a set.

    Attributes
    ----------
    name, label : str
        Its key, an identifier, and the trade's word for it.
    higher : bool
        Whether more is better.
    meaning : str
        One sentence.
    is_share : bool
        Whether it is a part of something, told in hundredths.
    """

    name: str
    label: str
    higher: bool
    meaning: str
    is_share: bool = True

    def better(self, value: float, than: float) -> bool:
        """Whether one value is better than another."""
        return value > than if self.higher else value < than


MEASURES: dict[str, Measure] = {
    measure.name: measure
    for measure in (
        Measure("accuracy", "accuracy", True, "Part of the images whose class is answered rightly."),
        Measure("loss", "loss", False, "Mean loss, without label smoothing and class weights.", is_share=False),
        Measure("top_5", "top-5 accuracy", True, "Part of the images whose class is among the five answered most."),
        Measure(
            "balanced_accuracy", "balanced accuracy", True, "Mean of the classes' own accuracies: each counts once."
        ),
        Measure("macro_f1", "macro F1", True, "Mean of the classes' F1, 2·precision·recall / (precision + recall)."),
        Measure(
            "mean_average_precision",
            "mean average precision",
            True,
            "Mean over the classes of how well their own images are ranked before all others, whatever the threshold.",
        ),
    )
}
"""Every measure by its name; that of training images is known of the first two alone."""
OURS = tuple(MEASURES)
LABELLED: dict[str, Measure] = {
    measure.name: measure
    for measure in (
        Measure("accuracy", "exact match", True, "Part of the images with every label answered rightly, at 0.5."),
        MEASURES["loss"],
        Measure(
            "label_accuracy", "label accuracy", True, "Part of all answers, has it or not, that are right, at 0.5."
        ),
        Measure("macro_f1", "macro F1", True, "Mean of the labels' F1, each by itself, at 0.5."),
        Measure(
            "mean_average_precision",
            "mean average precision",
            True,
            "Mean over the labels of how well the images that have it are ranked before all others.",
        ),
    )
}
"""Of networks that answer several labels; that of training images is known of the first two alone."""
DRAWN: dict[str, Measure] = {
    measure.name: measure
    for measure in (
        Measure("bound", "lower bound", True, "Lower bound of the log likelihood of an image, in nats.", False),
        Measure(
            "reconstruction",
            "reconstruction",
            False,
            "Minus the log likelihood of an image by its codes, in nats.",
            is_share=False,
        ),
        Measure(
            "divergence", "divergence", False, "Of an image's codes from the standard normal ones, in nats.", False
        ),
    )
}
"""Of networks that draw images again; known of training images, too."""
GENERATED: dict[str, Measure] = {
    measure.name: measure
    for measure in (
        Measure(
            "variety", "variety", True, "Distance between two drawings, in parts of that between two images.", False
        ),
        Measure("discriminator_loss", "discriminator loss", False, "What the discriminator makes small.", False),
        Measure(
            "told_apart",
            "told apart",
            True,
            "Part of the pairs of a real and a drawn image that the discriminator ranks right: 50 % is chance.",
        ),
        Measure("real_right", "real judged real", True, "Part of the real images that the discriminator judges real."),
        Measure("drawn_right", "drawn judged drawn", True, "Part of the drawings that the discriminator judges drawn."),
        Measure("at_limit", "at limits", False, "Part of a drawing's values at their limit, beyond that of images."),
        Measure("grid", "grid", False, "How far even and odd pixels of drawings differ, beyond those of images."),
        Measure(
            "discriminator_learning_rate", "discriminator learning rate", True, "Mean over an epoch's steps.", False
        ),
    )
}
"""Of adversarial pairs, beside the loss, which is the generator's; variety and what follows of validation alone, the
learning rate of training alone.
"""
take_kinds(MEASURES, "plan.measures", Measure)


def more_measures() -> tuple[Measure, ...]:
    """Those that packages bring."""
    return tuple(measure for name, measure in MEASURES.items() if name not in OURS)
