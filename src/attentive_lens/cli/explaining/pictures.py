"""Explanations as files: maps as arrays, and pictures of them."""

from __future__ import annotations

import re
from collections.abc import Sequence
from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray
from PIL import Image

from attentive_lens.cli.explaining.explaining_results import (
    ClassesWritten,
    ClassWritten,
    Explained,
    LayerWritten,
    MapWritten,
    Speaks,
)
from attentive_lens.core.files import make_folder
from attentive_lens.desk.map_colours import PAPER, by_channel, in_colour, over_image
from attentive_lens.desk.requests.explaining import ActivationMaps, Explanation, Filters, MapSettings, MapTrust
from attentive_lens.desk.requests.inspecting import LayerSeen, Tried
from attentive_lens.desk.requests.maps import ClassesRest
from attentive_lens.errors import BadFile
from attentive_lens.explaining.feature_maps import strongest
from attentive_lens.images.pixel_format import PixelArray, level_of

INK = np.array([0x23, 0x29, 0x2E], np.float32)
SCALE = 5


def write_explanation(results: Sequence[Explanation], layers: ActivationMaps, folder: Path, stem: str) -> Explained:
    """Write maps (.npy, H×W float32) and pictures; what was written, as ``explain --json`` prints it.

    Parameters
    ----------
    results : sequence of Explanation
        Of one image, one for each method.
    layers : ActivationMaps
        Of all its layers.
    folder : Path
        Made if missing.
    stem : str
        Beginning of the files' names.
    """
    first = results[0]
    maps: list[MapWritten] = []
    picture = folder / f"{stem}-layers.png"
    make_folder(folder)
    try:
        for result in results:
            maps += _write_maps(result, folder, f"{stem}-{_called(result.method)}")
        _layers(layers).save(picture)
    except OSError as error:
        raise BadFile(
            f"{folder} could not be written", str(error.strerror).lower(), "Name another with --out"
        ) from None
    file = first.file.encode("utf-8", "backslashreplace").decode()
    return Explained(
        first.image,
        file,
        first.predicted,
        first.true,
        first.probabilities,
        first.output,
        first.regions,
        tuple(maps),
        str(picture),
        None,
        (),
        (),
    )


def _called(method: MapSettings) -> str:
    """A method in a file's name, with what is not usual of it: maps by other settings lie beside each other."""
    words = "-".join([method.kind, *map(str, method.unusual.values())])
    return re.sub(r"[^\w.-]+", "_", words)[:60]


def _write_maps(result: Explanation, folder: Path, stem: str) -> list[MapWritten]:
    """The maps of one method: for said, for true and for a class asked for, and said − true where these differ."""
    maps = [(of_class.key, of_class.target, of_class.values, of_class.trust) for of_class in result.maps]
    drawn: list[tuple[str, str, NDArray[np.float32], MapTrust | None]] = list(maps)
    if result.difference is not None and result.predicted != result.true:
        drawn.append(("difference", "said − true", result.difference, None))
    written = []
    for key, target, map_, trust in drawn:
        file, picture = folder / f"{stem}-{key}.npy", folder / f"{stem}-{key}.png"
        np.save(file, map_, allow_pickle=False)
        tinted = over_image(result.pixels, map_, signed=key == "difference")
        _enlarged(tinted).save(picture)
        written.append(MapWritten(result.method, target, key, str(file), str(picture), trust))
    return written


def write_classes(rests: ClassesRest, folder: Path) -> ClassesWritten:
    """Write each class's mean image beside its mean map, and the map as .npy; what was written."""
    written = []
    make_folder(folder)
    try:
        for number, each in enumerate(rests.classes):
            stem = f"class-{number + 1:02d}"
            np.save(folder / f"{stem}.npy", each.map, allow_pickle=False)
            _enlarged(over_image(each.mean, each.map)).save(folder / f"{stem}.png")
            about = (each.name, each.images, each.row, each.column, each.together, each.trial, each.words)
            written.append(ClassWritten(*about, str(folder / f"{stem}.png"), str(folder / f"{stem}.npy")))
    except OSError as error:
        raise BadFile(
            f"{folder} could not be written", str(error.strerror).lower(), "Name another with --out"
        ) from None
    return ClassesWritten(rests.run, rests.on, rests.method, tuple(written))


def write_tried(tried: Tried, folder: Path) -> None:
    """Write each changed image, and beside it its map as a picture and as .npy where one was asked for."""
    make_folder(folder)
    try:
        for number, pixels in enumerate(tried.pixels):
            stem = folder / f"change-{number + 1:02d}"
            shown = in_colour(pixels)
            if tried.maps is not None:
                np.save(stem.with_suffix(".npy"), tried.maps[number], allow_pickle=False)
                shown = over_image(pixels, tried.maps[number])
            _enlarged(shown).save(stem.with_suffix(".png"))
    except OSError as error:
        raise BadFile(
            f"{folder} could not be written", str(error.strerror).lower(), "Name another with --out"
        ) from None


def write_filters(result: Filters, folder: Path) -> str | None:
    """Write the first convolution's filters as one picture, those of channels that are no colours
    channel by channel; its path, or None without such a layer.
    """
    filters = result.pictures
    if filters is None:
        return None
    tile, gap = 48, 4
    wide = len(by_channel(filters[0]))
    each = max(1, 8 // wide)
    rows = -(-len(filters) // each)
    sheet = Image.new("RGB", (each * wide * (tile + gap) + gap, rows * (tile + gap) + gap), (0xF4, 0xF1, 0xEA))
    for k, one in enumerate(filters):
        row, column = divmod(k, each)
        for channel, shown in enumerate(by_channel(one)):
            picture = Image.fromarray(shown).resize((tile, tile), Image.Resampling.NEAREST)
            sheet.paste(picture, (gap + (column * wide + channel) * (tile + gap), gap + row * (tile + gap)))
    make_folder(folder)
    file = folder / "first-filters.png"
    sheet.save(file)
    return str(file)


def _enlarged(pixels: NDArray[np.uint8]) -> Image.Image:
    picture = Image.fromarray(pixels)
    return picture.resize((picture.width * SCALE, picture.height * SCALE), Image.Resampling.NEAREST)


def _layers(layers: ActivationMaps) -> Image.Image:
    """One row a layer: its eight strongest feature maps, ink on paper, at one size."""
    tile, gap = 96, 6
    rows = [maps for maps in layers.outputs.values() if maps.ndim == 3]
    sheet = Image.new("RGB", (8 * (tile + gap) + gap, max(1, len(rows)) * (tile + gap) + gap), (0xF4, 0xF1, 0xEA))
    for line, maps in enumerate(rows):
        for column, channel in enumerate(strongest(maps, 8)):
            one = maps[:, :, channel]
            spread = float(one.max() - one.min()) or 1.0
            level = ((one - one.min()) / spread)[:, :, None]
            picture = Image.fromarray((PAPER + (INK - PAPER) * level).astype(np.uint8))
            place = (gap + column * (tile + gap), gap + line * (tile + gap))
            sheet.paste(picture.resize((tile, tile), Image.Resampling.NEAREST), place)
    return sheet


def write_layer(seen: LayerSeen, folder: Path) -> LayerWritten:
    """Write a layer's patches and synthetic images as pictures, and all arrays as .npy; what was written."""
    arrays: dict[str, NDArray[Any]] = {"patches": seen.patches, "synthetic": seen.synthetic, "speaks": seen.speaks}
    arrays |= {"activity": seen.activity, "used": seen.used}
    arrays |= {f"weights-{name}": array for name, array in seen.weights.items()}
    make_folder(folder)
    try:
        for name, array in arrays.items():
            np.save(folder / f"{name}.npy", array, allow_pickle=False)
        ground = level_of(244, seen.patches.dtype)
        tiled = [np.concatenate([np.pad(p, ((1, 1), (1, 1), (0, 0)), constant_values=ground) for p in row], axis=1)
                 for row in seen.patches]  # fmt: skip
        _picture(np.concatenate(tiled, axis=0)).save(folder / "patches.png")
        _picture(np.concatenate(list(seen.synthetic), axis=1)).save(folder / "synthetic.png")
    except OSError as error:
        raise BadFile(
            f"{folder} could not be written", str(error.strerror).lower(), "Name another with --out"
        ) from None
    speaks = tuple(
        tuple(Speaks(seen.classes[k], float(column[k])) for k in np.argsort(-np.abs(column), kind="stable")[:3])
        for column in seen.speaks.T
    )
    return LayerWritten(
        seen.layer,
        seen.receptive_field,
        seen.classes,
        seen.images_looked_at,
        seen.images_in_all,
        seen.synthetic_channels,
        seen.images,
        seen.values,
        speaks,
        tuple(seen.used.tolist()),
        str(folder / "patches.png"),
        str(folder / "synthetic.png"),
        str(folder),
    )


def _picture(pixels: PixelArray) -> Image.Image:
    shown = in_colour(pixels)
    return Image.fromarray(np.ascontiguousarray(shown)).resize((shown.shape[1] * 3, shown.shape[0] * 3), 0)
