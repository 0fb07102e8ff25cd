"""Values of any depth and channels come from their files as they are, on one scale, and stay so up to the network."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import pytest
import tifffile
from hypothesis import given, settings
from hypothesis import strategies as st
from PIL import Image

from attentive_lens.core.jobs import finish
from attentive_lens.desk.images.data import gather, pixel_format_of
from attentive_lens.desk.making import make_workspace
from attentive_lens.desk.network.usual import looked_at, usual_plan
from attentive_lens.errors import BadFile, BadValue
from attentive_lens.images.decoding import decode, of_array
from attentive_lens.images.pixel_format import (
    COLOURS,
    GREY,
    PICTURE,
    PixelFormat,
    eight_bits,
    level_of,
)
from attentive_lens.images.preprocessing import Preprocessor, resized
from attentive_lens.images.reading import Reading
from attentive_lens.images.rows import Rows
from attentive_lens.images.scale import Sampled
from attentive_lens.images.sources import Found, open_source
from attentive_lens.images.stored import count_of_pages, kind_of_file, stored_values, values_in
from attentive_lens.plan.preprocessing import Preprocessing
from tests.images.instruments import CHANNELS, CLASSES, FIVE, KINDS, TOP, grain, pillow_grey, write_kind

FLOAT = {"black": -30.0, "white": TOP / 17 - 30}


@pytest.mark.parametrize("name", KINDS)
def test_every_kind_is_told_and_read_to_the_last_bit(name: str, tmp_path: Path) -> None:
    kind = KINDS[name]
    source = open_source(write_kind(tmp_path, name, 6), kind.reading)
    own = source.reading.pixel_format
    assert own.depth == kind.depth
    assert own.channels == kind.names
    items = [item for item in source.find() if isinstance(item, Found)]
    assert len(items) == 12
    for item in items:
        values = grain(CLASSES.index(item.label), int(item.file.stem), kind.channels)
        picture = source.picture(item.file, item.part, item.index)
        assert picture.pixels.dtype == own.dtype
        if own.depth == "8 bit":
            assert np.array_equal(picture.pixels, values >> 4)
            continue
        as_stored = values / np.float32(17) - 30 if own.depth == "floating point" else values
        wanted = (as_stored.astype(np.float64) - own.black) / (own.white - own.black)
        np.testing.assert_allclose(picture.pixels, wanted.clip(0, 1), atol=2e-6)
        assert picture.beyond == int(((as_stored < own.black) | (as_stored > own.white)).sum())
        np.testing.assert_allclose(own.stored(picture.pixels), as_stored.clip(own.black, own.white), atol=0.02)
    assert stored_values(items[0].file, kind.reading.pages or "first") is not None


def test_grey_of_sixteen_bits_is_what_another_reader_finds(tmp_path: Path) -> None:
    write_kind(tmp_path, "grey PNG", 1)
    for file in tmp_path.rglob("*.png"):
        assert np.array_equal(values_in(file)[:, :, 0], pillow_grey(file))
        assert kind_of_file(file) is not None


@pytest.mark.parametrize(
    ("scale", "values", "ends"),
    [
        ("", [0, 900, 1023], (0, 1023)),
        ("", [0, 900, 1024], (0, 4095)),
        ("", [-5, 0, 900], (-5, 900)),
        ("type", [0, 900, 1023], (0, 65_535)),
        ("range", [40, 900, 1023], (40, 1023)),
        ("", [0.25, 0.5, 0.9997], (0, 1)),
        ("", [0.25, 0.5, 300.5], (0.25, 300.5)),
        ("type", [0.25, 0.5, 0.75], (0, 1)),
    ],
)
def test_black_and_white_are_found_by_the_scale_that_is_asked_for(
    scale: str, values: list[float], ends: tuple[float, float]
) -> None:
    kind = np.float32 if any(value % 1 for value in values) else np.int16 if min(values) < 0 else np.uint16
    image = np.array(values, kind).reshape(1, -1, 1)
    assert Sampled.of([image] * 3).ends(scale) == pytest.approx(ends, rel=1e-6)


def test_percentiles_leave_one_in_a_thousand_beyond_and_that_is_counted(tmp_path: Path) -> None:
    for name in ("a", "b"):
        (tmp_path / "p" / name).mkdir(parents=True)
        for k in range(3):
            values = np.linspace(100, 1100, 64 * 64).reshape(64, 64).astype(np.uint16)
            values[0, 0] = 60_000
            tifffile.imwrite(tmp_path / "p" / name / f"{k}.tif", values, photometric="minisblack")
    made = finish(make_workspace(tmp_path / "work", tmp_path / "p", "", Reading(scale="percentiles")))
    own = pixel_format_of(made.workspace)
    assert 100 <= own.black < 103
    assert 1097 < own.white <= 1100
    beyond = [row.beyond for row in made.workspace.catalogue.images()]
    assert all(1 <= each < 20 for each in beyond)
    assert any(f"6 images have {sum(beyond)} values beyond" in text for text in made.findings)


def test_somebody_says_what_black_and_white_are(tmp_path: Path) -> None:
    root = write_kind(tmp_path / "deep", "grey PNG", 3)
    own = open_source(root, Reading(black=-1024, white=3071)).reading.pixel_format
    assert (own.depth, own.black, own.white, own.channels) == ("16 bit", -1024, 3071, GREY)
    floats = open_source(write_kind(tmp_path / "f", "floats", 3), Reading(white=0.5)).reading.pixel_format
    assert (floats.depth, floats.white) == ("floating point", 0.5)
    for name in ("a", "b"):
        (tmp_path / "plain" / name).mkdir(parents=True)
        for k in range(3):
            Image.new("L", (6, 6), 10 * k).save(tmp_path / "plain" / name / f"{k}.png")
    dark = np.full((6, 4, 4), 90, np.uint16)
    np.savez(tmp_path / "dark.npz", images=dark, labels=np.arange(6) % 2)
    for white, level in ((4095, 90 / 4095), (100, 229)):
        source = open_source(tmp_path / "dark.npz", Reading(white=white))
        assert source.picture(tmp_path / "dark.npz", "images", 0).pixels[0, 0, 0] == pytest.approx(level, rel=1e-5)
    with pytest.raises(BadValue, match="no scale of its own: most of its images have 8 bits"):
        open_source(tmp_path / "plain", Reading(black=20, white=200))


def test_one_image_at_fault_sets_no_scale() -> None:
    usual = [np.full((4, 4, 1), 900 + k, np.uint16) for k in range(5)]
    assert Sampled.of([*usual, np.full((4, 4, 1), 60_000, np.uint16)]).ends("") == (0, 1023)
    plain = [np.full((4, 4, 1), 90 + k, np.int32) for k in range(5)]
    assert Sampled.of([*plain, np.full((4, 4, 1), -9, np.int32)]).has_eight_bits
    assert Sampled.of([]).ends("range") == (0.0, 1.0)


def test_files_of_another_depth_or_other_channels_are_left_out_with_a_sentence(tmp_path: Path) -> None:
    root = write_kind(tmp_path / "p", "five channels", 6)
    Image.new("RGB", (32, 32)).save(root / "solid" / "plain.png")
    tifffile.imwrite(root / "solid" / "three.tif", np.zeros((8, 8, 3), np.uint16), photometric="rgb")
    (root / "solid" / "cut.tif").write_bytes((root / "solid" / "000.tif").read_bytes()[:300])
    made = finish(make_workspace(tmp_path / "work", root))
    reasons = {Path(file).name: why for file, why in made.workspace.catalogue.skipped()}
    assert reasons["plain.png"] == "its values are 8 bit, and those of the set 16 bit"
    assert reasons["three.tif"].startswith("it has 3 channels, and 5 are expected: channel 1, channel 2")
    assert reasons["cut.tif"] == "it is cut off or damaged"
    assert len(made.workspace.catalogue.images()) == 12


def test_print_colours_and_palettes_in_tiff_are_ordinary_pictures(tmp_path: Path) -> None:
    for name in ("a", "b"):
        (tmp_path / name).mkdir()
        for k, mode in enumerate(("CMYK", "P", "CMYK")):
            Image.new("RGB", (6, 6), (200, 10 * k, 30)).convert(mode).save(tmp_path / name / f"{k}.tif")
    source = open_source(tmp_path)
    assert source.reading.pixel_format.is_plain
    assert source.picture(tmp_path / "a" / "0.tif", "", -1).pixels.shape == (6, 6, 3)


def test_a_few_deep_files_among_ordinary_ones_become_ordinary(tmp_path: Path) -> None:
    for name in ("a", "b"):
        (tmp_path / name).mkdir()
        for k in range(4):
            Image.new("L", (6, 6), 10 * k).save(tmp_path / name / f"{k}.png")
    Image.fromarray(np.full((6, 6), 4000, np.uint16)).save(tmp_path / "a" / "deep.png")
    source = open_source(tmp_path)
    assert source.reading.pixel_format.is_plain
    assert source.picture(tmp_path / "a" / "deep.png", "", -1).pixels.max() == round(4000 / 4095 * 255)


def test_pages_are_one_image_or_many_as_is_asked(tmp_path: Path) -> None:
    root = write_kind(tmp_path, "pages", 3)
    file = root / "solid" / "000.tif"
    assert count_of_pages(file) == 4
    first = open_source(root).picture(file, "", -1)
    assert first.note.endswith("first of 4 frames")
    each = open_source(root, Reading(pages="images"))
    items = [item for item in each.find() if isinstance(item, Found)]
    assert len(items) == 2 * 3 * 4
    own = [item for item in items if item.file == file]
    assert [item.index for item in own] == [0, 1, 2, 3]
    for item in own:
        pixels = each.picture(item.file, item.part, item.index).pixels
        wanted = grain(1, 0, 4)[:, :, item.index] / np.float32(each.reading.white)
        np.testing.assert_allclose(pixels[:, :, 0], wanted, atol=1e-6)
    made = finish(make_workspace(tmp_path / "work", root, "", Reading(pages="images")))
    assert len(made.workspace.catalogue.images()) == 24


def test_grey_files_stand_among_those_in_colour_and_planes_may_come_first(tmp_path: Path) -> None:
    values = grain(0, 1, 1)
    tifffile.imwrite(tmp_path / "grey.tif", values[:, :, 0], photometric="minisblack")
    pixels = decode(tmp_path / "grey.tif", PixelFormat(depth="16 bit", white=TOP, channels=COLOURS)).pixels
    np.testing.assert_allclose(pixels, values.repeat(3, axis=2) / TOP, atol=1e-6)
    five = grain(0, 1)
    np.save(tmp_path / "first.npy", np.moveaxis(five, 2, 0))
    np.save(tmp_path / "last.npy", five)
    own = PixelFormat(depth="16 bit", white=TOP, channels=CHANNELS)
    assert np.array_equal(decode(tmp_path / "first.npy", own).pixels, decode(tmp_path / "last.npy", own).pixels)


@pytest.mark.parametrize("orientation", range(1, 9))
def test_a_deep_picture_stands_upright_as_an_ordinary_one_does(orientation: int, tmp_path: Path) -> None:
    values = np.arange(6 * 9).reshape(6, 9).astype(np.uint16)
    tifffile.imwrite(
        tmp_path / "t.tif", values * 1000, photometric="minisblack", extratags=[(274, 3, 1, orientation, 1)]
    )
    Image.fromarray(values.astype(np.uint8)).save(tmp_path / "p.png", exif=_exif(orientation))
    deep = decode(tmp_path / "t.tif", PixelFormat(depth="16 bit", white=53_000, channels=GREY)).pixels[:, :, 0]
    assert np.array_equal(np.rint(deep * 53), decode(tmp_path / "p.png").pixels[:, :, 0])


def _exif(orientation: int) -> Image.Exif:
    exif = Image.Exif()
    exif[0x0112] = orientation
    return exif


def test_opacity_of_deep_pictures_lies_on_white(tmp_path: Path) -> None:
    values = np.zeros((4, 4, 4), np.uint16)
    values[..., 0], values[:2, :, 3] = 65_535, 65_535
    tifffile.imwrite(tmp_path / "o.tif", values, photometric="rgb", extrasamples=["unassalpha"])
    own = PixelFormat(depth="16 bit", white=65_535, channels=COLOURS)
    pixels = decode(tmp_path / "o.tif", own).pixels
    assert pixels[0, 0].tolist() == [1, 0, 0]
    assert pixels[3, 3].tolist() == [1, 1, 1]


@pytest.mark.parametrize("mode", ["stretch", "letterbox", "centre crop", "none"])
@pytest.mark.parametrize("channels", [1, 2, 3, 5])
@given(data=st.data())
@settings(max_examples=12, deadline=None)
def test_every_channel_is_resized_as_a_picture_of_its_own(mode: str, channels: int, data: st.DataObject) -> None:
    height, width = data.draw(st.integers(1, 40)), data.draw(st.integers(1, 40))
    sides = (data.draw(st.integers(4, 28)), data.draw(st.integers(4, 33)))
    values = np.random.default_rng(3).random((height, width, channels)).astype(np.float32)
    names = tuple(f"c{k}" for k in range(channels))
    whole = resized(values, Preprocessing(input_size=sides, resize_mode=mode, channel_names=names), names)
    assert whole.shape == (*sides, channels)
    assert whole.dtype == np.float32
    assert whole.min() >= values.min() - 1e-6
    assert whole.max() <= values.max() + 1e-6
    for k, name in enumerate(names):
        alone = resized(values, Preprocessing(input_size=sides, resize_mode=mode, channel_names=(name,)), names)
        assert np.array_equal(alone[:, :, 0], whole[:, :, k])
    plain = resized(eight_bits(values[:, :, :1].repeat(3, axis=2)), Preprocessing(input_size=sides, resize_mode=mode))
    np.testing.assert_allclose(plain[:, :, 0] / 255, whole[:, :, 0], atol=2.01 / 255)


def test_channels_are_chosen_by_name_and_colours_made_grey() -> None:
    values = np.random.default_rng(1).random((8, 8, 5)).astype(np.float32)
    wanted = Preprocessing(input_size=8, channel_names=("infrared", "blue"))
    assert np.array_equal(resized(values, wanted, CHANNELS), values[:, :, [4, 0]])
    with pytest.raises(BadValue, match="no channel «thermal»: the images' channels are blue, green"):
        resized(values, Preprocessing(input_size=8, channel_names=("thermal",)), CHANNELS)
    with pytest.raises(BadValue, match="no colours: the images have 5 channels"):
        resized(values, Preprocessing(input_size=8), CHANNELS)
    grey = resized(values[:, :, :3], Preprocessing(input_size=8, colour_space="grey"), COLOURS)
    np.testing.assert_allclose(grey[:, :, 0], values[:, :, :3] @ np.array([0.299, 0.587, 0.114]), atol=1e-6)
    three = resized(values[:, :, :1], Preprocessing(input_size=8), GREY)
    assert np.array_equal(three, values[:, :, :1].repeat(3, axis=2))


def test_prepared_values_keep_their_depth_in_the_cache_and_their_statistics_by_channel(tmp_path: Path) -> None:
    made = finish(
        make_workspace(tmp_path / "work", write_kind(tmp_path / "p", "five channels", 8), "", Reading(channels=FIVE))
    )
    plan = usual_plan(made.workspace)
    assert plan.preprocessing.channel_names == CHANNELS
    data = finish(gather(made.workspace, plan))
    assert isinstance(data.pixels, Rows)
    assert data.pixels.dtype == np.float32
    raw = np.stack([grain(data.labels[k], k % 8) for k in range(16)]) / np.float32(TOP)
    np.testing.assert_allclose(data.pixels[:], raw, atol=1e-6)
    assert np.array_equal(data.pixels[3], data.pixels[np.array([3, 4])][0])
    measured = Preprocessor.measured(data.pixels[:], plan.preprocessing)
    np.testing.assert_allclose(measured.mean, raw.mean(axis=(0, 1, 2)), rtol=1e-4)
    np.testing.assert_allclose(measured.std, raw.std(axis=(0, 1, 2)), rtol=1e-4)
    prepared = measured.apply(data.pixels[:])
    np.testing.assert_allclose(prepared.mean(axis=(0, 1, 2)), 0, atol=1e-4)
    fewer = plan.changed({"preprocessing.channel_names": ["infrared"]})
    np.testing.assert_allclose(finish(gather(made.workspace, fewer)).pixels[:], raw[..., 4:], atol=1e-6)
    another = plan.changed({"preprocessing.channel_names": ["blue"]})
    np.testing.assert_allclose(finish(gather(made.workspace, another)).pixels[:], raw[..., :1], atol=1e-6)
    seen = looked_at(made.workspace.catalogue.images(), made.workspace)
    assert (seen.channel_names, seen.sides) == (CHANNELS, (64, 64))


def test_a_cut_cache_of_deep_images_gives_mid_grey_where_that_is_wanted(tmp_path: Path) -> None:
    file = tmp_path / "r.npy"
    np.save(file, np.ones((4, 3, 3, 2), np.float32))
    rows = Rows(file, missing=128)
    file.write_bytes(file.read_bytes()[:-80])
    cut = rows[3]
    assert cut.flat[0] == pytest.approx(level_of(128, np.dtype(np.float32)))
    assert np.array_equal(rows[0], np.ones((3, 3, 2)))
    assert rows[2].reshape(-1).tolist() == [1.0] * 16 + [pytest.approx(128 / 255)] * 2, "what is there still is kept"


def test_arrays_of_many_channels_and_bits_are_read_by_their_axes(tmp_path: Path) -> None:
    images = np.stack([grain(k % 2, k) for k in range(6)])
    np.savez(tmp_path / "last.npz", images=images, labels=np.arange(6) % 2)
    np.savez(tmp_path / "first.npz", images=np.moveaxis(images, 3, 1), labels=np.arange(6) % 2)
    for file, layout in (("last.npz", "NHWC"), ("first.npz", "NCHW")):
        source = open_source(tmp_path / file)
        assert (source.reading.layout, source.reading.depth, source.reading.white) == (layout, "16 bit", TOP)
        np.testing.assert_allclose(source.picture(tmp_path / file, "images", 2).pixels, images[2] / TOP, atol=1e-6)
    np.savez(tmp_path / "four.npz", images=images[..., :4].astype(np.uint8), labels=np.arange(6) % 2)
    assert open_source(tmp_path / "four.npz").reading.pixel_format.is_plain, "a fourth of 8 bits is opacity"
    four = open_source(tmp_path / "four.npz", Reading(channels="a, b, c, d"))
    assert four.picture(tmp_path / "four.npz", "images", 0).pixels.shape == (32, 32, 4)
    single = of_array(images[0], PixelFormat(depth="16 bit", white=TOP, channels=CHANNELS))
    np.testing.assert_allclose(single, images[0] / TOP, atol=1e-6)
    with pytest.raises(BadValue, match="3 channels, and 5 are expected"):
        of_array(images[0][..., :3], PixelFormat(depth="16 bit", white=TOP, channels=CHANNELS))


@pytest.mark.parametrize(
    ("own", "why"),
    [
        ({"depth": "16 bit", "channels": GREY}, "no scale"),
        ({"depth": "16 bit", "white": 9.0}, "no channels"),
        ({"white": -1.0}, "white -1"),
        ({"white": 0.5}, "white 0.5"),
        ({"depth": "16 bit", "white": float("nan"), "channels": GREY}, "not a number"),
        ({"channels": ("a", "a")}, "two of one name"),
        ({"channels": tuple(map(str, range(17)))}, "17 channels"),
    ],
)
def test_what_is_no_pixel_format_is_refused(own: dict[str, object], why: str) -> None:
    with pytest.raises(BadValue, match=why):
        PixelFormat(**own)  # type: ignore[arg-type]


def test_a_pixel_format_is_kept_in_a_table_and_read_again() -> None:
    for own in (PICTURE, PixelFormat(white=4095), PixelFormat(depth="32 bit", black=-9, white=9, channels=CHANNELS)):
        assert PixelFormat.from_table(own.to_table()) == own
    assert PixelFormat(white=4095).to_table() == {"white": 4095}
    with pytest.raises(BadValue):
        PixelFormat.from_table({"pixel_format": 3})


@pytest.mark.parametrize("name", KINDS)
def test_bytes_changed_by_lot_are_refused_or_read_and_never_a_fault(name: str, tmp_path: Path) -> None:
    kind, random = KINDS[name], np.random.default_rng(4)
    kind.write(tmp_path / "one", grain(0, 1, kind.channels))
    (file,) = tmp_path.iterdir()
    whole = np.frombuffer(file.read_bytes(), np.uint8)
    scale = {} if kind.depth == "8 bit" else {"white": 4095.0}
    own = PixelFormat(depth=kind.depth, channels=kind.names, pages=kind.reading.pages or "first", **scale)  # type: ignore[arg-type]
    refused = 0
    for _ in range(60):
        changed = whole.copy()
        changed[random.integers(0, random.choice([40, 400, len(whole)]), 4)] = random.integers(0, 256, 4)
        file.write_bytes(
            changed.tobytes()[: len(changed) if random.random() < 0.8 else random.integers(1, len(changed))]
        )
        for pixel_format in (own, PICTURE):
            try:
                decode(file, pixel_format)
            except BadFile:
                refused += 1
        kind_of_file(file)
        stored_values(file)
    assert refused > 20


def test_damaged_or_strange_files_are_refused_in_a_sentence(tmp_path: Path) -> None:
    deep = PixelFormat(depth="16 bit", white=9, channels=GREY)
    np.save(tmp_path / "text.npy", np.array(["a"]))
    np.save(tmp_path / "wide.npy", np.zeros((40, 40, 40), np.uint16))
    np.save(tmp_path / "none.npy", np.zeros((0, 4), np.uint16))
    np.save(tmp_path / "objects.npy", np.array([{}], object), allow_pickle=True)
    (tmp_path / "head.tif").write_bytes(b"II*\0\xff\xff\xff\xff")
    (tmp_path / "head.png").write_bytes(b"\x89PNG\r\n\x1a\n\0\0\0\rIHDR\0\0\0\4\0\0\0\4\x10\2\0\0\0")
    np.save(tmp_path / "nan.npy", np.full((4, 4), np.nan, np.float32))
    for file, why in {
        "text.npy": "numbers are needed",
        "wide.npy": "16 channels are the most",
        "none.npy": "it is empty",
        "objects.npy": "cut off or damaged",
        "head.tif": "cut off or damaged",
        "head.png": "cut off or damaged",
    }.items():
        with pytest.raises(BadFile, match=why):
            decode(tmp_path / file, deep)
        assert kind_of_file(tmp_path / file) is None or file in ("head.png", "none.npy")
    with pytest.raises(BadFile, match="not numbers"):
        decode(tmp_path / "nan.npy", PixelFormat(depth="floating point", white=9, channels=GREY))
