"""Images in a file, against the same in memory; cut, changed and foreign files."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st
from PIL import Image

from attentive_lens.core.jobs import finish
from attentive_lens.errors import BadFile
from attentive_lens.images.preprocessing import Preprocessor
from attentive_lens.images.rows import Chosen, Rows, is_whole, seal
from attentive_lens.images.sources import Reference
from attentive_lens.images.sources.folders import Folders
from attentive_lens.images.store import prepared
from attentive_lens.plan.preprocessing import Preprocessing

COUNT = 11
IMAGES = np.random.default_rng(0).integers(0, 256, (COUNT, 5, 4, 3)).astype(np.uint8)


@pytest.fixture(scope="module")
def rows(tmp_path_factory: pytest.TempPathFactory) -> Rows:
    file = tmp_path_factory.mktemp("rows") / "images.npy"
    np.save(file, IMAGES)
    return Rows(file)


places = st.one_of(
    st.integers(-COUNT, COUNT - 1),
    st.slices(COUNT),
    st.lists(st.integers(-COUNT, COUNT - 1), max_size=20).map(lambda n: np.array(n, np.int64)),
    st.lists(st.booleans(), min_size=COUNT, max_size=COUNT).map(np.array),
)


@given(places)
def test_indexed_like_an_array(rows: Rows, place: object) -> None:
    assert np.array_equal(rows[place], IMAGES[place])  # type: ignore[index]


def test_it_is_an_array_where_one_is_needed(rows: Rows) -> None:
    assert (rows.shape, len(rows), rows.dtype, rows.ndim) == (IMAGES.shape, COUNT, np.uint8, 4)
    assert np.array_equal(np.asarray(rows), IMAGES)
    for wrong in (COUNT, -COUNT - 1):
        with pytest.raises(IndexError):
            rows[wrong]
        with pytest.raises(IndexError):
            rows[np.array([wrong])]


def test_chosen_images_are_read_a_few_at_a_time(rows: Rows, monkeypatch: pytest.MonkeyPatch) -> None:
    places = np.array([7, 2, 9, 2])
    chosen = Chosen(rows, places)
    assert len(chosen) == 4
    assert np.array_equal(chosen[1:3], IMAGES[places[1:3]])
    most: list[int] = []
    read = Rows.__getitem__
    monkeypatch.setattr(Rows, "__getitem__", lambda self, at: (most.append(len(at)), read(self, at))[1])
    monkeypatch.setattr("attentive_lens.images.preprocessing.AT_ONCE", 3)
    whole = np.random.default_rng(1).integers(0, 256, (10, 8, 8, 3)).astype(np.uint8)
    file = rows.file.with_name("square.npy")
    np.save(file, whole)
    of_file = Preprocessor.measured(Chosen(Rows(file), np.arange(1, 9)), Preprocessing(input_size=8))
    assert max(most) == 3
    of_memory = Preprocessor.measured(whole[1:9], Preprocessing(input_size=8))
    assert of_file == of_memory


def test_a_file_cut_while_in_use_is_a_sentence_or_grey(tmp_path: Path) -> None:
    file = tmp_path / "images.npy"
    np.save(file, IMAGES)
    rows, patient = Rows(file), Rows(file, missing=128)
    with file.open("r+b") as stream:
        stream.truncate(file.stat().st_size - 70)
    assert np.array_equal(rows[:9], IMAGES[:9])
    with pytest.raises(BadFile, match="cut off while it was used"):
        rows[np.array([0, 10])]
    assert (patient[10] == 128).sum() >= 60
    with pytest.raises(BadFile, match="cut off"):
        Rows(file)


@pytest.mark.parametrize("content", [b"", b"not an array", b"\x93NUMPY\x01\x00"])
def test_what_is_no_file_of_images_is_said(content: bytes, tmp_path: Path) -> None:
    (tmp_path / "x.npy").write_bytes(content)
    with pytest.raises(BadFile, match="no file of images"):
        Rows(tmp_path / "x.npy")
    np.save(tmp_path / "y.npy", np.zeros((3, 4)))
    with pytest.raises(BadFile, match="holds no images"):
        Rows(tmp_path / "y.npy")


def test_a_cache_that_was_changed_is_made_anew_before_anybody_trains_on_it(tmp_path: Path) -> None:
    (tmp_path / "images").mkdir()
    files = [tmp_path / "images" / f"{k}.png" for k in range(3)]
    for k, file in enumerate(files):
        Image.new("RGB", (40, 40), (10 * k, 0, 0)).save(file)
    cache = tmp_path / "cache"
    cache.mkdir()
    source = Folders(tmp_path / "images")
    references = [Reference(source, str(file), "", -1) for file in files]
    whole = np.asarray(finish(prepared(references, Preprocessing(input_size=40), cache)))
    (stored,) = cache.glob("*.npy")
    for harm in (
        lambda: stored.write_bytes(stored.read_bytes()[:-9]),
        lambda: stored.write_bytes(stored.read_bytes()[:-4000] + bytes(4000)),
        lambda: stored.write_bytes(stored.read_bytes()[:200] + b"\xff" * 5000 + stored.read_bytes()[5200:]),
        lambda: stored.with_suffix(".json").unlink(),
        lambda: stored.with_suffix(".json").write_text("{"),
    ):
        harm()
        assert not is_whole(stored)
        assert np.array_equal(finish(prepared(references, Preprocessing(input_size=40), cache)), whole)
        assert is_whole(stored)
    seal(stored)
    assert is_whole(stored)
