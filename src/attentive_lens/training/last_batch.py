"""Some images of the last batch as the network saw them, with what it said: written now and then, for whoever looks."""

from __future__ import annotations

import contextlib
import zipfile
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray

from attentive_lens.core.files import replacing

MOST = 24
"""Images of a batch that are shown."""
SECONDS = 2.0
"""Between two looks at a batch, at least."""


@dataclass(frozen=True)
class LastBatch:
    """The first images of a batch.

    Attributes
    ----------
    epoch, step : int
        From 1; steps of the whole run.
    images : ndarray, N×H×W×C uint8
        Augmented, before normalisation.
    predicted, wanted : ndarray, N int64
        Class that scored highest in training, dropout and all, and the class wanted most.
    numbers : ndarray, N int64
        Of the images in the catalogue, from 1.
    """

    epoch: int
    step: int
    images: NDArray[np.uint8]
    predicted: NDArray[np.int64]
    wanted: NDArray[np.int64]
    numbers: NDArray[np.int64]

    def write(self, file: Path) -> None:
        """As a file that stands whole or not at all; where it cannot be written, nobody sees it, and no more."""
        arrays: dict[str, Any] = {
            "images": self.images,
            "predicted": self.predicted,
            "wanted": self.wanted,
            "numbers": self.numbers,
        }
        with contextlib.suppress(OSError), replacing(file) as part, part.open("wb") as stream:
            np.savez(stream, at=np.array([self.epoch, self.step]), **arrays)  # no more than a look: not synced


def read_last_batch(file: Path) -> LastBatch | None:
    """From `LastBatch.write`; None where there is none that can be read."""
    try:
        with file.open("rb") as stream, np.load(stream, allow_pickle=False) as stored:
            epoch, step = stored["at"].tolist()
            images, rest = stored["images"], [stored[name] for name in ("predicted", "wanted", "numbers")]
    except (OSError, ValueError, KeyError, EOFError, zipfile.BadZipFile):
        return None
    whole = images.dtype == np.uint8 and images.ndim == 4 and all(each.shape == (len(images),) for each in rest)
    return LastBatch(epoch, step, images, *rest) if whole else None
