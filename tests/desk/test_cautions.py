"""Names of files and folders that tell the class are doubted where they do, and not elsewhere."""

from __future__ import annotations

from attentive_lens.desk.images.collection import Collection
from attentive_lens.desk.training.cautions import (
    PERFECT,
    caution_of_names,
    caution_of_scale,
    classes_by_folder,
)
from attentive_lens.plan.preprocessing import Preprocessing
from attentive_lens.workspace import ImageRow


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


def test_what_is_cut_and_bordered_at_its_own_scale_is_counted() -> None:
    sizes = ((64, 64), (64, 80), (30, 64), (30, 80))
    rows = [ImageRow(k, f"{k}.png", 0, None, wide, tall, "RGB", 1000) for k, (tall, wide) in enumerate(sizes)]
    none = Preprocessing(input_size=64, resize_mode="none")
    words = "Of 4 images at their own scale, 2 are cut to the middle, and 2 get a border."
    assert caution_of_scale(none, rows) == words
    assert caution_of_scale(none, rows[2:3]) == "Of 1 image at their own scale, 1 gets a border."
    assert not caution_of_scale(none, rows[:1]) and not caution_of_scale(Preprocessing(input_size=64), rows)


def test_classes_of_one_folder_are_told_where_folders_part_the_classes() -> None:
    def files(places: dict[int, list[str]]) -> Collection:
        return collection_of(
            [(f"{place}/{k}.png", n, "training") for n, where in places.items() for place in where for k in range(4)]
        )

    result = classes_by_folder(files({0: ["bench 1"], 1: ["bench 1", "bench 2"], 2: ["bench 2", "bench 3"]}))
    assert result == [
        "«spiny» stands in one folder only, of 3: a network may learn the folder, its camera or its day, in place of"
        " the class."
    ]
    assert classes_by_folder(files({0: ["spiny"], 1: ["netted"], 2: ["winged"]})) == []
    assert classes_by_folder(files({0: ["a"], 1: ["b"], 2: ["c"]})) == [], "folders of classes under other names"
    both = ["bench 1", "bench 2"]
    assert classes_by_folder(files({0: both, 1: both, 2: both})) == []
    assert classes_by_folder(files({0: ["train/spiny"], 1: ["val/netted"]})) == []
