"""What is told of an epoch, as it stands in the journal."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field, fields


@dataclass(frozen=True)
class Figures:
    """What a model did on some images: the measures of `plan.measures`, by their names; None where one is not known.

    Those that packages bring stand under ``more``, and so do those of networks that draw, which have no accuracy.
    """

    loss: float
    accuracy: float | None = None
    top_5: float | None = None
    balanced_accuracy: float | None = None
    macro_f1: float | None = None
    mean_average_precision: float | None = None
    more: Mapping[str, float] = field(default_factory=dict)

    @property
    def of_labels(self) -> bool:
        """Whether it is of several labels, on a set that was judged."""
        return "label_accuracy" in self.more

    @property
    def main(self) -> float:
        """The figure that stands for all, more being better: accuracy, mean average precision of several labels, the
        lower bound where images are drawn again, or the variety of what is drawn of noise.
        """
        if self.of_labels:
            return self.of("mean_average_precision") or 0.0
        if self.accuracy is not None:
            return self.accuracy
        return self.more.get("bound", self.more.get("variety", -self.loss))

    @property
    def main_in_words(self) -> str:
        """91.3%, or −1,234 nats."""
        if self.of_labels:
            return f"{self.main:.3f}"
        if self.accuracy is not None:
            return f"{self.accuracy:.1%}"
        if "variety" in self.more:
            return f"{self.main:.2f}"
        if "bound" not in self.more:
            return f"{self.loss:.3g}".replace("-", "\u2212")
        return f"{self.main:,.{0 if abs(self.main) >= 100 else 1}f} nats".replace("-", "\u2212")

    @property
    def named_in_words(self) -> str:
        """Accuracy 91.3%, or lower bound −1,234 nats, or variety 0.85."""
        if self.of_labels:
            return f"mean average precision {self.main_in_words}"
        names = {"bound": "lower bound", "variety": "variety"}
        named = next((words for name, words in names.items() if name in self.more), "loss")
        return f"{'accuracy' if self.accuracy is not None else named} {self.main_in_words}"

    @property
    def in_words(self) -> str:
        """What is told of an epoch in a line.

        Accuracy and loss, the lower bound and its divergence, or both losses of a pair and how well it tells apart.
        """
        more = self.more
        if self.of_labels:
            return f"{self.main_in_words} exact match {self.accuracy or 0.0:.1%} loss {self.loss:.3f}"
        if self.accuracy is not None:
            return f"{self.main_in_words} loss {self.loss:.3f}"
        if "told_apart" in more:
            varied = f"variety {more['variety']:.2f}, " if "variety" in more else ""
            losses = f"losses {self.loss:.3f} and {more['discriminator_loss']:.3f}".replace("-", "\u2212")
            return f"{varied}{losses}, told apart {more['told_apart']:.0%}"
        return f"{self.main_in_words} (divergence {more.get('divergence', 0.0):.1f})"

    @classmethod
    def made(cls, values: Mapping[str, float]) -> Figures:
        """Of measures by their names."""
        own = {each.name for each in fields(cls)}
        more = {name: value for name, value in values.items() if name not in own}
        return cls(**{name: value for name, value in values.items() if name in own}, more=more)

    def of(self, measure: str) -> float | None:
        """A measure by its name; None where it is not known."""
        value: float | None = self.more.get(measure) if measure in self.more else getattr(self, measure, None)
        return value


@dataclass(frozen=True)
class ByClass:
    """A set's answers class by class.

    Attributes
    ----------
    confusion : tuple of (int, int, int)
        True class, class said, images; cells without images are left out.
    losses : tuple of float or None
        Mean loss of each class's images; None where there are none.
    """

    confusion: tuple[tuple[int, int, int], ...]
    losses: tuple[float | None, ...]


@dataclass(frozen=True)
class Health:
    """The layers of a network over an epoch; each tuple has an entry a layer, in the network's order, None where there
    is nothing to tell.

    Attributes
    ----------
    update : tuple of float or None
        Norm of a step over the norm of the weights, median of the steps looked at.
    gradient : tuple of float or None
        Norm of the weights' gradient over the norm of the weights, median.
    activation : tuple of float or None
        Root mean square of the outputs.
    dead : tuple of float or None
        Part of the channels or units of a rectifier that were zero everywhere on all images of the last three looks.
    images : int
        Looked at for the last two: augmented training images, without dropout.
    right : int or None
        How many of them were answered rightly; None in journals from before it was noted.
    """

    update: tuple[float | None, ...]
    gradient: tuple[float | None, ...]
    activation: tuple[float | None, ...]
    dead: tuple[float | None, ...]
    images: int
    right: int | None = None
