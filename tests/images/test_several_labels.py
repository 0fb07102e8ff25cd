"""Several labels of an image, as tables have them: in one cell, or in columns of 0 and 1; and batches of them."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import pytest

from attentive_lens.core.jobs import finish
from attentive_lens.desk.making import make_workspace
from attentive_lens.errors import BadFile
from attentive_lens.images.feeding import Feed
from attentive_lens.images.preprocessing import Preprocessor
from attentive_lens.images.reading import Reading
from attentive_lens.images.sources import Found, kind_of, open_source
from attentive_lens.plan.augmentation import Blend
from attentive_lens.plan.preprocessing import Preprocessing
from attentive_lens.workspace.importing import create
from tests.images.test_listing import folder, summary

NAMES = ("a.png", "b.png", "c.png", "d.png")
CELLS = "file,types,set\na.png,dark; spiny,train\nb.png,spiny;spiny ; dark,test\nc.png,,train\nd.png,spiny,train\n"
COLUMNS = "file,dark,spiny,round\na.png,1,0,1\nb.png,0,0,0\nc.png,1,,x\nd.png,2,0,1\n"


def classes_of(root: Path, into: Path, reading: Reading) -> tuple[list[str], list[int], list[tuple[str, str]]]:
    workspace = finish(create(into, kind_of(root), open_source(root, reading)))
    rows = workspace.catalogue.images()
    return workspace.catalogue.classes(), [row.label for row in rows], workspace.catalogue.skipped()


def test_a_cell_with_several_is_one_set_whatever_their_order(tmp_path: Path) -> None:
    root = folder(tmp_path / "in", CELLS, *NAMES)
    classes, labels, skipped = classes_of(root, tmp_path / "w", Reading(separator=";"))
    assert [classes[label] for label in labels] == ["dark; spiny", "dark; spiny", "no label", "spiny"]
    assert not skipped
    plain, of_plain, lost = classes_of(root, tmp_path / "p", Reading())
    assert [plain[label] for label in of_plain] == ["dark; spiny", "spiny;spiny ; dark", "spiny"]
    assert [why for _, why in lost] == ["line 4 gives it no label"]


def test_columns_of_truths_are_a_label_each(tmp_path: Path) -> None:
    root = folder(tmp_path / "in", COLUMNS, *NAMES)
    source = open_source(root, Reading(labels="dark, spiny, round"))
    assert source.reading.several_labels
    classes, labels, skipped = classes_of(root, tmp_path / "w", Reading(labels="dark, spiny, round"))
    assert [classes[label] for label in labels] == ["dark; round", "no label", "dark; round"]
    assert [why for _, why in skipped] == ["line 5: «2» in column dark is neither 0 nor 1"]
    with pytest.raises(BadFile, match="has no labels"):
        open_source(root, Reading(labels="dark, plain"))


def test_columns_of_truths_alone_are_recognised_however_many(tmp_path: Path) -> None:
    names = [f"kind{k}" for k in range(120)]
    lines = [",".join(("image", *names))]
    for k, name in enumerate(NAMES):
        lines.append(",".join((name, *("1" if (k + n) % 7 == 0 else "0" for n in range(120)))))
    root = folder(tmp_path / "in", "\n".join(lines) + "\n", *NAMES)
    items, _ = summary(root)
    assert len(items) == 4
    assert set(items[0][1].split(";")) == {names[n] for n in range(0, 120, 7)}


def test_a_table_whose_columns_are_gone_says_so(tmp_path: Path) -> None:
    root = folder(tmp_path, COLUMNS, *NAMES)
    source = open_source(root, Reading(labels="dark, spiny"))
    (root / "list.csv").write_text("file,dark\na.png,1\nb.png,0\n")
    with pytest.raises(BadFile, match="no column"):
        list(source.find())


def test_a_batch_wants_the_labels_of_its_sets_and_blends_them() -> None:
    random = np.random.default_rng(3)
    pixels = random.integers(0, 256, (12, 8, 8, 3), np.uint8)
    sets, targets = np.arange(12) % 3, np.array([[1, 1, 0, 0], [0, 0, 0, 0], [0, 1, 0, 1]], np.float32)
    preprocessor = Preprocessor.measured(pixels, Preprocessing(input_size=8))
    args = (pixels, sets, np.arange(12))
    plain = Feed(*args, (), preprocessor, 1, 12, 4, targets=targets).batch(0, 0, np.arange(12))
    assert np.array_equal(plain.targets, targets[sets])
    exclusive = Feed(*args, (), preprocessor, 1, 12, 3).batch(0, 0, np.arange(12))
    assert np.array_equal(exclusive.targets, np.eye(3)[sets])
    blended = Feed(*args, (Blend(probability=1.0),), preprocessor, 1, 12, 4, targets=targets)
    mixed = blended.batch(0, 0, np.arange(12)).targets
    shares = Feed(*args, (Blend(probability=1.0),), preprocessor, 1, 12, 3).batch(0, 0, np.arange(12)).targets
    assert mixed == pytest.approx(shares @ targets, abs=1e-6), "the parts of the sets, and their labels"
    assert (mixed > 0).any(axis=1).sum() > (plain.targets > 0).any(axis=1).sum()


def test_an_array_of_truths_is_a_label_a_column(tmp_path: Path) -> None:
    random = np.random.default_rng(2)
    images, truths = random.integers(0, 256, (9, 12, 14, 3), np.uint8), random.random((9, 4)) < 0.4
    truths[0] = False
    np.savez(tmp_path / "several.npz", images=images, labels=truths, class_names=np.array(["a", "b", "c", "d"]))
    source = open_source(tmp_path / "several.npz")
    assert source.reading.several_labels
    items = [source.reading.label(item.label) for item in source.find() if isinstance(item, Found)]
    assert items == ["; ".join(np.array(["a", "b", "c", "d"])[row]) or "no label" for row in truths]
    np.savez(tmp_path / "one.npz", images=images, labels=np.eye(4, dtype=np.uint8)[np.arange(9) % 4])
    one = open_source(tmp_path / "one.npz")
    assert not one.reading.several_labels
    assert [item.label for item in one.find() if isinstance(item, Found)] == [str(k % 4) for k in range(9)]


def test_who_reads_sets_of_labels_as_classes_is_told(tmp_path: Path) -> None:
    root = folder(tmp_path / "in", CELLS.replace(",,", ",dark;round,"), *NAMES)
    made = finish(make_workspace(tmp_path / "classes", root))
    assert any("separator=;" in words for words in made.findings)
    made = finish(make_workspace(tmp_path / "labels", root, "", Reading(separator=";")))
    assert not any("separator=" in words for words in made.findings)
    assert any("each by itself" in words for words in made.findings)
