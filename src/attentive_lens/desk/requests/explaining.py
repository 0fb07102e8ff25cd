"""Requests that explain: maps of one image and whether to believe them, activations, filters."""

from __future__ import annotations

from dataclasses import dataclass
from typing import ClassVar

import numpy as np
from numpy.typing import NDArray

from attentive_lens.desk.requests.base import Request
from attentive_lens.desk.requests.subjects import FileImage, RunImage, Subject
from attentive_lens.explaining.figures import Completeness, Gain, WeightRandomisation
from attentive_lens.explaining.methods import CHANNEL, DEFAULT, MAP_METHODS, MapSettings
from attentive_lens.images.pixel_format import PixelArray

PAIR = {"predicted": "said", "true": "true", "for": "for"}
"""Keys of maps, and our words for them on the screen."""


@dataclass(frozen=True)
class MapTrust:
    """What is measured of a map at once.

    Attributes
    ----------
    answer : float
        The class's for the untouched image.
    gain : Gain or None
        How far its order of the pixels parts the class from the next one; None until it is measured.
    passed : bool or None
        Whether that is more than what knows nothing of the answer gains; None where it cannot be told.
    empty : bool
        Whether the map is zero everywhere.
    completeness : Completeness or None
        Where the method promises that the map adds up to something.
    inside : float or None
        Part of what the map says for the class that lies in the object, 0–1; None where no outline is known.
    """

    answer: float
    gain: Gain | None
    passed: bool | None
    empty: bool
    completeness: Completeness | None
    inside: float | None = None


@dataclass(frozen=True)
class MapOfClass:
    """A map for one class.

    Attributes
    ----------
    key : str
        "predicted", "true", or "for" where a class was asked for.
    target, against : str
        The class's name, and the next one's: the map tells what speaks for the one against the other.
    trust : MapTrust
        Whether to believe it.
    values : ndarray, H×W float32
        The map.
    """

    key: str
    target: str
    against: str
    trust: MapTrust
    values: NDArray[np.float32]


@dataclass(frozen=True)
class RegionOfMap:
    """A connected part of the image that the map of *said* marks.

    Attributes
    ----------
    top, left, height, width : float
        Its box, parts of the side, 0–1.
    share : float
        Part of the map's strength in it, 0–1.
    gives : dict
        Key of a map → how much its class's score falls when the region is covered.
    """

    top: float
    left: float
    height: float
    width: float
    share: float
    gives: dict[str, float]


@dataclass(frozen=True)
class LayerShape:
    """A layer's name and the shape of its output for one image."""

    name: str
    shape: tuple[int, ...]


@dataclass(frozen=True)
class LabelAnswer:
    """What a model that answers several labels says of one of them.

    Attributes
    ----------
    name : str
        Of the label.
    probability, threshold : float
        Its answer, and from which it is said.
    there : bool or None
        Whether the image has it; None for a file no workspace knows.
    """

    name: str
    probability: float
    threshold: float
    there: bool | None

    @property
    def mistake(self) -> str:
        """«missed» or «false»; empty where it is right, or that is not known."""
        said = self.probability > self.threshold
        return "" if self.there is None or said == self.there else "false" if said else "missed"


@dataclass(frozen=True)
class Explanation:
    """Why a model answered as it did for one image.

    Attributes
    ----------
    subject : Subject
        As it was asked about.
    image : int or None
        Its number; None for a file no workspace knows.
    file, set : str
        Where it is from; the set is empty for such a file.
    predicted : str
        The class the model answers.
    true : str or None
        The class on the label, if there is one.
    probabilities : dict
        Answer by class.
    output : str
        Output function that made them.
    method : MapSettings
        Of the maps.
    maps : tuple of MapOfClass
        For said, true, and a class asked for.
    regions : tuple of RegionOfMap
        The strongest first.
    layers : tuple of LayerShape
        Whose activations can be asked for.
    pixels : ndarray, H×W×C uint8
        The image at the input size.
    difference : ndarray, H×W float32, or None
        Map of said − true.
    covered : ndarray, H×W float32, or None
        How much of each pixel is the object's, where an outline is known.
    labels : tuple of LabelAnswer
        All of them, where the model answers several and is asked about one.
    """

    subject: Subject
    image: int | None
    file: str
    set: str
    predicted: str
    true: str | None
    probabilities: dict[str, float]
    output: str
    method: MapSettings
    maps: tuple[MapOfClass, ...]
    regions: tuple[RegionOfMap, ...]
    layers: tuple[LayerShape, ...]
    pixels: PixelArray
    difference: NDArray[np.float32] | None
    covered: NDArray[np.float32] | None = None
    labels: tuple[LabelAnswer, ...] = ()

    def is_of_same(self, other: Explanation | None) -> bool:
        """Whether it is of the same image, answered by the same model; pixels that changed since make it another."""
        return other is not None and self.subject == other.subject and np.array_equal(self.pixels, other.pixels)

    def is_like(self, other: Explanation) -> bool:
        """Whether it is of the same image, with the same maps for the same classes."""
        if not self.is_of_same(other) or (self.method, len(self.maps)) != (other.method, len(other.maps)):
            return False
        pairs = zip(self.maps, other.maps, strict=True)
        return all(
            (a.key, a.target, a.against) == (b.key, b.target, b.against) and np.array_equal(a.values, b.values)
            for a, b in pairs
        )

    @property
    def labels_by_answer(self) -> tuple[LabelAnswer, ...]:
        """All labels, the one most surely said first."""
        return tuple(sorted(self.labels, key=lambda each: -each.probability))

    @property
    def complete(self) -> bool:
        """Whether the maps' trust was measured too."""
        return all(map_.trust.gain is not None for map_ in self.maps)

    def map(self, key: str) -> MapOfClass | None:
        """The map of that key."""
        return next((map_ for map_ in self.maps if map_.key == key), None)


@dataclass(frozen=True)
class Explain(Request[Explanation]):
    """Why a model answered as it did for one image; ``target`` is a class to explain besides."""

    result: ClassVar[type[object]] = Explanation
    task: ClassVar[str] = "explaining.explain"
    subject: Subject
    method: MapSettings = DEFAULT
    target: str | None = None


@dataclass(frozen=True)
class ActivationMaps:
    """Outputs of some layers for one image, by name: rows×columns×channels or values, float32."""

    outputs: dict[str, NDArray[np.float32]]


@dataclass(frozen=True)
class Activations(Request[ActivationMaps]):
    """What some layers make of an image; all of them if none is named."""

    result: ClassVar[type[object]] = ActivationMaps
    task: ClassVar[str] = "explaining.activations"
    subject: Subject
    layers: tuple[str, ...] = ()


@dataclass(frozen=True)
class MapChecks:
    """All that is measured of the map for one class.

    Attributes
    ----------
    key : str
        "predicted" or "true".
    answer : float
        The class's for the untouched image.
    gain : Gain
        How far its order of the pixels parts the class from the next one.
    passed : bool or None
        As it says.
    stability : float
        Rank correlation under small noise.
    completeness : Completeness or None
        Where the method promises that the map adds up to something.
    """

    key: str
    answer: float
    gain: Gain
    passed: bool | None
    stability: float
    completeness: Completeness | None


@dataclass(frozen=True)
class TrustChecks:
    """Whether the maps of an image can be believed.

    Attributes
    ----------
    maps : tuple of MapChecks
        For said and, where there is a label, for true.
    weight_randomisation : WeightRandomisation
        Of the method, measured once for a run.
    agreement : dict
        Other method → rank correlation of its map with this one's.
    """

    image: int | None
    method: MapSettings
    predicted: str
    maps: tuple[MapChecks, ...]
    weight_randomisation: WeightRandomisation
    agreement: dict[str, float]


@dataclass(frozen=True)
class Trust(Request[TrustChecks]):
    """All trust checks for the maps of *said* and of *true*."""

    result: ClassVar[type[object]] = TrustChecks
    task: ClassVar[str] = "explaining.trust"
    subject: Subject
    method: MapSettings = DEFAULT
    agreement: bool = True


@dataclass(frozen=True)
class Filters:
    """The first convolution's name and its filters as pictures, F×K×K×3 float32 in 0–1; None without one."""

    layer: str | None
    pictures: NDArray[np.float32] | None


@dataclass(frozen=True)
class FirstFilters(Request[Filters]):
    """The first convolution's filters of the model that answers an image."""

    result: ClassVar[type[object]] = Filters
    task: ClassVar[str] = "explaining.filters"
    subject: Subject


__all__ = [
    "CHANNEL",
    "DEFAULT",
    "MAP_METHODS",
    "PAIR",
    "ActivationMaps",
    "Activations",
    "Completeness",
    "Explain",
    "Explanation",
    "FileImage",
    "Filters",
    "FirstFilters",
    "Gain",
    "LayerShape",
    "MapChecks",
    "MapOfClass",
    "MapSettings",
    "MapTrust",
    "RegionOfMap",
    "RunImage",
    "Subject",
    "Trust",
    "TrustChecks",
    "WeightRandomisation",
]
