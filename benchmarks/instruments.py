"""Pictures of many bits and channels: how fast they are imported and prepared, against bare decoding of the same files.

Made-up pictures are written as 16-bit grey PNG, as TIFF of five channels of 12 bits (plain, and packed), and as NPY.
Bare decoding is what the reading libraries alone take for them with two threads in the same run; imported is a new
workspace with its scale, prepared is every image at the input size in the cache. Then files of many pages, each page
an image: how long all are read one by one, as a model is asked about them, against the file unpacked at once.

    python benchmarks/instruments.py [--images 2000] [--side 128] [--pages 400] [--rounds 3]
"""

from __future__ import annotations

import argparse
import statistics
import tempfile
import time
from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path

import imagecodecs
import numpy as np
import tifffile
from numpy.typing import NDArray
from PIL import Image

from attentive_lens.core.jobs import finish
from attentive_lens.desk.images.data import gather
from attentive_lens.desk.making import make_workspace
from attentive_lens.desk.network.usual import usual_plan
from attentive_lens.images.ahead import batches, read_files
from attentive_lens.images.pages import each_page
from attentive_lens.images.pixel_format import GREY, PixelFormat
from attentive_lens.images.preprocessing import Preprocessor
from attentive_lens.plan.preprocessing import Preprocessing

Write = Callable[[Path, NDArray[np.uint16]], None]
Read = Callable[[Path], object]
DEEP = PixelFormat(depth="16 bit", white=4095, channels=GREY, pages="images")


def _tiff(**how: object) -> Write:
    def write(file: Path, values: NDArray[np.uint16]) -> None:
        tifffile.imwrite(file, values, photometric="minisblack", planarconfig="contig", **how)  # type: ignore[arg-type]

    return write


def _png(file: Path, values: NDArray[np.uint16]) -> None:
    file.write_bytes(imagecodecs.png_encode(values[:, :, 0]))


KINDS: dict[str, tuple[str, int, Write, Read]] = {
    "grey PNG, 16 bit": (
        ".png",
        1,
        _png,
        lambda file: imagecodecs.png_decode(file.read_bytes()),
    ),
    "TIFF, five channels": (".tif", 5, _tiff(), tifffile.imread),
    "TIFF, five channels, LZW": (".tif", 5, _tiff(compression="lzw", predictor=True), tifffile.imread),
    "NPY, five channels": (".npy", 5, np.save, np.load),
}


def _at_once(file: Path, pages: NDArray[np.uint16]) -> None:
    tifffile.imwrite(file, pages, photometric="minisblack", compression="zlib")


def _one_by_one(file: Path, pages: NDArray[np.uint16]) -> None:
    with tifffile.TiffWriter(file) as into:
        for page in pages:
            into.write(page, photometric="minisblack", contiguous=False, compression="zlib")


def _film(file: Path, pages: NDArray[np.uint16]) -> None:
    first, *more = (Image.fromarray((page >> 4).astype(np.uint8)) for page in pages)
    first.save(file, save_all=True, append_images=more)


def _frames(file: Path) -> None:
    with Image.open(file) as film:
        for number in range(film.n_frames):  # type: ignore[attr-defined]
            film.seek(number)
            film.convert("RGB")


PAGES: dict[str, tuple[str, Write, Read]] = {
    "TIFF, written at once": (".tif", _at_once, tifffile.imread),
    "TIFF, written page by page": (".tif", _one_by_one, lambda file: tifffile.imread(file, key=slice(None))),
    "GIF": (".gif", _film, _frames),
}


def _of_pages(folder: Path, way: str, words: argparse.Namespace) -> str:
    """A row of the table of pages."""
    ending, write, read = PAGES[way]
    file = folder / f"pages{ending}"
    pages = np.random.default_rng(0).integers(0, 4095, (words.pages, words.side, words.side), np.uint16)
    write(file, pages)
    own = PixelFormat(pages="images") if ending == ".gif" else DEEP
    preprocessor = Preprocessor(Preprocessing(input_size=32, channel_names=own.channels), (0.0,), (1.0,), own)
    times, bare = [], []
    for _ in range(words.rounds):
        began = time.perf_counter()
        read(file)
        bare.append(time.perf_counter() - began)
        began = time.perf_counter()
        count = 0
        for few in batches(each_page([str(file)], own)):
            count += sum(not isinstance(each.pixels, str) for each in read_files(preprocessor, few))
        times.append((time.perf_counter() - began) / bare[-1])
        if count != words.pages:
            raise SystemExit(f"{way}: {count} of {words.pages} pages were read")
    return f"| {way} | {words.pages / statistics.median(bare):.0f} | {statistics.median(times):.1f} |"


def make(folder: Path, kind: str, images: int, side: int) -> list[Path]:
    """Discs in noise, each another, in two classes."""
    ending, channels, write, _ = KINDS[kind]
    random = np.random.default_rng(0)
    down, across = np.mgrid[:side, :side] / side
    files = []
    for k in range(images):
        row, column, radius = random.uniform((0.35, 0.35, 0.15), (0.65, 0.65, 0.4))
        disc = ((down - row) ** 2 + (across - column) ** 2 < radius**2)[..., None]
        values = random.normal(900, 60, (side, side, channels)) + disc * random.uniform(500, 2500, channels)
        files.append(folder / f"type {k % 2}" / f"{k:06}{ending}")
        files[-1].parent.mkdir(parents=True, exist_ok=True)
        write(files[-1], values.clip(0, 4095).astype(np.uint16))
    return files


def main() -> None:
    """Print a row a kind."""
    parser = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    parser.add_argument("--images", type=int, default=2000)
    parser.add_argument("--side", type=int, default=128)
    parser.add_argument("--pages", type=int, default=400)
    parser.add_argument("--rounds", type=int, default=3)
    words = parser.parse_args()
    print("| files | bare decoding, images/s | imported, of it | prepared, of it |")
    print("|---|---|---|---|")
    for kind, (_, _, _, read) in KINDS.items():
        with tempfile.TemporaryDirectory() as name:
            files = make(Path(name) / "pictures", kind, words.images, words.side)
            rows = [_round(Path(name), files, read, number) for number in range(words.rounds)]
        bare, imported, prepared = (statistics.median(column) for column in zip(*rows, strict=True))
        print(f"| {kind} | {bare:.0f} | {imported:.2f} | {prepared:.2f} |", flush=True)
    print("\n| pages | at once, pages/s | one by one, times as long |")
    print("|---|---|---|")
    for way in PAGES:
        with tempfile.TemporaryDirectory() as name:
            print(_of_pages(Path(name), way, words), flush=True)


def _round(folder: Path, files: list[Path], read: Read, number: int) -> tuple[float, float, float]:
    """Images a second decoded alone, and the parts of it that importing and preparing reach."""
    began = time.perf_counter()
    with ThreadPoolExecutor(2) as pool:
        for _ in pool.map(read, files):
            pass
    bare = time.perf_counter() - began
    began = time.perf_counter()
    workspace = finish(make_workspace(folder / f"work {number}", folder / "pictures")).workspace
    imported = time.perf_counter() - began
    plan = usual_plan(workspace)
    began = time.perf_counter()
    finish(gather(workspace, plan))
    return len(files) / bare, bare / imported, bare / (time.perf_counter() - began)


if __name__ == "__main__":
    main()
