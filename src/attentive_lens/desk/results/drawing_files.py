"""Drawn images and codes as files."""

from __future__ import annotations

import csv
import io
import zipfile
from collections.abc import Iterable, Mapping
from pathlib import Path

import numpy as np
from numpy.typing import NDArray
from PIL import Image

from attentive_lens.core.files import replacing, write_text
from attentive_lens.desk.map_colours import in_colour
from attentive_lens.desk.requests.drawing import ARRAYS, Encoded
from attentive_lens.errors import BadFile, BadUsage
from attentive_lens.images.pixel_format import PixelArray

GAP = 2
"""Pixels between images of a picture."""
GROUND = 232
ROWS = "Give rows of numbers: .csv, .npy or .npz"
BROKEN = (OSError, ValueError, KeyError, IndexError, EOFError, MemoryError, csv.Error, zipfile.BadZipFile)
"""What reading a file of numbers raises that is damaged, or none."""


def sheet(images: PixelArray, columns: int) -> NDArray[np.uint8]:
    """Images N×H×W×C side by side, so many in a row, as one picture of uint8 with 3 channels."""
    count, height, width = images.shape[:3]
    down, across = height + GAP, width + GAP
    picture = np.full((-(-count // columns) * down - GAP, min(count, columns) * across - GAP, 3), GROUND, np.uint8)
    for k, image in enumerate(in_colour(images)):
        top, left = k // columns * down, k % columns * across
        picture[top : top + height, left : left + width] = image
    return picture


def write_picture(file: Path, picture: NDArray[np.uint8]) -> None:
    """As PNG; `BadFile` if it cannot be written."""
    try:
        with replacing(file) as part:
            Image.fromarray(picture).save(part, "PNG")
    except OSError as error:
        raise _unwritten(file, error) from None


def write_arrays(file: Path, arrays: Mapping[str, NDArray[np.generic]], one: str) -> None:
    """All as .npz, or the one named as .npy."""
    try:
        with replacing(file) as part, part.open("wb") as stream:
            if file.suffix.lower() == ".npz":
                np.savez(stream, **arrays)  # type: ignore[arg-type]
            else:
                np.save(stream, arrays[one])
    except OSError as error:
        raise _unwritten(file, error) from None


def write_codes(file: Path, result: Encoded, files: Iterable[str]) -> None:
    """A row an image."""
    if file.suffix.lower() != ".csv":
        arrays = {name: getattr(result, name) for name in ("codes", "deviations", "numbers", "labels", "losses")}
        write_arrays(file, arrays, "codes")
        return
    table = io.StringIO()
    rows = csv.writer(table, lineterminator="\n")
    numbered = [f"{word} {k + 1}" for word in ("code", "deviation") for k in range(result.size)]
    rows.writerow(["image", "file", "label", "loss", *numbered])
    for k, name in enumerate(files):
        label = result.classes[result.labels[k]] if result.labels[k] >= 0 else ""
        values = (result.losses[k], *result.codes[k], *result.deviations[k])
        rows.writerow([result.numbers[k], name, label, *(f"{value:.6g}" for value in values)])
    write_text(file, table.getvalue())


def read_codes(file: Path) -> NDArray[np.float32]:
    """Rows of numbers from a file; of a table, the columns called «code 1» and so on, or all."""
    try:
        if file.suffix.lower() in ARRAYS:
            with file.open("rb") as stored:
                values = np.load(stored, allow_pickle=False)
                return np.asarray(values if isinstance(values, np.ndarray) else values["codes"], np.float32)
        with file.open(newline="", encoding="utf-8-sig") as stream:
            head, *rows = [row for row in csv.reader(stream) if row]
        named = [k for k, name in enumerate(head) if name.strip().startswith("code ")]
        if not named:
            head, rows, named = [], [head, *rows], list(range(len(head)))
        return np.array([[float(row[k]) for k in named] for row in rows], np.float32)
    except FileNotFoundError:
        raise BadFile(f"{file} could not be read", "there is no such file", "Check the path") from None
    except BROKEN as error:
        why = str(getattr(error, "strerror", None) or error).strip().splitlines()
        raise BadFile(
            f"{file} could not be read as codes", why[0][:200].lower() if why else "it holds no rows", ROWS
        ) from None


def check_ending(file: str, endings: tuple[str, ...]) -> None:
    """Raise `BadUsage` where a file is named that ends otherwise."""
    if file and Path(file).suffix.lower() not in endings:
        why = f"its ending is none of {', '.join(endings)}"
        raise BadUsage(f"{file} was not written", why, "Give it one of these")


def _unwritten(file: Path, error: OSError) -> BadFile:
    why = str(error.strerror or error).lower()
    return BadFile(f"{file} could not be written", why, "Free the disk or choose another folder")
