"""The request for what the answers rest on: the objects, or everything else."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from typing import ClassVar

from attentive_lens.core.telling import counted
from attentive_lens.desk.requests.base import Request
from attentive_lens.explaining.methods import QUICK, MapSettings

BY_CHANCE = 0.04
"""Part of the answers that is told to rest on the rest, at most, where that tells nothing; see `on_rest`."""


@dataclass(frozen=True)
class ObjectRow:
    """Right or wrong answers to images of a class, or of all.

    Attributes
    ----------
    name : str
        The class on the label; empty for all.
    right : bool
        Whether it was said.
    images : int
        Of which an outline is known.
    area : float
        Part of the image, 0–1, that the object is, on average.
    share, low, high : float
        Part of a map that lies in it, on average and with its interval of 95 %.
    elsewhere : float
        The same with the outlines of the other images: what the middle of the image has anyway.
    untrained : float
        The same for maps of random weights: what the brightness of the object brings by itself.
    pointing, pointing_low, pointing_high, pointing_elsewhere : float
        Part of the maps whose strongest place lies in the object, with its interval, and in those of other images.
    kept_without, kept_alone : float
        Part of the answers that stay once the object, or everything else, is covered.
    probability, probability_without, probability_alone : float
        Of the class said, on average: as it is, and then.
    on_rest : int
        Answers that rest on what is not the object.
    """

    name: str
    right: bool
    images: int
    area: float
    share: float
    low: float
    high: float
    elsewhere: float
    untrained: float
    pointing: float
    pointing_low: float
    pointing_high: float
    pointing_elsewhere: float
    kept_without: float
    kept_alone: float
    probability: float
    probability_without: float
    probability_alone: float
    on_rest: int


@dataclass(frozen=True)
class ObjectImage:
    """One image.

    Attributes
    ----------
    image : int
        Its number.
    true, predicted, without, alone : str
        Classes: on the label, said, and said once the object, or everything else, is covered.
    area, share, elsewhere : float
        As in `ObjectRow`; the last two are None where the map says nothing.
    rest : float or None
        Part of other objects that, put into what is about this one, get its answer; None where all answers are one.
    object : float or None
        Part of what is about others in which this object keeps its answer; None where it was put into none.
    on_rest : bool
        Whether the answer rests on what is not the object.
    """

    image: int
    true: str
    predicted: str
    without: str
    alone: str
    area: float
    share: float | None
    elsewhere: float | None
    rest: float | None
    object: float | None
    on_rest: bool


@dataclass(frozen=True)
class ObjectsMeasured:
    """What a run's answers on a set rest on, where the objects are known.

    Attributes
    ----------
    run : int
    on : str
    method : MapSettings
        Of the maps.
    scored, outlined : int
        Images of the set, and those of them with an outline.
    rows : tuple of ObjectRow
        Right and wrong answers of all, then of each class.
    images : tuple of ObjectImage
        Those looked at; first those whose answers rest least on the object.
    """

    run: int
    on: str
    method: MapSettings
    scored: int
    outlined: int
    rows: tuple[ObjectRow, ...]
    images: tuple[ObjectImage, ...]

    @property
    def wrong_reason(self) -> tuple[ObjectImage, ...]:
        """Answered rightly, from what is not the object."""
        return tuple(each for each in self.images if each.on_rest and each.predicted == each.true)

    def sentences(self) -> Iterator[str]:
        """What it comes to."""
        right = sum(each.predicted == each.true for each in self.images)
        wrong = len(self.images) - right
        of_wrong = sum(each.on_rest for each in self.images) - len(self.wrong_reason)
        yield (
            f"{len(self.wrong_reason)} of {counted(right, 'right answer rests', 'right answers rest')} on what is not"
            f" the object, and {of_wrong} of {counted(wrong, 'wrong one', 'wrong ones')}."
        )
        resting = sum(each.on_rest for each in self.images)
        if 0 < resting <= BY_CHANCE * len(self.images):
            yield "So few are told, now and then, where nothing but the objects decides: look at each."
        alone = sum(each.alone == each.true for each in self.images)
        yield (
            f"With everything but the object covered {alone / len(self.images):.0%} are right,"
            f" as they are {right / len(self.images):.0%}."
        )
        if self.outlined < self.scored:
            yield f"An outline is known of {self.outlined} of the {self.scored} images."
        if len(self.images) < self.outlined:
            yield f"{len(self.images)} of those were looked at: of wrong and of right answers a fair part."

    def words(self) -> Iterator[str]:
        """The sentences, then a line a row, then the images that were answered rightly for the wrong reason."""
        yield from self.sentences()
        yield ""
        for row in self.rows:
            name = f"{row.name or 'all'}, {'right' if row.right else 'wrong'} ({row.images})"
            yield (
                f"{name}: {row.share:.0%} of the map in the object ({row.low:.0%}–{row.high:.0%}), which is"
                f" {row.area:.0%} of the image; in other images' objects {row.elsewhere:.0%}, with random weights"
                f" {row.untrained:.0%}. Strongest place in it: {row.pointing:.0%}"
                f" ({row.pointing_low:.0%}–{row.pointing_high:.0%}), in others' {row.pointing_elsewhere:.0%}."
                f" Stay without it {row.kept_without:.0%}, with it alone {row.kept_alone:.0%}; the probability of the"
                f" class said is {row.probability:.2f}, {row.probability_without:.2f} and {row.probability_alone:.2f};"
                f" {row.on_rest} rest on what is not the object."
            )
        if self.wrong_reason:
            yield ""
            numbers = ", ".join(str(each.image) for each in self.wrong_reason)
            yield f"Right for the wrong reason: images {numbers}."


@dataclass(frozen=True)
class MeasureObjects(Request[ObjectsMeasured]):
    """Tell whether a run's answers rest on the objects or on everything else, for images with outlines."""

    result: ClassVar[type[object]] = ObjectsMeasured
    task: ClassVar[str] = "objects.measure_objects"
    doing: ClassVar[str] = "looking at objects"
    workspace: str
    run: int
    on: str = "validation"
    method: MapSettings = QUICK
