"""Files with several pages: each page is what was written, however it was written and in whichever order it is read."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

import numpy as np
import psutil
import pytest
import tifffile
from numpy.typing import NDArray
from PIL import Image

from attentive_lens.errors import BadFile
from attentive_lens.images.decoding import decode
from attentive_lens.images.opening import keeping_open
from attentive_lens.images.pixel_format import GREY, PICTURE, PixelFormat
from attentive_lens.images.stored import count_of_pages, held_by

COUNT = 7
Write = Callable[[Path, NDArray[np.uint8 | np.uint16]], None]


def tiff(**how: object) -> Write:
    return lambda file, pages: tifffile.imwrite(file, pages, photometric="minisblack", **how)  # type: ignore[arg-type]


def one_by_one(**how: object) -> Write:
    def write(file: Path, pages: NDArray[np.uint8 | np.uint16]) -> None:
        with tifffile.TiffWriter(file) as into:
            for page in pages:
                into.write(page, photometric="minisblack", contiguous=False, **how)  # type: ignore[arg-type]

    return write


def with_a_small_one(file: Path, pages: NDArray[np.uint8 | np.uint16]) -> None:
    with tifffile.TiffWriter(file) as into:
        into.write(pages[0], metadata=None)
        into.write(pages[0, ::2, ::2], subfiletype=1, metadata=None)
        for page in pages[1:]:
            into.write(page, metadata=None)


def one_by_one_with_a_small_one(file: Path, pages: NDArray[np.uint8 | np.uint16]) -> None:
    with tifffile.TiffWriter(file) as into:
        into.write(pages[0])
        into.write(pages[0, ::2, ::2], subfiletype=1)
        for page in pages[1:]:
            into.write(page, contiguous=False)


def in_two_parts(file: Path, pages: NDArray[np.uint8 | np.uint16]) -> None:
    with tifffile.TiffWriter(file) as into:
        for part in (pages[:4], pages[4:]):
            into.write(part, photometric="minisblack", contiguous=False)


def frames(file: Path, pages: NDArray[np.uint8 | np.uint16]) -> None:
    pictures = [Image.fromarray(page) for page in pages]
    pictures[0].save(file, save_all=True, append_images=pictures[1:])


WAYS: dict[str, tuple[str, Write]] = {
    "at once": (".tif", tiff()),
    "at once, packed": (".tif", tiff(compression="zlib")),
    "at once, undescribed": (".tif", tiff(metadata=None)),
    "one by one": (".tif", one_by_one()),
    "one by one, packed": (".tif", one_by_one(compression="zlib")),
    "one by one, undescribed": (".tif", one_by_one(metadata=None)),
    "in two parts": (".tif", in_two_parts),
    "with axes": (".tif", tiff(imagej=True)),
    "with a description": (".ome.tif", tiff()),
    "a small one between": (".tif", with_a_small_one),
    "a small one between, one by one": (".tif", one_by_one_with_a_small_one),
    "frames of a TIFF": (".tif", frames),
    "frames of a GIF": (".gif", frames),
    "frames of a PNG": (".png", frames),
}


def drawn(depth: type[np.uint8 | np.uint16]) -> NDArray[np.uint8 | np.uint16]:
    """Pages of noise, each of another brightness."""
    random = np.random.default_rng(5)
    top = np.iinfo(depth).max // 8
    return np.stack([random.integers(k * top, (k + 1) * top, (20, 26)) for k in range(COUNT)]).astype(depth)


DEPTHS = [
    (name, depth) for name in WAYS for depth in (np.uint8, np.uint16) if depth is np.uint8 or "frames" not in name
]
"""Frames have 8 bits."""


@pytest.mark.parametrize(("name", "depth"), DEPTHS)
def test_every_page_is_what_was_written(name: str, depth: type[np.uint8 | np.uint16], tmp_path: Path) -> None:
    ending, write = WAYS[name]
    pages, file = drawn(depth), tmp_path / f"pages{ending}"
    write(file, pages)
    assert count_of_pages(file) == COUNT
    own = PICTURE if depth is np.uint8 else PixelFormat(depth="16 bit", white=65_535, channels=GREY)
    scale = 1 if depth is np.uint8 else 65_535
    order = [0, 1, 2, 6, 3, 0, 5, 4, 4, 1]

    def checked(number: int | None) -> None:
        picture = decode(file, own, number)
        assert picture.pages == COUNT
        np.testing.assert_allclose(picture.pixels[:, :, 0] * scale, pages[number or 0], atol=0.01)

    for number in order:
        checked(number)
    with keeping_open():
        for number in (*order, None):
            checked(number)
        with pytest.raises(BadFile, match=f"it holds {COUNT} pictures, and the one asked for is number {COUNT + 1}"):
            decode(file, own, COUNT)
        checked(2)
    if depth is np.uint16:
        stack = held_by(file, "channels").values
        assert np.array_equal(np.moveaxis(stack, 2, 0), pages)


@pytest.mark.parametrize("name", ["at once", "frames of a TIFF", "frames of a GIF"])
def test_a_file_is_opened_once_for_its_pages_and_anew_when_it_is_another(
    name: str, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    ending, write = WAYS[name]
    pages, file, other = drawn(np.uint8), tmp_path / f"pages{ending}", tmp_path / f"other{ending}"
    write(file, pages)
    write(other, pages[::-1].copy())
    original, opened = file.read_bytes(), list[str]()
    monkeypatch.setattr(Image, "open", counting(opened, Image.open))

    def level(path: Path, number: int) -> int:
        return int(decode(path, PICTURE, number).pixels.mean()) // 31

    def held() -> list[str]:
        return [each.path for each in psutil.Process().open_files() if str(tmp_path) in each.path]

    with keeping_open():
        assert [level(file, number) for number in range(COUNT)] == list(range(COUNT))
        assert len(opened) == 1
        assert level(other, 0) == COUNT - 1
        assert level(file, 2) == 2
        file.unlink()
        write(file, pages[::-1].copy())
        assert level(file, 0) == COUNT - 1
        assert held()
        assert level(file, 2) == 4
        file.write_bytes(original)  # in its place
        assert level(file, 2) == 2
        file.write_bytes(other.read_bytes())
    assert not held()
    opened.clear()
    assert [level(file, number) for number in range(3)] == [6, 5, 4]
    assert len(opened) == 3
    assert not held()


def counting(into: list[str], usual: Callable[..., Image.Image]) -> Callable[..., Image.Image]:
    def opened(file: Path, *arguments: object) -> Image.Image:
        into.append(str(file))
        return usual(file, *arguments)

    return opened
