"""Images of the last batch are those that were learned from, with what was said of them; nothing depends on them."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import pytest

from attentive_lens.core.jobs import finish
from attentive_lens.desk.training.controlling import RunControl
from attentive_lens.desk.training.executing import execute
from attentive_lens.desk.training.runs import RunReader
from attentive_lens.images.feeding import Feed
from attentive_lens.images.preprocessing import Preprocessor
from attentive_lens.plan.augmentation import STEPS
from attentive_lens.plan.plan import Plan
from attentive_lens.training import loop
from attentive_lens.training.last_batch import LastBatch, read_last_batch
from attentive_lens.workspace import Workspace


def some(count: int = 3) -> LastBatch:
    rng = np.random.default_rng(0)
    numbers = [rng.integers(0, 5, count) for _ in range(3)]
    return LastBatch(2, 17, rng.integers(0, 256, (count, 8, 8, 3)).astype(np.uint8), *numbers)


def test_a_batch_comes_back_as_it_was_written_and_a_damaged_one_does_not(tmp_path: Path) -> None:
    file = tmp_path / "last-batch.npz"
    assert read_last_batch(file) is None
    written = some()
    written.write(file)
    read = read_last_batch(file)
    assert read is not None
    assert (read.epoch, read.step) == (2, 17)
    for name in ("images", "predicted", "wanted", "numbers"):
        assert np.array_equal(getattr(read, name), getattr(written, name)), name
    whole = file.read_bytes()
    for cut in (0, 10, len(whole) // 2, len(whole) - 30):
        file.write_bytes(whole[:cut])
        assert read_last_batch(file) is None, cut
    rows = {"predicted": np.zeros(2), "wanted": np.zeros(3), "numbers": np.zeros(3)}
    np.savez(file, at=np.array([1, 2]), images=np.zeros((3, 4, 4, 3), np.uint8), **rows)
    assert read_last_batch(file) is None
    some().write(tmp_path / "nowhere" / "last-batch.npz")
    assert [each.name for each in tmp_path.iterdir()] == ["last-batch.npz"]


@pytest.mark.parametrize("kinds", [(), ("flip", "rotate", "brightness"), ("rotate", "blend")])
def test_pictures_are_the_batch_before_its_levels(kinds: tuple[str, ...]) -> None:
    pixels = np.random.default_rng(1).integers(0, 256, (20, 8, 8, 3)).astype(np.uint8)
    preprocessor = Preprocessor.measured(pixels, Plan().preprocessing)
    steps = tuple(STEPS[kind]() for kind in kinds)
    feed = Feed(pixels, np.arange(20) % 4, np.arange(1, 20), steps, preprocessor, 3, 6, 4)
    for number, batch in enumerate(feed.batches_of(2)):
        images, rows = feed.pictures(2, number, 4)
        assert len(images) == len(rows) == min(4, batch.count)
        assert np.abs(preprocessor.apply(images) - batch.images[:4]).max() < 0.51 / 255 / min(preprocessor.std)
        if "blend" not in kinds:
            assert np.array_equal(batch.targets[:4].argmax(axis=1), feed.labels[rows])


def test_a_run_shows_what_it_learned_from_and_comes_to_the_same_bits(
    station: Workspace, monkeypatch: pytest.MonkeyPatch
) -> None:
    plan = station.run(1).plan()
    shown: list[LastBatch] = []
    show = RunControl.show

    def noted(self: RunControl, batch: LastBatch) -> None:
        shown.append(batch)
        show(self, batch)

    monkeypatch.setattr(RunControl, "show", noted)
    monkeypatch.setattr(loop, "SECONDS", 0.0)
    often = finish(execute(station, station.claim_run(plan), lambda: False))
    steps = len(shown)
    monkeypatch.setattr(loop, "SECONDS", 1e9)
    once = finish(execute(station, station.claim_run(plan), lambda: False))
    assert often.weights_sha256 == once.weights_sha256
    assert [batch.step for batch in shown[:3]] == [1, 2, 3]
    last = read_last_batch(station.run(2).last_batch)
    assert last is not None
    assert (last.epoch, last.step) == (plan.training.epochs, steps)
    noted_images = station.run(2).images()
    assert noted_images is not None
    labels, sets = noted_images
    for batch in shown:
        assert np.array_equal(labels[batch.numbers - 1], batch.wanted)
        assert all(sets[number - 1] == "training" for number in batch.numbers)
    first = [batch for batch in shown[:steps] if batch.epoch == 1]
    right = sum(int((batch.predicted == batch.wanted).sum()) for batch in first)
    result = RunReader(station.run(2)).view().epochs[0].training
    assert result.accuracy == pytest.approx(right / sum(len(batch.images) for batch in first))
    assert len(shown) == steps + 1
