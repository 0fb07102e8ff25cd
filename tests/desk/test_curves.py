"""What is said of a run's curves is said where it is so, and not elsewhere."""

from __future__ import annotations

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st
from scipy.stats import binomtest

from attentive_lens.desk.cautions import PERFECT, caution_of_names, classes_by_folder
from attentive_lens.desk.collection import Collection
from attentive_lens.desk.curves import interval, over_fits_since, said_by_curves, still_falls
from attentive_lens.desk.runs import RunReader, RunView
from attentive_lens.training.figures import Figures
from attentive_lens.training.journal import EpochEvent
from attentive_lens.workspace import ImageRow, Run, Workspace


def epochs(
    validation: list[float], training: list[float], right: float = 0.9, held_out: float = 0.9
) -> list[EpochEvent]:
    return [
        EpochEvent(k + 1, Figures(right, t), Figures(held_out, v), v == min(validation[: k + 1]))
        for k, (v, t) in enumerate(zip(validation, training, strict=True))
    ]


FALLING = [1.0 * 0.9**k for k in range(20)]
FLAT = [0.3 + 0.001 * (k % 3) for k in range(20)]


def view(of: list[EpochEvent], state: str = "done") -> RunView:
    return RunView(1, "two blocks", state, of, [], len(of), "", 0.0, "cross-entropy")


class Noted:
    """A run that noted so many validation images of each of two classes."""

    def __init__(self, held_out: int, rarest: int = 100) -> None:
        self.counts = (held_out - min(rarest, held_out // 2), min(rarest, held_out // 2))

    def images(self) -> tuple[np.ndarray, list[str]]:
        labels = [0] * (self.counts[0] + 50) + [1] * (self.counts[1] + 50)
        sets = ["validation"] * self.counts[0] + ["training"] * 50 + ["validation"] * self.counts[1] + ["training"] * 50
        return np.array(labels), sets


def said(of: list[EpochEvent], state: str = "done", held_out: int = 4000, rarest: int = 100) -> str:
    run: Run = Noted(held_out, rarest)  # type: ignore[assignment]
    return "\n".join(said_by_curves(run, view(of, state)))


def test_over_fitting_is_named_with_the_epoch_since_when() -> None:
    validation = [1 - 0.05 * k for k in range(10)] + [0.55 + 0.03 * k for k in range(10)]
    training = [1 - 0.045 * k for k in range(20)]
    since = over_fits_since(epochs(validation, training))
    assert since is not None
    assert 10 <= since <= 12
    assert said(epochs(validation, training)).startswith(f"Over-fitting since epoch {since}:")
    assert over_fits_since(epochs(validation, [1.0 + 0.01 * k for k in range(20)])) is None, "training rises as well"
    assert over_fits_since(epochs(FALLING, FALLING)) is None
    assert over_fits_since(epochs(FLAT, FALLING)) is None


def test_an_end_that_came_while_the_loss_fell_is_told_and_no_other() -> None:
    assert still_falls(epochs(FALLING, FALLING))
    assert "still fell when the 20 epochs were over" in said(epochs(FALLING, FALLING))
    assert "still fell" not in said(epochs(FALLING, FALLING), state="stopped")
    assert not still_falls(epochs(FLAT, FALLING))
    assert said(epochs(FLAT, FLAT)) == ""
    assert said(epochs(FALLING[:5], FALLING[:5])) == "", "too few epochs to say anything"


def test_under_fitting_is_told_by_the_training_images_themselves() -> None:
    assert "no more than 50% of the training images" in said(epochs(FLAT, FLAT, 0.5, 0.52))
    assert "Under-fitting" not in said(epochs(FLAT, FLAT, 0.5, 0.3)), "what it learned it does not know again"
    assert "Under-fitting" not in said(epochs(FLAT, FLAT, 0.5, 0.52), state="training")


def test_too_few_validation_images_are_told_with_the_interval() -> None:
    told = said(epochs(FLAT, FLAT), held_out=40, rarest=2)
    assert "chosen by 40 validation images, 2 of the smallest class: their 90.0% may stand for 76.9% to 96.0%" in told
    assert "1 of the smallest class" in said(epochs(FLAT, FLAT), rarest=1)
    assert "none at all of the smallest class" in said(epochs(FLAT, FLAT), rarest=0)
    assert said(epochs(FLAT, FLAT), held_out=40, state="training") == ""


@given(st.integers(1, 400), st.data())
def test_the_interval_is_wilson_s(images: int, data: st.DataObject) -> None:
    right = data.draw(st.integers(0, images))
    expected = binomtest(right, images).proportion_ci(0.95, "wilson")
    assert interval(right / images, images) == pytest.approx((expected.low, expected.high), abs=1e-4)


def test_a_trained_run_is_spoken_of(station: Workspace) -> None:
    sentences = said_by_curves(station.run(1), RunReader(station.run(1)).view())
    assert any("The best epoch is chosen by" in sentence for sentence in sentences)


def row(number: int, file: str, label: int) -> ImageRow:
    return ImageRow(number, file, label, None, 64, 64, "RGB", 1000)


def collection_of(files: list[tuple[str, int, str]]) -> Collection:
    rows = [row(k + 1, file, label) for k, (file, label, _) in enumerate(files)]
    return Collection(["spiny", "netted", "winged"], rows, [name for _, _, name in files], [])


def test_perfect_answers_on_tiles_of_known_pictures_are_doubted() -> None:
    sets = ["validation" if k % 5 == 0 else "training" for k in range(120)]
    shared = [(f"slide{k // 10:02d}_{k % 10}.png", k // 10 % 3, sets[k]) for k in range(120)]
    assert "24 of 24 share their name" in caution_of_names(collection_of(shared), 0.99)
    assert caution_of_names(collection_of(shared), PERFECT - 0.01) == ""
    apart = [(file, label, "validation" if k < 30 else "training") for k, (file, label, _) in enumerate(shared)]
    assert caution_of_names(collection_of(apart), 0.99) == ""
    single = [(f"grain {k}.png", k % 3, "validation" if k % 5 == 0 else "training") for k in range(120)]
    assert caution_of_names(collection_of(single), 0.99) == ""


def test_classes_of_one_folder_are_told_where_folders_part_the_classes() -> None:
    def files(places: dict[int, list[str]]) -> Collection:
        return collection_of(
            [(f"{place}/{k}.png", n, "training") for n, where in places.items() for place in where for k in range(4)]
        )

    told = classes_by_folder(files({0: ["bench 1"], 1: ["bench 1", "bench 2"], 2: ["bench 2", "bench 3"]}))
    assert told == [
        "«spiny» stands in one folder only, of 3: a network may learn the folder, its camera or its day, in place of"
        " the class."
    ]
    assert classes_by_folder(files({0: ["spiny"], 1: ["netted"], 2: ["winged"]})) == []
    assert classes_by_folder(files({0: ["a"], 1: ["b"], 2: ["c"]})) == [], "folders of classes under other names"
    both = ["bench 1", "bench 2"]
    assert classes_by_folder(files({0: both, 1: both, 2: both})) == []
    assert classes_by_folder(files({0: ["train/spiny"], 1: ["val/netted"]})) == []
