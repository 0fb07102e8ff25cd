"""Python as it is documented: everything the window can be asked, from a script."""

from __future__ import annotations

import re
from pathlib import Path
from xml.etree import ElementTree

import numpy as np
import pytest
from PIL import Image

import attentive_lens as al
from attentive_lens.desk.requests.models import Score
from attentive_lens.desk.script import Model
from attentive_lens.explaining.probe import Probe, Targets
from attentive_lens.explaining.saliency import map_method
from attentive_lens.explaining.saliency.occlusion import Occlusion
from attentive_lens.images.decoding import decode
from attentive_lens.predicting import Predictor
from attentive_lens.workspace import Workspace
from attentive_lens.workspace.about import About

ROOT = Path(__file__).parents[2]


@pytest.fixture
def model(station_once: Path) -> Model:
    return al.open_workspace(station_once).runs()[0].model


def test_an_image_is_answered_alike_however_it_is_given(model: Model, station_once: Path, tmp_path: Path) -> None:
    files = al.open_workspace(station_once).files()[:3]
    pixels = [decode(file).pixels for file in files]
    wanted = model.predict(files)
    assert model.predict(str(files[0])) == model.predict(files[0]) == wanted[:1]
    with Image.open(files[1]) as picture:
        assert model.predict(picture) == wanted[1:2]
    assert model.predict(np.stack(pixels)) == model.predict(pixels) == wanted
    assert model.predict(p for p in pixels) == wanted
    assert model.predict(pixels[0].astype(np.float64) / 255) == wanted[:1]
    folder = tmp_path / "some"
    folder.mkdir()
    for k, file in enumerate(files):
        (folder / f"{k}.png").write_bytes(file.read_bytes())
    assert model.predict(folder) == model.predict([folder]) == wanted
    assert model.predict([]) == []
    assert all(sum(answer.values()) == pytest.approx(1) for answer in wanted)


def test_grey_opaque_and_black_and_white_arrays_are_images(model: Model) -> None:
    grey = np.random.default_rng(0).integers(0, 256, (20, 30)).astype(np.uint8)
    colour = np.repeat(grey[:, :, None], 3, axis=2)
    wanted = model.predict(colour)
    assert model.predict(grey) == model.predict(grey[:, :, None]) == wanted
    assert model.predict(np.concatenate([colour, np.full((20, 30, 1), 255, np.uint8)], axis=2)) == wanted
    assert model.predict(Image.fromarray(grey)) == wanted
    assert model.predict(grey > 127) == model.predict(np.where(grey > 127, 255, 0).astype(np.uint8))
    assert model.explain(grey).shape == model.explain(Image.fromarray(grey), "spiny", "gradient").shape == (32, 32)


@pytest.mark.parametrize(
    ("wrong", "part"),
    [
        (np.zeros((4, 4, 5), np.uint8), "4×4×5"),
        (np.zeros(7, np.uint8), "H×W"),
        (np.zeros((0, 4, 3), np.uint8), "0×4×3"),
        (np.full((4, 4), 2.0), "0 to 1"),
        (np.full((4, 4), np.nan), "0 to 1"),
        (np.zeros((4, 4), np.int32), "int32"),
        ([3], "int"),
        ("none.png", "no such file"),
    ],
)
def test_what_is_no_image_is_said(wrong: object, part: str, model: Model) -> None:
    with pytest.raises(al.LensError, match=re.escape(part)):
        model.predict(wrong)  # type: ignore[arg-type]


def test_feature_maps_and_weights_are_those_of_the_network(model: Model, station_once: Path) -> None:
    file = al.open_workspace(station_once).files()[0]
    maps = model.feature_maps(file, "relu 1")
    assert maps.shape == (32, 32, 8)
    assert maps.min() == 0
    scores = model.feature_maps(file, model.layers[-1])
    powers = np.exp(scores - scores.max())
    assert list(model.predict(file)[0].values()) == pytest.approx((powers / powers.sum()).tolist(), abs=1e-5)
    assert model.weights["convolution 1"]["kernel"].shape == (3, 3, 3, 8)
    with pytest.raises(al.LensError, match="relu 1"):
        model.feature_maps(file, "relu 11")
    with pytest.raises(al.LensError, match="2 were given"):
        model.explain(np.zeros((2, 8, 8, 3), np.uint8))


def test_a_run_tells_all_about_itself(station: Workspace) -> None:
    place = al.open_workspace(station.folder)
    (run,) = place.runs()
    assert place.run(1).number == run.number == 1
    assert run.state == "done"
    assert [event["epoch"] for event in run.journal() if event["event"] == "epoch"] == [1, 2]
    assert run.plan == station.run(1).plan()
    score = run.score("test")
    assert score.on == "test"
    assert np.array_equal(run.confusion, run.score().confusion)
    assert run.confusion.sum() == len(run.score().answers)
    near = run.neighbours(4, count=3)
    assert near.keys() == {"predicted", "true"}
    assert all(len(rows) == 3 and rows == sorted(rows, key=lambda r: r[1]) for rows in near.values())
    maps = run.explain(4, target="spiny")
    assert maps.keys() == {"predicted", "true", "for", "difference"}
    with pytest.raises(al.LensError, match="There is no run 7"):
        place.run(7)


def test_everything_says_what_it_is(station: Workspace) -> None:
    place = al.open_workspace(station.folder)
    assert repr(place) == "<Workspace «pollen station»: 90 images of 6 classes, 1 runs>"
    assert repr(place.runs()[0]) == "<Run 1: two blocks, done, epoch 2 of 2>"
    assert re.fullmatch(r"<Model: 6 classes, 32×32×3 images, \d+ layers, \d+ weights>", repr(place.runs()[0].model))


def test_what_pages_show_in_python_runs(
    model: Model, station: Workspace, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    (tmp_path / "here").mkdir()
    station.folder.rename(tmp_path / "here" / "pollen-station")
    Image.new("RGB", (50, 40), (200, 190, 180)).save(tmp_path / "here" / "grain.png")
    monkeypatch.chdir(tmp_path / "here")
    text = "\n".join((ROOT / name).read_text("utf-8") for name in ("README.md", "docs/how-to/from-python.md"))
    blocks = re.findall(r"```python\n(.*?)```", text, re.DOTALL)
    assert len(blocks) == 4
    for block in blocks:
        exec(compile(block, "page", "exec"), {})  # noqa: S102
    probe = Probe(Predictor.of(model.file))
    image = model.file.preprocessor.apply(np.zeros((1, 32, 32, 3), np.uint8))[0]
    assert map_method("gradient").maps(probe, image, Targets.classes([0], 6)).shape == (1, 32, 32)
    assert (Path(al.__file__).parent / "py.typed").exists()


def test_a_map_costs_the_map_alone(model: Model, station_once: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    file = al.open_workspace(station_once).files()[0]
    asked_targets = []
    real = Occlusion.maps

    def maps(self: Occlusion, probe: Probe, image: np.ndarray, targets: Targets) -> np.ndarray:
        asked_targets.append(len(targets.weights))
        return real(self, probe, image, targets)

    monkeypatch.setattr(Occlusion, "maps", maps)
    classes = model.predict(file)[0]
    said = max(classes, key=classes.__getitem__)
    other = min(classes, key=classes.__getitem__)
    first, second = model.explain(file, method="occlusion"), model.explain(file, other, "occlusion")
    assert asked_targets == [1, 1]
    assert np.array_equal(first, model.explain(file, said, "occlusion"))
    assert not np.array_equal(first, second)
    with pytest.raises(al.LensError, match="spiny"):
        model.explain(file, "spinny")


def test_what_a_model_sees_is_shown_with_its_map(model: Model, station_once: Path) -> None:
    file = al.open_workspace(station_once).files()[0]
    alone = model.picture(file)
    assert alone.size == (256, 256)
    assert model.picture(file, model.explain(file)).size == (512, 256)
    assert np.array_equal(np.asarray(alone)[::8, ::8], model.file.preprocessor.resized(decode(file).pixels))


def test_objects_show_themselves_in_a_notebook_and_escape_what_they_are_called(station: Workspace) -> None:
    station.run(1).keep_about(About(name="<b>one</b>"))
    place = al.open_workspace(station.folder)
    for thing in (place, place.runs()[0], place.runs()[0].model):
        page = thing._repr_html_()
        assert "<table>" in page
        assert "<b>one</b>" not in page
        ElementTree.fromstring(f"<page>{page}</page>")
    assert "polyline" in place.runs()[0]._repr_html_()
    assert "convolution 1" in place.runs()[0].model._repr_html_()
    assert "two blocks" in place._repr_html_() or "&lt;b&gt;one" in place._repr_html_()


def test_arrays_become_a_workspace_that_trains(tmp_path: Path) -> None:
    images = np.zeros((40, 12, 12), np.uint8)
    images[::2, 3:9, 3:9] = 255
    labels = ["square" if k % 2 == 0 else "none" for k in range(40)]
    place = al.new_workspace(tmp_path / "squares", images=images, labels=labels)
    assert place.classes == ("none", "square")
    plan = place.plan(network="two blocks", preprocessing__input_size=16, training__epochs=2, seed=3)
    assert (plan.training.epochs, plan.seed, plan.preprocessing.input_size) == (2, 3, 16)
    steps = []
    run = place.train(plan, steps.append)
    assert run.state == "done"
    assert steps[-1].done <= steps[-1].total
    assert al.ask(Score(str(place.folder), run.number)).accuracy == run.score().accuracy
    name = place.put_on_shelf(run, "mine", "a note")
    assert place.shelf()[name].note == "a note"
    tuned = place.plan(base="shelf:mine", base__frozen=False, base__unfreeze_every=1)
    assert tuned.base is not None
    assert (tuned.base.frozen, tuned.base.unfreeze_every) == (False, 1)
    for wrong, part in (
        ({"images": images}, "no labels"),
        ({"images": images, "labels": labels[:3]}, "40 images and 3 labels"),
        ({}, "a source, or images"),
        ({"images": images, "labels": labels, "source": tmp_path}, "a source, or images"),
    ):
        with pytest.raises(al.LensError, match=part):
            al.new_workspace(tmp_path / "other", **wrong)
    with pytest.raises(al.LensError, match="there is one already"):
        al.new_workspace(tmp_path / "squares", images=images, labels=labels)
    with pytest.raises(al.LensError):
        place.plan(training__epoch=3)
