"""What a network that draws drew after an epoch, frame by frame: the same images again, and the same random codes."""

from __future__ import annotations

import contextlib
import zipfile
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray

from attentive_lens.core.files import make_folder, replacing
from attentive_lens.errors import BadFile

FRAMES = 60
"""Frames of a run, about: of a longer one every so many epochs one is kept."""
SHOWN = 8
"""Images that are drawn again, and random codes."""
OF_CLASS, MOST_SHOWN = 4, 32
"""Random codes of each class, in turn, where classes are drawn, and of all together."""


@dataclass(frozen=True)
class Frame:
    """After an epoch.

    Attributes
    ----------
    epoch : int
        From 1.
    images, again : ndarray, N×H×W×C uint8
        Validation images, and what was drawn of their codes.
    samples : ndarray, M×H×W×C uint8
        What was drawn of random codes, the same in every frame; none without a distribution of codes.
    """

    epoch: int
    images: NDArray[np.uint8]
    again: NDArray[np.uint8]
    samples: NDArray[np.uint8]

    def write(self, folder: Path) -> None:
        """As a file that stands whole or not at all; where it cannot be written the film lacks it, and no more."""
        arrays: dict[str, Any] = {"images": self.images, "again": self.again, "samples": self.samples}
        with contextlib.suppress(OSError, BadFile):
            make_folder(folder)
            with replacing(_file(folder, self.epoch)) as part, part.open("wb") as stream:
                np.savez_compressed(stream, **arrays)


def is_due(epoch: int, epochs: int) -> bool:
    """Whether an epoch of so many, from 1, is in the film: the first, the last, and some between."""
    return epoch in (1, epochs) or epoch % max(1, round(epochs / FRAMES)) == 0


def frames(folder: Path, epochs: int) -> list[int]:
    """Epochs of which there are frames, no more than were finished."""
    numbers = sorted(int(file.stem) for file in folder.glob("*.npz") if file.stem.isdecimal())
    return [number for number in numbers if number <= epochs]


def read_frame(folder: Path, epoch: int) -> Frame | None:
    """From `Frame.write`; None where there is none that can be read."""
    try:
        with _file(folder, epoch).open("rb") as stream, np.load(stream, allow_pickle=False) as stored:
            arrays = [stored[name] for name in ("images", "again", "samples")]
    except (OSError, ValueError, KeyError, EOFError, zipfile.BadZipFile):
        return None
    whole = all(each.dtype == np.uint8 and each.ndim == 4 for each in arrays) and len(arrays[0]) == len(arrays[1])
    return Frame(epoch, *arrays) if whole else None


def _file(folder: Path, epoch: int) -> Path:
    return folder / f"{epoch:05d}.npz"
