"""What the explaining commands print with ``--json``."""

from __future__ import annotations

from dataclasses import dataclass

from attentive_lens.desk.requests.causes import Cause
from attentive_lens.desk.requests.explaining import MapSettings, MapTrust, RegionOfMap, TrustChecks
from attentive_lens.desk.requests.maps import PlaceTrial


@dataclass(frozen=True)
class MapWritten:
    """A map as an array (.npy, H×W float32) and as a picture; no trust for the difference said − true."""

    method: MapSettings
    target: str
    key: str
    file: str
    picture: str
    trust: MapTrust | None


@dataclass(frozen=True)
class NotShown:
    """A method that gives no map of this network, and why."""

    method: MapSettings
    reason: str


@dataclass(frozen=True)
class Explained:
    """An image's explanation, written down; one line for each image."""

    image: int | None
    file: str
    predicted: str
    true: str | None
    probabilities: dict[str, float]
    output: str
    regions: tuple[RegionOfMap, ...]
    maps: tuple[MapWritten, ...]
    layers_picture: str
    filters_picture: str | None
    not_shown: tuple[NotShown, ...]
    measured: tuple[TrustChecks, ...]


@dataclass(frozen=True)
class CommonCauses:
    """What the mistakes of a run on a set have in common, and the files of the remedies' plans that were written."""

    run: int
    on: str
    mistakes: int
    groups: tuple[Cause, ...]
    judged_by_test: tuple[int, ...]
    plans: tuple[str, ...]


@dataclass(frozen=True)
class Speaks:
    """A class and what a channel adds to it."""

    target: str
    adds: float


@dataclass(frozen=True)
class LayerWritten:
    """What a layer looks for, written down: pictures of patches and synthetic images, and arrays in a folder."""

    layer: str
    receptive_field: int | None
    classes: tuple[str, ...]
    images_looked_at: int
    images_in_all: int
    synthetic_channels: tuple[int, ...]
    images: tuple[tuple[int, ...], ...]
    values: tuple[tuple[float, ...], ...]
    speaks: tuple[tuple[Speaks, ...], ...]
    used: tuple[float, ...]
    patches: str
    synthetic: str
    arrays: str


@dataclass(frozen=True)
class ActivityTold:
    """How active a layer is over training images: a histogram, and by class the mean of each channel.

    Attributes
    ----------
    edges, counts : tuple
        Of the histogram's bins, and the values in each.
    mean : dict
        Class → mean of each channel; None for a class without images.
    used : tuple of float
        Part of the images in which each channel is above zero anywhere.
    """

    layer: str
    images_looked_at: int
    images_in_all: int
    edges: tuple[float, ...]
    counts: tuple[int, ...]
    mean: dict[str, tuple[float | None, ...]]
    used: tuple[float, ...]


@dataclass(frozen=True)
class NumbersWritten:
    """The raw numbers of an array: its shape, what is known of it, and the file with all of them, if one was named.

    Attributes
    ----------
    least, greatest : float
        Of its values.
    loss : float or None
        Of the image, and below it the root mean square of the array's gradient by it.
    optimiser : tuple of str
        What the optimiser remembers of it after that epoch.
    """

    layer: str
    array: str
    arrays: tuple[str, ...]
    shape: tuple[int, ...]
    least: float
    greatest: float
    loss: float | None
    gradient: float | None
    optimiser: tuple[str, ...]
    epoch: int
    file: str | None


@dataclass(frozen=True)
class ClassWritten:
    """What the right answers of a class rest on, and the pictures of it."""

    name: str
    images: tuple[int, ...]
    row: float
    column: float
    together: int
    trial: PlaceTrial | None
    words: str
    picture: str
    map: str


@dataclass(frozen=True)
class ClassesWritten:
    """What every class of a run rests on, on a set."""

    run: int
    on: str
    method: MapSettings
    classes: tuple[ClassWritten, ...]
