"""A workspace's images in memory as a plan prepares and parts them."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from attentive_lens.desk.front import Collection, collection
from attentive_lens.errors import NotHere
from attentive_lens.images.store import prepared
from attentive_lens.plan.plan import Plan
from attentive_lens.plan.progress import Job
from attentive_lens.workspace import Workspace


@dataclass(frozen=True)
class Data:
    """Images as a plan sees them.

    Attributes
    ----------
    collection : Collection
        Rows, sets and classes.
    pixels : ndarray, N×S×S×C uint8
        At the working size, in the order of the rows.
    labels : ndarray, N int64
        Class numbers.
    """

    collection: Collection
    pixels: NDArray[np.uint8]
    labels: NDArray[np.int64]

    def members(self, set_name: str) -> NDArray[np.int64]:
        """Places of a set's images."""
        return np.flatnonzero(np.array(self.collection.sets) == set_name)

    def place(self, image: int) -> int:
        """Place of an image by its number; `NotHere` if there is none."""
        for place, row in enumerate(self.collection.rows):
            if row.number == image:
                return place
        raise NotHere(
            f"There is no image {image}",
            f"images are numbered 1 to {len(self.labels)}",
            "Choose one of these",
        )


def gather(workspace: Workspace, plan: Plan) -> Job[Data]:
    """All images of the workspace, from the cache where it has them."""
    found = collection(workspace, plan)
    files = [workspace.path_of(row) for row in found.rows]
    pixels = yield from prepared(files, plan.preparation, workspace.cache)
    return Data(found, pixels, np.array([row.label for row in found.rows], np.int64))
