"""A workspace's images in memory as a plan prepares and parts them."""

from __future__ import annotations

import os
import time
from collections.abc import Sequence
from dataclasses import dataclass, replace
from pathlib import Path

import numpy as np
from numpy.typing import NDArray

from attentive_lens.core.jobs import Job, paced
from attentive_lens.core.numbering import place_of
from attentive_lens.core.random import random_generator
from attentive_lens.core.recent import Recent
from attentive_lens.desk.images.collection import Collection, collection, state
from attentive_lens.desk.images.outlines import regions_of, regions_seen
from attentive_lens.errors import NotHere
from attentive_lens.images.pixel_format import PixelFormat
from attentive_lens.images.reading import Reading
from attentive_lens.images.rows import Pixels, Rows, is_whole
from attentive_lens.images.sources import SOURCES, Reference, Source
from attentive_lens.images.store import prepared, state_of
from attentive_lens.plan.plan import Plan
from attentive_lens.plan.preprocessing import Preprocessing
from attentive_lens.workspace import ImageRow, Run, Workspace
from attentive_lens.workspace.catalogue import SETTLED
from attentive_lens.workspace.corrections import GONE


@dataclass(frozen=True)
class Data:
    """Images as a plan sees them.

    Attributes
    ----------
    collection : Collection
        Rows, sets and classes.
    pixels : ndarray, N×H×W×C uint8
        At the input size, in the order of the rows.
    labels : ndarray, N int64
        Class numbers.
    regions : ndarray, N×4 int64
        What of each image is seen, see `Reference.region`; zeros where that is all of it.
    fingerprint : str
        Changes when a label, a set or a pixel does.
    """

    collection: Collection
    pixels: Pixels
    labels: NDArray[np.int64]
    regions: NDArray[np.int64]
    fingerprint: str = ""

    def members(self, set_name: str) -> NDArray[np.int64]:
        """Places of a set's images."""
        return self.collection.members(set_name)

    def drawn(self, members: NDArray[np.int64], count: int) -> NDArray[np.int64]:
        """Some of these places, in order: all if there are no more, else the same part of every class, one at least."""
        if len(members) <= count:
            return members
        random = random_generator(0, "images of every class").random(len(self.labels))
        chosen = []
        for label in np.unique(self.labels[members]):
            of_class = members[self.labels[members] == label]
            ranked = of_class[np.argsort(random[of_class], kind="stable")]
            chosen.append(ranked[: max(1, round(len(of_class) * count / len(members)))])
        return np.sort(np.concatenate(chosen))

    def seen_by(self, classes: tuple[str, ...]) -> Data:
        """With a model's class numbers, by the classes' names; images of classes it does not know have -1.

        Raises
        ------
        NotHere
            If it knows none of them.
        """
        numbers = {name: number for number, name in enumerate(classes)}
        known = np.array([numbers.get(name, -1) for name in self.collection.classes] or [-1], np.int64)
        for name, number in self.collection.former.items():  # a class that was renamed since is the same class
            if known[number] < 0 and name in numbers:
                known[number] = numbers[name]
        if (known < 0).all():
            why = "none of its classes is among those of these images"
            raise NotHere("The run does not fit these images", why, "Train again, or open its own workspace")
        return replace(self, labels=known[self.labels])

    def place(self, image: int) -> int:
        """Place of an image by its number; `NotHere` if there is none, or the model does not know its class."""
        if 1 <= image <= len(self.labels):
            if self.labels[place_of(image)] < 0:
                name = self.collection.classes[self.collection.rows[place_of(image)].label]
                why = f"its class «{name}» came after the run was trained"
                raise NotHere(f"The run cannot be asked about image {image}", why, "Train again, or choose another")
            return place_of(image)
        raise NotHere(
            f"There is no image {image}",
            f"images are numbered 1 to {len(self.labels)}",
            "Choose one of these",
        )


@dataclass(frozen=True)
class _Gathered:
    """Data gathered before, with the images' places and the time just before, in nanoseconds."""

    data: Data
    references: list[Reference | None]
    at: int

    def holds_for(self, image: int) -> bool:
        """Whether what was prepared is still there, and the image's file as it was then."""
        pixels = self.data.pixels
        if not 1 <= image <= len(self.references) or (isinstance(pixels, Rows) and not is_whole(pixels.file)):
            return False
        reference = self.references[place_of(image)]
        if reference is None:
            return False
        try:
            return Path(reference.file).stat().st_ctime_ns + SETTLED < self.at
        except OSError:
            return False


_GATHERED: Recent[_Gathered] = Recent(2)


def gather(
    workspace: Workspace,
    plan: Plan,
    run: Run | None = None,
    preprocessing: Preprocessing | None = None,
    image: int | None = None,
) -> Job[Data]:
    """All images of the workspace, from the cache where it has them; with a run, in the sets it was trained with.

    They are prepared as the plan says, unless another preprocessing is named: a model's own. Every image's file is
    looked at for changes; who names an image, by its number, asks about that alone, and its file alone is looked at
    where all were before.
    """
    began = time.time_ns()
    settings, of_images = preprocessing or plan.preprocessing, state(workspace, plan, run)
    key = None if of_images is None else (*of_images, settings)
    known = _GATHERED.known(key) if key is not None else None
    if known is not None and image is not None and known.holds_for(image):
        return known.data
    split = collection(workspace, plan, run)
    images = references(workspace, split.rows, settings)
    pixels_state = state_of(images, settings)
    pixels = yield from prepared(images, settings, workspace.cache, state=pixels_state)
    regions = regions_seen(workspace, split.rows, settings)
    data = Data(split, pixels, split.labels, regions, f"{split.fingerprint} {pixels_state}")
    if key is not None:
        _GATHERED.keep(key, _Gathered(data, images, began))
    return data


def fingerprint_of(workspace: Workspace, split: Collection, settings: Preprocessing) -> str:
    """The fingerprint that `gather` would give, without decoding anything."""
    return f"{split.fingerprint} {state_of(references(workspace, split.rows, settings), settings)}"


def sources(workspace: Workspace) -> dict[int, Source]:
    """The workspace's sources, by number."""
    return {
        number: SOURCES[origin.kind](workspace.folder / origin.place, Reading.read(origin.reading))
        for number, origin in workspace.catalogue.origins().items()
    }


def pixel_format_of(workspace: Workspace) -> PixelFormat:
    """What the pixels of the workspace's images are."""
    return Reading.read(workspace.catalogue.origins()[1].reading).pixel_format


def several_labels(workspace: Workspace) -> bool:
    """Whether its images may have several labels, or none."""
    return Reading.read(workspace.catalogue.origins()[1].reading).several_labels


def references(
    workspace: Workspace, rows: Sequence[ImageRow], preprocessing: Preprocessing | None = None
) -> list[Reference | None]:
    """Where the images of some rows are, cropped as a preprocessing says if one is named; None for those gone."""
    known = sources(workspace)
    regions = regions_of(workspace, rows, preprocessing) if preprocessing is not None else {}
    folder = str(workspace.folder.absolute())
    return [
        None
        if row.given_set == GONE
        else Reference(
            known[row.origin],
            os.path.join(folder, row.file),  # noqa: PTH118  # fast
            row.part,
            row.index,
            regions.get(row.number),
        )
        for row in paced(rows)
    ]
