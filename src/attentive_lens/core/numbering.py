"""Images are numbered from 1, as people count; their rows, pixels and labels stand at places from 0."""

from __future__ import annotations

from typing import TypeAlias, TypeVar

import numpy as np
from numpy.typing import NDArray

ImageNumber: TypeAlias = int
"""Number of an image in a workspace, from 1; it stays the image's for good."""

Counted = TypeVar("Counted", int, NDArray[np.int64])


def place_of(number: Counted) -> Counted:
    """Where the image of a number stands in a workspace's rows, from 0."""
    return number - 1


def number_at(place: Counted) -> Counted:
    """The number of the image at a place of a workspace's rows."""
    return place + 1
