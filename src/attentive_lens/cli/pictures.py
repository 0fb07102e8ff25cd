"""Explanations as files: maps as arrays, and pictures of them."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray
from PIL import Image

from attentive_lens.desk.tasks import Result
from attentive_lens.errors import BadFile
from attentive_lens.explaining.feature_maps import strongest

OCHRE = np.array([0xB9, 0x82, 0x18], np.float32)
VERMILION = np.array([0xB5, 0x3A, 0x20], np.float32)
PETROL = np.array([0x0F, 0x6B, 0x72], np.float32)
PAPER = np.array([0xF4, 0xF1, 0xEA], np.float32)
INK = np.array([0x23, 0x29, 0x2E], np.float32)
SCALE = 5


def write_explanation(results: list[Result], folder: Path, stem: str) -> dict[str, Any]:
    """Write maps (.npy, H×W float32) and pictures; what was written, as ``explain --json`` prints it.

    Parameters
    ----------
    results : list of Result
        Of the task `explain` for one image, one for each method.
    folder : Path
        Made if missing.
    stem : str
        Beginning of the files' names.
    """
    values, arrays = results[0].values, results[0].arrays
    told: dict[str, Any] = {
        "image": values["image"],
        "file": values["file"].encode("utf-8", "backslashreplace").decode(),
        "said": values["said"],
        "true": values["true"],
        "probabilities": values["probabilities"],
        "regions": values["regions"],
        "maps": [],
    }
    try:
        folder.mkdir(parents=True, exist_ok=True)
        for result in results:
            told["maps"] += _write_maps(result, folder, f"{stem}-{result.values['method']}")
        layers = folder / f"{stem}-layers.png"
        _layers(values["layers"], arrays).save(layers)
    except OSError as error:
        raise BadFile(
            f"{folder} could not be written", str(error.strerror).lower(), "Name another with --out"
        ) from None
    told["layers_picture"] = str(layers)
    return told


def _write_maps(result: Result, folder: Path, stem: str) -> list[dict[str, Any]]:
    """The maps of one method: for said, for true and for a class asked for, and said − true where these differ."""
    values, arrays = result.values, result.arrays
    targets = dict(values["targets"])
    if "map difference" in arrays and values["said"] != values["true"]:
        targets["difference"] = "said − true"
    told = []
    for key, target in targets.items():
        map_ = arrays[f"map {key}"]
        file, picture = folder / f"{stem}-{key}.npy", folder / f"{stem}-{key}.png"
        np.save(file, map_, allow_pickle=False)
        draw = signed_over_image if key == "difference" else over_image
        _enlarged(draw(arrays["pixels"], map_)).save(picture)
        entry = {"method": values["method"], "target": target, "as": key, "file": str(file), "picture": str(picture)}
        told.append({**entry, "trust": values["trust"].get(key)})
    return told


def write_filters(result: Result, folder: Path) -> str | None:
    """Write the first convolution's filters as one picture, eight a row; its path, or None without such a layer."""
    filters = result.arrays.get("filters")
    if filters is None:
        return None
    tile, gap = 48, 4
    rows = -(-len(filters) // 8)
    sheet = Image.new("RGB", (8 * (tile + gap) + gap, rows * (tile + gap) + gap), (0xF4, 0xF1, 0xEA))
    for k, one in enumerate(filters):
        row, column = divmod(k, 8)
        picture = Image.fromarray((one * 255).astype(np.uint8)).resize((tile, tile), Image.Resampling.NEAREST)
        sheet.paste(picture, (gap + column * (tile + gap), gap + row * (tile + gap)))
    folder.mkdir(parents=True, exist_ok=True)
    file = folder / "first-filters.png"
    sheet.save(file)
    return str(file)


def over_image(pixels: NDArray[np.uint8], map_: NDArray[np.float32]) -> NDArray[np.uint8]:
    """A map, transparent to ochre to vermilion, over its greyed image: S×S×3 uint8, image and map side by side."""
    colour = np.repeat(pixels, 3, axis=2) if pixels.shape[2] == 1 else pixels
    top = float(np.percentile(map_, 99.5))
    strength = np.clip(map_ / (top if top > 0 else 1.0), 0, 1)[:, :, None]
    tint = OCHRE + (VERMILION - OCHRE) * strength
    return _beside(colour, tint, np.sqrt(strength))


def signed_over_image(pixels: NDArray[np.uint8], map_: NDArray[np.float32]) -> NDArray[np.uint8]:
    """As `over_image`, for what pulled to the answer said (vermilion) and to the true one (petrol)."""
    colour = np.repeat(pixels, 3, axis=2) if pixels.shape[2] == 1 else pixels
    strength = np.clip(map_ / (float(np.percentile(np.abs(map_), 99.5)) or 1.0), -1, 1)[:, :, None]
    return _beside(colour, np.where(strength > 0, VERMILION, PETROL), np.sqrt(np.abs(strength)))


def _beside(colour: NDArray[np.uint8], tint: NDArray[np.float32], alpha: NDArray[np.float32]) -> NDArray[np.uint8]:
    """An image, and beside it its pale copy under a tint."""
    pale = PAPER + 0.45 * (colour.mean(axis=2, keepdims=True) - PAPER)
    return np.concatenate([colour, (pale + (tint - pale) * alpha).astype(np.uint8)], axis=1)


def _enlarged(pixels: NDArray[np.uint8]) -> Image.Image:
    picture = Image.fromarray(pixels)
    return picture.resize((picture.width * SCALE, picture.height * SCALE), Image.Resampling.NEAREST)


def _layers(layers: list[dict[str, Any]], arrays: dict[str, NDArray[Any]]) -> Image.Image:
    """One row a layer: its eight strongest feature maps, ink on paper, at one size."""
    tile, gap = 96, 6
    rows = [k for k, layer in enumerate(layers) if len(layer["shape"]) == 3]
    sheet = Image.new("RGB", (8 * (tile + gap) + gap, max(1, len(rows)) * (tile + gap) + gap), (0xF4, 0xF1, 0xEA))
    for line, k in enumerate(rows):
        maps = arrays[f"layer {k}"]
        for column, channel in enumerate(strongest(maps, 8)):
            one = maps[:, :, channel]
            spread = float(one.max() - one.min()) or 1.0
            level = ((one - one.min()) / spread)[:, :, None]
            picture = Image.fromarray((PAPER + (INK - PAPER) * level).astype(np.uint8))
            place = (gap + column * (tile + gap), gap + line * (tile + gap))
            sheet.paste(picture.resize((tile, tile), Image.Resampling.NEAREST), place)
    return sheet


def write_layer(result: Result, folder: Path) -> dict[str, Any]:
    """Write a layer's patches and synthetic images as pictures, and all arrays as .npy; what was written."""
    values, arrays = result.values, result.arrays
    try:
        folder.mkdir(parents=True, exist_ok=True)
        for name, array in arrays.items():
            np.save(folder / f"{name.replace(' ', '-')}.npy", array, allow_pickle=False)
        tiled = [np.concatenate([np.pad(p, ((1, 1), (1, 1), (0, 0)), constant_values=244) for p in row], axis=1)
                 for row in arrays["patches"]]  # fmt: skip
        _picture(np.concatenate(tiled, axis=0)).save(folder / "patches.png")
        _picture(np.concatenate(list(arrays["synthetic"]), axis=1)).save(folder / "synthetic.png")
    except OSError as error:
        raise BadFile(
            f"{folder} could not be written", str(error.strerror).lower(), "Name another with --out"
        ) from None
    speaks = [
        [(values["classes"][k], float(column[k])) for k in np.argsort(-np.abs(column), kind="stable")[:3]]
        for column in arrays["speaks"].T
    ]
    names = ("patches.png", "synthetic.png")
    files = dict(zip(("patches", "synthetic"), (str(folder / name) for name in names), strict=True))
    return {**values, **files, "arrays": str(folder), "speaks": speaks}


def write_places(result: Result, file: Path) -> None:
    """Write every training image's place as a CSV table."""
    import csv

    values, arrays = result.values, result.arrays
    try:
        with file.open("w", newline="", encoding="utf-8") as stream:
            table = csv.writer(stream)
            table.writerow(("image", "component 1", "component 2", "t-sne 1", "t-sne 2"))
            for image, one, other in zip(values["images"], arrays["places"], arrays["embedded"], strict=True):
                table.writerow([image, *(f"{v:.5g}" for v in (*one, *other))])
    except OSError as error:
        raise BadFile(f"{file} could not be written", str(error.strerror).lower(), "Name another file") from None


def _picture(pixels: NDArray[np.uint8]) -> Image.Image:
    shown = np.repeat(pixels, 3, axis=2) if pixels.shape[2] == 1 else pixels
    return Image.fromarray(np.ascontiguousarray(shown)).resize((shown.shape[1] * 3, shown.shape[0] * 3), 0)
