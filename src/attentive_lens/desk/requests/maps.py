"""Requests for many maps: every method for one image, and what each class rests on."""

from __future__ import annotations

from dataclasses import dataclass
from typing import ClassVar

import numpy as np
from numpy.typing import NDArray

from attentive_lens.desk.requests.base import Request
from attentive_lens.desk.requests.subjects import Subject
from attentive_lens.explaining.methods import QUICK, MapSettings
from attentive_lens.images.pixel_format import PixelArray


@dataclass(frozen=True)
class MapByMethod:
    """The map that one method makes.

    Attributes
    ----------
    method : MapSettings
        Which.
    values : ndarray, H×W float32, or None
        None where the method cannot be asked of this network.
    refused : str
        Why it cannot, if so.
    passed : bool or None
        Whether it gains more than what knows nothing of the answer; None where it cannot be told or was not yet.
    """

    method: MapSettings
    values: NDArray[np.float32] | None
    refused: str = ""
    passed: bool | None = None


@dataclass(frozen=True)
class MapsMade:
    """Maps of one image by several methods.

    Attributes
    ----------
    image, file : int or None, str
        What is explained; a file that no workspace knows has no number.
    target, against : str
        The class explained, and the class whose score is taken from its score; empty for none.
    maps : tuple of MapByMethod
        So many as are made, the quick ones first.
    tested : bool
        Whether what they gain was measured.
    """

    image: int | None
    file: str
    target: str
    against: str
    maps: tuple[MapByMethod, ...]
    tested: bool = False


@dataclass(frozen=True)
class Maps(Request[MapsMade]):
    """Maps of one image by several methods (all of them if none is named), shown as they come, the quick ones first.

    ``target`` is a class, the one said if left out; ``against`` another one, for the map of the difference.
    """

    result: ClassVar[type[object]] = MapsMade
    task: ClassVar[str] = "maps.maps"
    subject: Subject
    methods: tuple[MapSettings, ...] = ()
    target: str = ""
    against: str = ""


@dataclass(frozen=True)
class ImageMaps:
    """The maps of some images, each for the class said of it.

    Attributes
    ----------
    images : tuple of int
        Their numbers.
    maps : ndarray, N×H×W float32
        As the method has them.
    """

    images: tuple[int, ...]
    maps: NDArray[np.float32]


@dataclass(frozen=True)
class MapImages(Request[ImageMaps]):
    """Maps of some images of a run's workspace, each for the class said of it."""

    result: ClassVar[type[object]] = ImageMaps
    task: ClassVar[str] = "maps.map_images"
    workspace: str
    run: int
    images: tuple[int, ...]
    method: MapSettings = QUICK


@dataclass(frozen=True)
class PlaceTrial:
    """What became of a class's right answers, and of other classes' images, when one place was covered or pasted.

    Attributes
    ----------
    covered, covered_elsewhere : float
        Part of the images that get another answer once the place, or the mirrored one, is covered, 0–1.
    pasted, pasted_elsewhere : float
        Part of other classes' images said to be of the class once the place, or the mirrored one, is put into them.
    decides : bool
        Whether the model goes by the place, far more than by the mirrored one.
    """

    covered: float
    covered_elsewhere: float
    pasted: float
    pasted_elsewhere: float
    decides: bool


@dataclass(frozen=True)
class RestsOn:
    """What the right answers of a class rest on.

    Attributes
    ----------
    name : str
        The class.
    images : tuple of int
        Numbers of the images looked at, those that rest on one place first, the most typical first.
    mean : ndarray, H×W×C uint8
        Their mean.
    map : ndarray, H×W float32
        The mean of their maps, each brought to a sum of 1.
    row, column : float
        Where most of them rest, parts of the side, 0–1.
    together : int
        How many rest on one place aside from the middle, as on a mark; 0 where they do not.
    trial : PlaceTrial or None
        What came of covering that place; None where there is none or too few images to tell.
    words : str
        The same in a sentence.
    """

    name: str
    images: tuple[int, ...]
    mean: PixelArray
    map: NDArray[np.float32]
    row: float
    column: float
    together: int
    trial: PlaceTrial | None
    words: str


@dataclass(frozen=True)
class ClassesRest:
    """What every class of a run rests on, on a set; classes without a right answer are left out."""

    run: int
    on: str
    method: MapSettings
    classes: tuple[RestsOn, ...]


@dataclass(frozen=True)
class ClassMaps(Request[ClassesRest]):
    """What each class's right answers on a set rest on: mean maps, and places that are covered to see what comes of it.

    At most ``images`` of a class are looked at, drawn at random.
    """

    result: ClassVar[type[object]] = ClassesRest
    task: ClassVar[str] = "maps.class_maps"
    workspace: str
    run: int
    on: str = "validation"
    method: MapSettings = QUICK
    images: int = 100
