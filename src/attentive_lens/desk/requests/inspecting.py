"""Requests that look inside a trained network: a layer's filters, its channels, neighbours, changes tried by hand."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from typing import ClassVar

import numpy as np
from numpy.typing import NDArray

from attentive_lens.core.values import spec
from attentive_lens.desk.requests.base import Request
from attentive_lens.desk.requests.explaining import PAIR
from attentive_lens.desk.requests.subjects import Subject
from attentive_lens.explaining.change_settings import CHANGE_SETTINGS, ChangeSettings
from attentive_lens.explaining.methods import QUICK, MapSettings
from attentive_lens.images.pixel_format import PixelArray


@dataclass(frozen=True)
class LayerSeen:
    """What the C channels of a layer look for.

    Attributes
    ----------
    layer : str
        Its name.
    receptive_field : int or None
        Its side in pixels; None for the whole image.
    classes : tuple of str
        The model's.
    images_looked_at, images_in_all : int
        Of the training set.
    synthetic_channels : tuple of int
        Channels that matter most.
    images : tuple of tuples of int
        For each channel, images that hold its patches.
    values : tuple of tuples of float
        The channel's outputs there.
    patches : ndarray, C×P×k×k×3 uint8
        Training patches that excite each channel most, cut to its receptive field.
    synthetic : ndarray, D×H×W×C uint8
        Images made to excite the channels that matter most.
    speaks : ndarray, K×C float32
        What each channel adds to each class.
    activity : ndarray, K×C float32
        Mean output by class and channel; not a number for a class without images.
    used : ndarray, C float32
        Part of the images in which each channel is above zero anywhere, 0–1.
    weights : dict
        The layer's own arrays.
    """

    layer: str
    receptive_field: int | None
    classes: tuple[str, ...]
    images_looked_at: int
    images_in_all: int
    synthetic_channels: tuple[int, ...]
    images: tuple[tuple[int, ...], ...]
    values: tuple[tuple[float, ...], ...]
    patches: PixelArray
    synthetic: PixelArray
    speaks: NDArray[np.float32]
    activity: NDArray[np.float32]
    used: NDArray[np.float32]
    weights: dict[str, NDArray[np.float32]]


@dataclass(frozen=True)
class Layer(Request[LayerSeen]):
    """What the channels of a layer look for, in all training images or a part of every class drawn at random."""

    result: ClassVar[type[object]] = LayerSeen
    task: ClassVar[str] = "inspecting.layer"
    workspace: str
    run: int
    layer: str
    patches: int = 9
    images: int = 20_000
    drawn: int = 8


FACTORS = {1.0: "as it is", 0.0: "switched off", 0.5: "halved", 2.0: "doubled"}
"""What a channel's output is multiplied by, in words."""


@dataclass(frozen=True)
class ChannelEffects:
    """What one channel adds to a number: measured by switching it off, and to first order by its gradient."""

    channel: int
    adds: float
    gradient: float


@dataclass(frozen=True)
class AnswerAt:
    """The answers with a channel's output multiplied by a factor."""

    factor: float
    probabilities: dict[str, float]


@dataclass(frozen=True)
class ChannelSeen:
    """What channels of a layer add to *said* minus *true*, or to the one class where both are the same.

    Attributes
    ----------
    channels : tuple of ChannelEffects
        Those that add most first.
    names : tuple of str
        Of the channels, where the image's own are asked about: one replaced by its mean is switched off.
    answers : tuple of AnswerAt
        With the chosen channel as it is, switched off, halved and doubled.
    """

    layer: str
    channel: int
    of: str
    predicted: str
    true: str
    channels: tuple[ChannelEffects, ...]
    answers: tuple[AnswerAt, ...]
    names: tuple[str, ...] = ()

    def called(self, channel: int) -> str:
        """A channel's name, or «channel 3»."""
        return self.names[channel] if channel < len(self.names) else f"channel {channel}"

    def words(self) -> Iterator[str]:
        """The channels that add most, and the answers with one of them scaled."""
        of = f"said − true ({self.predicted} − {self.true})" if self.predicted != self.true else f"«{self.of}»"
        off = "replaced by its mean" if self.names else "switched off"
        yield f"{self.layer} adds to {of}, each channel {off} (in brackets: to first order):"
        for effect in self.channels[:8]:
            yield f"  {self.called(effect.channel)}: {effect.adds:+.3f} ({effect.gradient:+.3f})"
        for row in self.answers:
            best = sorted(row.probabilities.items(), key=lambda pair: -pair[1])[:3]
            shown = ", ".join(f"{label} {p:.2f}" for label, p in best)
            how = off if self.names and not row.factor else FACTORS[row.factor]
            yield f"  {self.called(self.channel)} {how}: {shown}"


@dataclass(frozen=True)
class Channels(Request[ChannelSeen]):
    """Rank a layer's channels by what the answer loses without them, and turn one off and up to see the answer."""

    result: ClassVar[type[object]] = ChannelSeen
    task: ClassVar[str] = "inspecting.channels"
    doing: ClassVar[str] = "asking the channels"
    arguments: ClassVar[tuple[str, ...]] = ("channel",)
    subject: Subject
    layer: str = spec(names="layer", meaning="A layer, as «relu 2»; «image» for the image's own channels.")
    channel: int = spec(0, low=0, names="[channel]", meaning="Which channel, from 0.")


@dataclass(frozen=True)
class Near:
    """A training image and how far its features are."""

    image: int
    distance: float


@dataclass(frozen=True)
class NeighboursFound:
    """Training images a layer finds nearest to an image.

    Attributes
    ----------
    image : int or None
        Whose; None for a file no workspace knows.
    classes, near : dict
        "predicted" and "true" → class, and its nearest images.
    right : dict
        Class → its nearest training image that is answered rightly; classes without one are left out.
    """

    image: int | None
    layer: str
    classes: dict[str, str]
    near: dict[str, tuple[Near, ...]]
    right: dict[str, Near]

    def words(self) -> Iterator[str]:
        """Their numbers and how far they are."""
        for key, images in self.near.items():
            near = ", ".join(f"{each.image} ({each.distance:.2f})" for each in images)
            yield f"nearest of {PAIR.get(key, key)}, {self.classes[key]}, at {self.layer}: {near}"
        right = ", ".join(f"{name} {near.image} ({near.distance:.2f})" for name, near in self.right.items())
        yield f"nearest that are answered rightly: {right}"


@dataclass(frozen=True)
class Neighbours(Request[NeighboursFound]):
    """List the training images that a layer finds nearest to an image, of the class said and of the true one.

    Feature maps of many values are averaged over squares before they are compared.
    """

    result: ClassVar[type[object]] = NeighboursFound
    task: ClassVar[str] = "neighbours.neighbours"
    doing: ClassVar[str] = "looking for neighbours"
    subject: Subject
    layer: str = spec("", names="layer", meaning="The last before the answers if left out.")
    count: int = 8


@dataclass(frozen=True)
class SmallestCover:
    """The smallest square whose covering changes the answer.

    Attributes
    ----------
    complete : bool
        Whether all smaller ones were tried.
    pixels : int or None
        Its side in pixels; None where no square was found.
    row, column, side, across : float or None
        Its middle, height and width, parts of the image's, as the change «cover» takes them.
    predicted : str or None
        What is said then.
    """

    complete: bool
    pixels: int | None = None
    row: float | None = None
    column: float | None = None
    side: float | None = None
    across: float | None = None
    predicted: str | None = None


@dataclass(frozen=True)
class TriedChange:
    """The answer after a change; None for the image as it is."""

    change: ChangeSettings | None
    predicted: str
    probabilities: dict[str, float]


@dataclass(frozen=True)
class Tried:
    """Answers before and after changes tried on an image.

    Attributes
    ----------
    image, file : int or None, str
        What was changed; a file that no workspace knows has no number.
    pixels : ndarray, N×H×W×C uint8
        The changed images.
    maps : ndarray, N×H×W float32, or None
        Their maps for what is said of each, if a method was named.
    """

    image: int | None
    file: str
    before: TriedChange
    after: tuple[TriedChange, ...]
    smallest_cover: SmallestCover | None
    pixels: PixelArray
    maps: NDArray[np.float32] | None = None


@dataclass(frozen=True)
class TryChanges(Request[Tried]):
    """Changes tried on an image, each on the original.

    ``method`` is a map method by which the changed images are explained.
    """

    result: ClassVar[type[object]] = Tried
    task: ClassVar[str] = "changing.try_changes"
    subject: Subject
    changes: tuple[ChangeSettings, ...]
    smallest: bool = True
    method: MapSettings | None = None


__all__ = [
    "CHANGE_SETTINGS",
    "QUICK",
    "AnswerAt",
    "ChangeSettings",
    "ChannelEffects",
    "ChannelSeen",
    "Channels",
    "Layer",
    "LayerSeen",
    "Near",
    "Neighbours",
    "NeighboursFound",
    "SmallestCover",
    "Tried",
    "TriedChange",
    "TryChanges",
]
