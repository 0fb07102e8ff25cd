"""A workspace's images in memory as a plan prepares and parts them."""

from __future__ import annotations

import os
from collections.abc import Sequence
from dataclasses import dataclass, replace

import numpy as np
from numpy.typing import NDArray

from attentive_lens.core.jobs import Job
from attentive_lens.desk.collection import Collection, collection
from attentive_lens.errors import NotHere
from attentive_lens.images.reading import Reading
from attentive_lens.images.rows import Pixels
from attentive_lens.images.sources import SOURCES, Reference, Source
from attentive_lens.images.store import prepared
from attentive_lens.plan.plan import Plan
from attentive_lens.plan.preprocessing import Preprocessing
from attentive_lens.workspace import ImageRow, Run, Workspace
from attentive_lens.workspace.corrections import GONE


@dataclass(frozen=True)
class Data:
    """Images as a plan sees them.

    Attributes
    ----------
    collection : Collection
        Rows, sets and classes.
    pixels : ndarray, N×S×S×C uint8
        At the input size, in the order of the rows.
    labels : ndarray, N int64
        Class numbers.
    """

    collection: Collection
    pixels: Pixels
    labels: NDArray[np.int64]

    def members(self, set_name: str) -> NDArray[np.int64]:
        """Places of a set's images."""
        return np.flatnonzero(np.array(self.collection.sets) == set_name)

    def seen_by(self, classes: tuple[str, ...]) -> Data:
        """With a model's class numbers, by the classes' names; images of classes it does not know have -1.

        Raises
        ------
        NotHere
            If it knows none of them.
        """
        numbers = {name: number for number, name in enumerate(classes)}
        known = np.array([numbers.get(name, -1) for name in self.collection.classes] or [-1], np.int64)
        if (known < 0).all():
            why = "none of its classes is among those of these images"
            raise NotHere("The run does not fit these images", why, "Train again, or open its own workspace")
        return replace(self, labels=known[self.labels])

    def place(self, image: int) -> int:
        """Place of an image by its number; `NotHere` if there is none, or the model does not know its class."""
        if 1 <= image <= len(self.labels):
            if self.labels[image - 1] < 0:
                name = self.collection.classes[self.collection.rows[image - 1].label]
                why = f"its class «{name}» came after the run was trained"
                raise NotHere(f"The run cannot be asked about image {image}", why, "Train again, or choose another")
            return image - 1
        raise NotHere(
            f"There is no image {image}",
            f"images are numbered 1 to {len(self.labels)}",
            "Choose one of these",
        )


def gather(
    workspace: Workspace, plan: Plan, run: Run | None = None, preprocessing: Preprocessing | None = None
) -> Job[Data]:
    """All images of the workspace, from the cache where it has them; with a run, in the sets it was trained with.

    They are prepared as the plan says, unless another preprocessing is named: a model's own.
    """
    found = collection(workspace, plan, run)
    pixels = yield from prepared(
        references(workspace, found.rows), preprocessing or plan.preprocessing, workspace.cache
    )
    return Data(found, pixels, np.array([row.label for row in found.rows], np.int64))


def sources(workspace: Workspace) -> dict[int, Source]:
    """The workspace's sources, by number."""
    return {
        number: SOURCES[origin.kind](workspace.folder / origin.place, Reading.read(origin.reading))
        for number, origin in workspace.catalogue.origins().items()
    }


def references(workspace: Workspace, rows: Sequence[ImageRow]) -> list[Reference | None]:
    """Where the images of some rows are; None for those that are gone."""
    known = sources(workspace)
    folder = str(workspace.folder.absolute())
    return [
        None
        if row.given_set == GONE
        else Reference(known[row.origin], os.path.join(folder, row.file), row.part, row.index)  # noqa: PTH118  # fast
        for row in rows
    ]
