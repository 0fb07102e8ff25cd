"""Made-up pictures as instruments give them: of many bits and channels, their class standing in the last channel alone.

A kind is one line in `KINDS`: how a grain's values are written, how many channels it has, and how it is read.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import imagecodecs
import numpy as np
import tifffile
from numpy.typing import NDArray
from PIL import Image

from attentive_lens.images.pixel_format import STACKED, numbered, usual_channels
from attentive_lens.images.reading import Reading

CHANNELS = ("blue", "green", "red", "red edge", "infrared")
CLASSES = ("ringed", "solid")
TOP = 4095
FIVE = ", ".join(CHANNELS)


def grain(label: int, number: int, channels: int = 5, rows: int = 32, columns: int = 32) -> NDArray[np.uint16]:
    """A disc of 12 bits, brighter or darker by channel, rows×columns×channels; in the last a ring, or a full disc."""
    random = np.random.default_rng((number, label))
    down, across = np.mgrid[:rows, :columns]
    at, radius = random.uniform(0.35, 0.65, 2), random.uniform(0.18, 0.26)
    apart = np.hypot((down + 0.5) / rows - at[0], (across + 0.5) / columns - at[1])
    disc = np.clip((radius - apart) * 40, 0, 1)
    hole = np.clip((radius * 0.6 - apart) * 40, 0, 1)
    planes = []
    for channel in range(channels):
        shape = disc - hole if label == 0 and channel == channels - 1 else disc
        light = random.uniform(700, 1500) + random.uniform(1200, 2200) * shape
        planes.append(light + random.normal(0, 60, (rows, columns)))
    return np.stack(planes, axis=2).clip(0, TOP).astype(np.uint16)


def _png(file: Path, values: NDArray[np.uint16]) -> None:
    file.with_suffix(".png").write_bytes(imagecodecs.png_encode(np.squeeze(values)))


def _tiff(**how: Any) -> Callable[[Path, NDArray[np.uint16]], None]:
    def write(file: Path, values: NDArray[np.uint16]) -> None:
        tifffile.imwrite(file.with_suffix(".tif"), values, photometric="minisblack", planarconfig="contig", **how)

    return write


def _planar(file: Path, values: NDArray[np.uint16]) -> None:
    planes = np.moveaxis((values >> 4).astype(np.uint8), 2, 0)
    tifffile.imwrite(file.with_suffix(".tif"), planes, photometric="minisblack", planarconfig="separate")


def _pages(file: Path, values: NDArray[np.uint16 | np.uint8]) -> None:
    tifffile.imwrite(file.with_suffix(".tif"), np.moveaxis(values, 2, 0), photometric="minisblack")


def _grey_pages(file: Path, values: NDArray[np.uint16]) -> None:
    _pages(file, (values >> 4).astype(np.uint8))


def _floats(file: Path, values: NDArray[np.uint16]) -> None:
    np.save(file.with_suffix(".npy"), (values / np.float32(17) - 30).astype(np.float32))


@dataclass(frozen=True)
class Kind:
    """One kind of file: how it is written, its channels, how it is read, and what depth it is then told to have."""

    write: Callable[[Path, NDArray[np.uint16]], None]
    channels: int
    reading: Reading
    depth: str

    @property
    def names(self) -> tuple[str, ...]:
        """What its channels are called."""
        known = numbered if self.reading.pages == STACKED else usual_channels
        return self.reading.channel_names or known(self.channels)


KINDS: dict[str, Kind] = {
    "grey PNG": Kind(_png, 1, Reading(), "16 bit"),
    "colour PNG": Kind(_png, 3, Reading(), "16 bit"),
    "five channels": Kind(_tiff(compression="lzw", predictor=True), 5, Reading(channels=FIVE), "16 bit"),
    "planes of 8 bits": Kind(_planar, 5, Reading(), "8 bit"),
    "pages": Kind(_pages, 4, Reading(pages="channels"), "16 bit"),
    "grey pages": Kind(_grey_pages, 3, Reading(pages="channels"), "8 bit"),
    "floats": Kind(_floats, 2, Reading(), "floating point"),
}


def write_kind(root: Path, name: str, each: int = 30, rows: int = 32, columns: int = 32) -> Path:
    """Folders of so many pictures of each class."""
    kind = KINDS[name]
    for label, word in enumerate(CLASSES):
        (root / word).mkdir(parents=True, exist_ok=True)
        for number in range(each):
            kind.write(root / word / f"{number:03d}", grain(label, number, kind.channels, rows, columns))
    return root


def pillow_grey(file: Path) -> NDArray[Any]:
    """What another reader finds in a grey picture of 16 bits."""
    with Image.open(file) as picture:
        return np.asarray(picture)
