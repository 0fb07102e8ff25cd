"""What is drawn after the epochs is kept, and read whatever became of its files."""

from __future__ import annotations

from pathlib import Path

import numpy as np
from hypothesis import given
from hypothesis import strategies as st

from attentive_lens.core.jobs import finish
from attentive_lens.desk.training.executing import execute
from attentive_lens.plan.plan import Plan
from attentive_lens.training.film import FRAMES, SHOWN, Frame, frames, is_due, read_frame
from attentive_lens.workspace import Workspace


def drawn(station: Workspace, name: str, stop_after: int = 10_000) -> tuple[Path, Plan]:
    plan = Plan().changed({"network": name, "preprocessing.input_size": 16, "training.epochs": 3})
    steps = iter([False] * stop_after + [True] * 10_000)
    run = finish(execute(station, station.claim_run(plan), lambda: next(steps))).run
    return run.film, plan


@given(st.integers(1, 5000))
def test_a_film_has_the_first_and_the_last_epoch_and_not_too_many(epochs: int) -> None:
    due = [epoch for epoch in range(1, epochs + 1) if is_due(epoch, epochs)]
    assert due[0] == 1
    assert due[-1] == epochs
    assert len(due) <= 2 * FRAMES
    assert len(due) >= min(epochs, FRAMES // 2)


def test_frames_show_the_same_images_and_codes_and_change_with_the_network(station: Workspace) -> None:
    folder, _ = drawn(station, "variational, two codes")
    assert frames(folder, 3) == [1, 2, 3]
    assert frames(folder, 2) == [1, 2]
    first, last = read_frame(folder, 1), read_frame(folder, 3)
    assert first is not None
    assert last is not None
    assert first.images.shape == first.again.shape == (SHOWN, 16, 16, 3)
    assert len(first.samples) == SHOWN
    assert np.array_equal(first.images, last.images)
    assert not np.array_equal(first.again, last.again)
    assert not np.array_equal(first.samples, last.samples)
    again, _ = drawn(station, "variational, two codes")
    same = read_frame(again, 3)
    assert same is not None
    assert np.array_equal(same.samples, last.samples)
    assert np.abs(last.again.astype(int) - last.images).mean() < np.abs(first.again.astype(int) - last.images).mean()


def test_without_a_distribution_no_codes_are_random_and_answers_have_no_film(station: Workspace) -> None:
    folder, _ = drawn(station, "auto-encoder")
    frame = read_frame(folder, 1)
    assert frame is not None
    assert not len(frame.samples)
    classifier, _ = drawn(station, "two blocks")
    assert frames(classifier, 3) == []


def test_damaged_frames_are_none_and_a_folder_that_cannot_be_written_stops_nobody(tmp_path: Path) -> None:
    images = np.zeros((2, 4, 4, 3), np.uint8)
    frame = Frame(7, images, images, images[:0])
    frame.write(tmp_path / "film")
    assert frames(tmp_path / "film", 10) == [7]
    (file,) = (tmp_path / "film").iterdir()
    file.write_bytes(file.read_bytes()[:50])
    assert read_frame(tmp_path / "film", 7) is None
    assert read_frame(tmp_path / "film", 8) is None
    (tmp_path / "film" / "notes.npz").touch()
    assert frames(tmp_path / "film", 10) == [7]
    (tmp_path / "taken").touch()
    frame.write(tmp_path / "taken")
