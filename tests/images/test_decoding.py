from __future__ import annotations

import os
import shutil
from pathlib import Path

import numpy as np
import pytest
from PIL import Image

from attentive_lens.errors import BadFile
from attentive_lens.images.decoding import decode
from attentive_lens.images.stored import is_array, size_of_file

RAMP = np.tile(np.linspace(0, 255, 12).astype(np.uint8), (9, 1))


def saved(folder: Path, picture: Image.Image, name: str, **how: object) -> Path:
    picture.save(folder / name, **how)
    return folder / name


def modes() -> dict[str, tuple[Image.Image, str]]:
    grey = Image.fromarray(RAMP)
    colour = Image.merge("RGB", [grey, grey.transpose(Image.Transpose.FLIP_LEFT_RIGHT), grey])
    clear = colour.convert("RGBA")
    clear.putalpha(grey)
    return {
        "grey": (grey, "g.png"),
        "black and white": (grey.convert("1"), "b.png"),
        "palette": (colour.convert("P"), "p.png"),
        "colour": (colour, "c.jpg"),
        "colour with transparency": (clear, "t.png"),
        "grey with transparency": (clear.convert("LA"), "l.png"),
        "print colours (CMYK)": (colour.convert("CMYK"), "k.jpg"),
        "grey, 16 bit": (Image.fromarray(RAMP.astype(np.uint16) * 257), "d.png"),
    }


@pytest.mark.parametrize("mode", modes())
def test_every_mode_of_picture_comes_as_three_channels_of_bytes(mode: str, tmp_path: Path) -> None:
    picture, name = modes()[mode]
    result = decode(saved(tmp_path, picture, name))
    assert result.pixels.shape == (9, 12, 3)
    assert result.pixels.dtype == np.uint8
    assert result.mode == mode


def test_sixteen_bits_keep_their_brightness_and_transparency_lies_on_white(tmp_path: Path) -> None:
    deep = decode(saved(tmp_path, modes()["grey, 16 bit"][0], "d.png")).pixels
    assert np.array_equal(deep[:, :, 0], RAMP)
    clear = decode(saved(tmp_path, modes()["colour with transparency"][0], "t.png")).pixels
    assert clear[0, 0].tolist() == [255, 255, 255]


@pytest.mark.parametrize("white", [1.0, 255.0, 65535.0])
def test_floating_point_grey_is_read_by_the_scale_its_values_fit(white: float, tmp_path: Path) -> None:
    levels = np.linspace(0, 1, 16, dtype=np.float32).reshape(4, 4)
    Image.fromarray(levels * np.float32(white)).save(tmp_path / "f.tif")
    assert np.abs(decode(tmp_path / "f.tif").pixels[..., 1] - 255 * levels).max() <= 0.51


@pytest.mark.parametrize(
    ("value", "reason"), [(-0.5, "run from -0.5 to"), (9e5, "which of them"), (np.nan, "no numbers")]
)
def test_floating_point_of_an_unknown_scale_is_no_damage(value: float, reason: str, tmp_path: Path) -> None:
    levels = np.ones((4, 4), np.float32)
    levels[1, 2] = value
    Image.fromarray(levels).save(tmp_path / "f.tif")
    with pytest.raises(BadFile, match=reason):
        decode(tmp_path / "f.tif")


def test_a_picture_is_turned_as_its_camera_noted(tmp_path: Path) -> None:
    exif = Image.Exif()
    exif[0x0112] = 6
    file = saved(tmp_path, Image.fromarray(RAMP), "turned.png", exif=exif)
    assert decode(file).pixels.shape == (12, 9, 3)


def test_of_an_animation_the_first_picture_is_taken(tmp_path: Path) -> None:
    first, second = Image.new("RGB", (8, 8), (200, 0, 0)), Image.new("RGB", (8, 8), (0, 0, 200))
    file = saved(tmp_path, first, "moves.gif", save_all=True, append_images=[second])
    assert decode(file).pixels[0, 0].tolist() == [200, 0, 0]


def test_every_fault_of_a_file_has_its_own_reason(tmp_path: Path) -> None:
    whole = saved(tmp_path, modes()["colour"][0], "whole.png").read_bytes()
    contents = {
        "empty": (b"", "empty"),
        "cut": (whole[: len(whole) // 2], "cut off"),
        "text": (b"no picture at all", "image format"),
        "head": (whole[:20], "cut off|image format"),
    }
    for name, (data, reason) in contents.items():
        (tmp_path / name).write_bytes(data)
        with pytest.raises(BadFile, match=reason):
            decode(tmp_path / name)
    with pytest.raises(BadFile, match="no such file"):
        decode(tmp_path / "none.png")
    with pytest.raises(BadFile, match="not a regular file"):
        decode(tmp_path)
    os.mkfifo(tmp_path / "pipe.png")
    with pytest.raises(BadFile, match="not a regular file"):
        decode(tmp_path / "pipe.png")


def test_a_picture_too_large_to_unpack_is_refused_unopened(tmp_path: Path) -> None:
    file = saved(tmp_path, Image.new("1", (20_000, 10_001)), "huge.png")
    with pytest.raises(BadFile, match="unpack"):
        decode(file)


def test_a_picture_s_size_is_told_without_unpacking_it_and_an_array_is_known_by_its_beginning(tmp_path: Path) -> None:
    values = np.random.default_rng(0).integers(0, 256, (20, 30, 3)).astype(np.uint8)
    for kind in ("png", "jpeg", "tiff", "bmp", "gif", "webp"):
        Image.fromarray(values).save(tmp_path / f"a.{kind}")
    np.save(tmp_path / "a.npy", values)
    shutil.copyfile(tmp_path / "a.npy", tmp_path / "of no kind")
    for file in tmp_path.iterdir():
        assert size_of_file(file) == (20, 30), file.name
    assert np.array_equal(decode(tmp_path / "of no kind").pixels, values)
    assert is_array(tmp_path / "of no kind")
    for content in (b"", b"words", (tmp_path / "a.png").read_bytes()[:20], b"\x93NUMPY"):
        (tmp_path / "broken").write_bytes(content)
        assert size_of_file(tmp_path / "broken") == (0, 0)
    assert size_of_file(tmp_path / "nowhere") == (0, 0)
