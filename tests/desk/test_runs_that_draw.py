"""Runs that draw: trained, resumed, asked for drawings and codes, and refused what answers classes."""

from __future__ import annotations

import csv
import shutil
from collections.abc import Callable
from pathlib import Path

import numpy as np
import pytest
from PIL import Image
from tests.cli.running import command, last_object, run_words

import attentive_lens as al
from attentive_lens.core.jobs import finish
from attentive_lens.desk.network.design import save_plan
from attentive_lens.desk.requests.drawing import Decode, DrawImages, EncodeImages, Reconstruct
from attentive_lens.desk.requests.models import Score
from attentive_lens.desk.requests.prices import PricePlan
from attentive_lens.desk.tasks import carry_out
from attentive_lens.desk.training.advising import advice_of
from attentive_lens.desk.training.executing import execute
from attentive_lens.desk.training.preparing import prepare
from attentive_lens.desk.training.runs import RunReader
from attentive_lens.errors import BadFile, BadUsage, BadValue, LensError, NotHere
from attentive_lens.formats.reading import read_model
from attentive_lens.plan.base import Base
from attentive_lens.plan.encoders import ENCODERS
from attentive_lens.plan.plan import Plan
from attentive_lens.plan.tasks import Encode
from attentive_lens.workspace import Workspace

SMALL = {"network": "variational, two codes", "preprocessing.input_size": 16, "training.epochs": 4}


def small(**more: object) -> Plan:
    return Plan().changed({**SMALL, "training.batch_size": 16, "augmentation": "none", **more})


@pytest.fixture(scope="module")
def drawn_once(station_once: Path, tmp_path_factory: pytest.TempPathFactory) -> Path:
    """The station with run 2 that draws."""
    folder = Path(shutil.copytree(station_once, tmp_path_factory.mktemp("drawn") / "pollen"))
    place = Workspace.open(folder)
    finish(execute(place, place.claim_run(small()), lambda: False))
    return folder


@pytest.fixture
def drawing(drawn_once: Path, tmp_path: Path) -> Workspace:
    return Workspace.open(Path(shutil.copytree(drawn_once, tmp_path / "pollen")))


def test_a_run_tells_the_bound_and_its_parts_and_gets_better(drawing: Workspace) -> None:
    view = RunReader(drawing.run(2)).view()
    assert view.state == "done"
    assert view.loss_function == "minus the lower bound"
    bounds = []
    for epoch in view.epochs:
        for figures in (epoch.training, epoch.validation):
            assert figures is not None
            assert figures.accuracy is None
            parts = figures.more
            assert parts["bound"] == pytest.approx(-parts["reconstruction"] - parts["divergence"])
            assert figures.loss == pytest.approx(-parts["bound"])
            assert parts["divergence"] > 0
        assert epoch.validation is not None
        assert epoch.by_class is None
        assert epoch.health is not None
        assert epoch.health.right is None
        assert any(value for value in epoch.health.activation)
        bounds.append(epoch.validation.main)
    assert bounds[-1] > bounds[0]
    best = view.best
    assert best is not None
    assert best.epoch == 1 + int(np.argmax(bounds))
    assert {finding.kind for finding in advice_of(drawing, drawing.run(2), view)} <= {"codes unused"}


def test_a_stopped_run_goes_on_to_the_same_bits(drawing: Workspace) -> None:
    plan = small(**{"task.warmup_epochs": 2, "averaging": "exponential moving average"})
    whole = finish(execute(drawing, drawing.claim_run(plan), lambda: False))
    stopped, steps = drawing.claim_run(plan), iter([False] * 6 + [True] * 1000)
    assert finish(execute(drawing, stopped, lambda: next(steps))).outcome.state == "stopped"
    command("train", drawing.folder, "--resume", stopped.number)
    assert RunReader(stopped).view().state == "done"
    one, other = (read_model(run.checkpoints / "last.alens").weights for run in (whole.run, stopped))
    for node, arrays in one.items():
        for name, array in arrays.items():
            assert np.array_equal(array, other[node][name]), (node, name)


def test_training_looks_at_no_label_and_is_the_same_twice(drawing: Workspace) -> None:
    before = read_model(drawing.run(2).model).weights
    again = finish(execute(drawing, drawing.claim_run(small()), lambda: False))
    after = read_model(again.run.model).weights
    assert all(np.array_equal(a, after[node][name]) for node, arrays in before.items() for name, a in arrays.items())
    feed = finish(prepare(drawing, drawing.claim_run(small()), None)).feed
    order = np.arange(len(feed.members))
    one = feed.batch(0, 0, order)
    feed.labels = (feed.labels + 1) % feed.classes
    other = feed.batch(0, 0, order)
    assert np.array_equal(one.images, other.images)
    assert np.array_equal(one.targets, other.targets)


def test_what_is_to_be_drawn_is_the_image_as_it_came_or_as_it_was(drawing: Workspace) -> None:
    noisy = {"augmentation": "default"}
    order = np.arange(10)
    came, was = (
        finish(prepare(drawing, drawing.claim_run(small(**noisy, **{"task.denoise": denoise})), None)).feed
        for denoise in (False, True)
    )
    one, other = came.batch(0, 0, order), was.batch(0, 0, order)
    assert np.array_equal(one.images, other.images)
    mean, std = (np.array(each, np.float32) for each in (came.preprocessor.mean, came.preprocessor.std))
    assert one.targets == pytest.approx((one.images * std + mean).clip(0, 1), abs=1e-5)
    plain = was.pixels[was.members[order]] / np.float32(255)
    assert other.targets == pytest.approx(plain, abs=1e-6)
    assert np.abs(one.targets - other.targets).max() > 0.1


def test_the_divergence_s_weight_rises(drawing: Workspace) -> None:
    task = Encode(divergence_weight=2.0, warmup_epochs=4)
    assert [task.weight_at(epoch, 0.5) for epoch in (0, 1, 3, 9)] == [0.25, 0.75, 1.75, 2.0]
    assert Encode().weight_at(0, 0.0) == 1.0
    runs = [
        finish(execute(drawing, drawing.claim_run(small(**{"task.warmup_epochs": warm})), lambda: False)).run
        for warm in (0, 100)
    ]
    short, warm = (RunReader(run).view().epochs[-1].training.more["divergence"] for run in runs)
    assert warm > short


@pytest.mark.parametrize("name", ENCODERS)
def test_every_starting_network_trains_is_priced_and_draws(name: str, drawing: Workspace) -> None:
    plan = small(network=name).changed({"training.epochs": 1})
    price = finish(carry_out(PricePlan(str(drawing.folder), plan.write())))
    assert price.epoch_seconds > 0
    run = finish(execute(drawing, drawing.claim_run(plan), lambda: False)).run
    result = finish(carry_out(DrawImages(str(drawing.folder), run.number, count=5)))
    assert result.images.shape == (5, 16, 16, 3)
    assert np.ptp(result.images) > 0
    assert result.codes.shape == (5, result.size)


def test_codes_go_to_a_file_and_come_back_as_the_drawings(drawing: Workspace, tmp_path: Path) -> None:
    place = str(drawing.folder)
    for ending in (".csv", ".npy", ".npz"):
        file, out = tmp_path / f"codes{ending}", tmp_path / f"out{ending.replace('csv', 'npz')}"
        said = command("encode", place, 2, "--on", "test", "--out", file)
        assert f"written to {file}" in said
        encoded = finish(carry_out(EncodeImages(place, 2, "test")))
        assert "drawn by run 2" in command("decode", place, 2, file, "--out", out)
        direct = finish(carry_out(Decode(place, 2, values=tuple(encoded.codes[0].tolist()))))
        stored = np.load(out)
        images = stored["images"] if ending != ".npy" else stored
        assert np.array_equal(images[:1], direct.images)
        assert len(images) == encoded.images
    with (tmp_path / "codes.csv").open(newline="") as stream:
        rows = list(csv.DictReader(stream))
    assert [int(row["image"]) for row in rows] == encoded.numbers.tolist()
    assert [row["label"] for row in rows] == [encoded.classes[k] for k in encoded.labels]
    assert float(rows[0]["loss"]) == pytest.approx(encoded.losses[0], rel=1e-4)
    assert encoded.losses.mean() == pytest.approx(-encoded.bound)


def test_the_bound_asked_for_is_the_run_s_own_and_the_estimate_is_above(drawing: Workspace) -> None:
    view = RunReader(drawing.run(2)).view()
    assert view.best is not None
    assert view.best.validation is not None
    result = last_object(command("encode", drawing.folder, 2, "--samples", 30, "--json"))
    assert result["bound"] == pytest.approx(view.best.validation.main, rel=1e-6)
    assert result["bound"] < result["likelihood"]
    assert result["samples"] == 30
    assert "codes" not in result


def test_an_evaluation_is_the_same_in_portions(drawing: Workspace) -> None:
    runs = []
    for portion in (64, 8):
        plan = small(**{"training.evaluation_batch_size": portion})
        runs.append(finish(execute(drawing, drawing.claim_run(plan), lambda: False)).run)
    one, other = (RunReader(run).view().epochs[0].validation for run in runs)
    assert one is not None
    assert other is not None
    assert one.main == pytest.approx(other.main, rel=1e-9)


def test_a_manifold_is_a_grid_at_the_quantiles_and_a_way_goes_from_image_to_image(drawing: Workspace) -> None:
    place = str(drawing.folder)
    grid = finish(carry_out(DrawImages(place, 2, "manifold", 25)))
    codes = grid.codes.reshape(5, 5, 2)
    assert codes[2, 2] == pytest.approx([0, 0], abs=1e-6)
    assert codes[0, 4] == pytest.approx([1.2816, 1.2816], abs=1e-3)  # nine tenths lie below
    assert (np.diff(codes[..., 0], axis=1) > 0).all()
    assert (np.diff(codes[..., 1], axis=0) < 0).all()
    turned = finish(carry_out(DrawImages(place, 2, "manifold", 25, across=2, down=1)))
    assert turned.codes.reshape(5, 5, 2)[0, 4, ::-1] == pytest.approx(codes[0, 4])
    encoded = finish(carry_out(EncodeImages(place, 2)))
    first, second = encoded.numbers[:2].tolist()
    way = finish(carry_out(DrawImages(place, 2, "between", 4, first=first, second=second)))
    assert way.codes[[0, 3]] == pytest.approx(encoded.codes[:2], abs=1e-5)
    assert way.codes[1] == pytest.approx((2 * encoded.codes[0] + encoded.codes[1]) / 3, abs=1e-5)
    one, same, other = (finish(carry_out(DrawImages(place, 2, seed=seed))) for seed in (1, 1, 2))
    assert np.array_equal(one.images, same.images)
    assert not np.array_equal(one.images, other.images)


def test_images_are_drawn_again_the_worst_first(drawing: Workspace, tmp_path: Path) -> None:
    place, file = str(drawing.folder), tmp_path / "again.png"
    worst, best, numbered = (
        finish(carry_out(Reconstruct(place, 2, first=order, most=6))) for order in ("worst", "best", "number")
    )
    assert (np.diff(worst.errors) <= 0).all()
    assert (np.diff(best.errors) >= 0).all()
    assert (np.diff(numbered.numbers) > 0).all()
    assert worst.errors[0] > worst.error > best.errors[0]
    none = finish(carry_out(Reconstruct(place, 2, most=0)))
    assert none.error == worst.error
    assert len(none.images) == len(none.numbers) == 0
    assert none.images.shape[1:] == (16, 16, 3)
    gap = (worst.images.astype(float) - worst.drawn) / 255
    assert np.sqrt((gap[0] ** 2).mean()) == pytest.approx(worst.errors[0], abs=0.003)
    counts = np.bincount([row.label for row in drawing.catalogue.images()])
    assert len(worst.by_class) == len(counts)
    said = command("reconstruct", place, 2, "--most", 6, "--out", file)
    assert f"image {worst.numbers[0]}, off by" in said
    with Image.open(file) as picture:
        wide, tall = picture.size
    assert (wide + 2) % 18 == 0
    assert ((wide + 2) // 18) * ((tall + 2) // 18) >= 18


def test_a_classifier_learns_on_from_the_encoder(drawing: Workspace) -> None:
    plan = Plan().changed({"preprocessing.input_size": 16, "training.epochs": 1, "augmentation": "none"})
    encoder = read_model(drawing.run(2).model)
    nodes = encoder.plan.nodes[: [node.name for node in encoder.plan.nodes].index("flatten 1") + 1]
    text = [*small().network.write()[: len(nodes)], {"layer": "output"}]
    plan = Plan.read({**plan.write(), "network": text, "base": Base(run=2, until="flatten 1").write()})
    file = drawing.folder / "based.toml"
    save_plan(file, plan)
    command("train", drawing.folder, "--plan", file)
    run = drawing.runs()[-1]
    assert run.number == 3
    learned = read_model(run.model)
    for name in ("convolution 1", "convolution 2"):
        if name in encoder.weights:
            assert np.array_equal(learned.weights[name]["kernel"], encoder.weights[name]["kernel"])
    assert finish(carry_out(Score(str(drawing.folder), run.number, "validation"))).images > 0


REFUSING = {
    "score": (1, ()),
    "explain": (1, (1,)),
    "causes": (1, ()),
    "compare": (1, (1,)),
    "report": (1, ()),
    "advise": (2, ("--try", 1)),
}


def test_layers_of_a_run_that_draws_can_be_looked_into(drawing: Workspace) -> None:
    layers = [node.name for node in read_model(drawing.run(2).model).plan.nodes]
    assert last_object(command("activity", drawing.folder, 2, layers[0], "--json"))["images_looked_at"] > 0
    assert layers[0] in command("similarity", drawing.folder, 2)
    assert "kernel" in command("numbers", drawing.folder, 2, layers[0])
    assert "run 2" in command("advise", drawing.folder, 2) or "codes" in command("advise", drawing.folder, 2)


def test_it_is_exported_and_draws_images_again_there(drawing: Workspace, tmp_path: Path) -> None:
    assert "draws all of 3 images" in command("export", drawing.folder, 2, "--out", tmp_path / "x.onnx", "--sample", 3)


@pytest.mark.parametrize("name", REFUSING)
def test_what_answers_classes_refuses_a_run_that_draws(
    name: str, drawing: Workspace, monkeypatch: pytest.MonkeyPatch, tmp_path: Path, capsys: pytest.CaptureFixture[str]
) -> None:
    monkeypatch.chdir(tmp_path)
    code, more = REFUSING[name]
    assert run_words(name, drawing.folder, 2, *more) == code
    assert "draws images" in capsys.readouterr().err


def test_plans_that_draw_are_rehearsed_and_their_rates_swept_but_not_cross_validated(
    drawing: Workspace, capsys: pytest.CaptureFixture[str]
) -> None:
    words = ("--set", "network=variational", "--set", "preprocessing.input_size=16")
    assert "It runs through" in command("rehearse", drawing.folder, *words)
    assert "Begin with" in command("rates", drawing.folder, *words)
    assert run_words("cross-validate", drawing.folder, *words) == 2
    assert "folds are told by their answers" in capsys.readouterr().err
    assert "nats" in command("runs", drawing.folder)
    assert "nats" in command("sweep", drawing.folder, *words, "--set", "training.epochs=1", "--over", "seed=1,2")


def test_a_run_that_draws_disturbs_nothing_that_is_about_answers(
    drawing: Workspace, station_once: Path, tmp_path: Path
) -> None:
    place, without = drawing.folder, Path(shutil.copytree(station_once, tmp_path / "without"))
    explain = ("explain", 1, 3, "--out", tmp_path / "maps")
    for words in (("faults",), ("score", 1), ("cases",), explain, ("advise", 1), ("verify", 1), ("shelf",)):
        name, *more = words
        said, alone = (command(name, folder, *more, "--json") for folder in (place, without))
        if name in ("faults", "cases", "score"):
            ours, theirs = last_object(said), last_object(alone)
            assert {key: ours[key] for key in theirs if key not in ("workspace", "seconds")} == {
                key: theirs[key] for key in theirs if key not in ("workspace", "seconds")
            }, name
    command("report", place, 1, "--out", place / "r.html")
    assert (place / "r.html").exists()


def test_python_asks_the_same(drawing: Workspace) -> None:
    run = al.open_workspace(drawing.folder).runs()[-1]
    encoded = run.encode("test")
    drawn = run.decode(encoded.codes[:3])
    assert drawn.shape == (3, 16, 16, 3)
    assert np.array_equal(
        drawn[0], finish(carry_out(Decode(str(drawing.folder), 2, values=tuple(encoded.codes[0].tolist())))).images[0]
    )
    assert len(run.draw(7).images) == 7
    assert len(run.reconstruct(most=2).drawn) == 2


BAD: dict[str, tuple[type[LensError], str, Callable[[str], object]]] = {
    "a run that answers": (BadUsage, "draws no images", lambda place: DrawImages(place, 1)),
    "a grid of one code": (BadValue, "no such grid", lambda place: DrawImages(place, 2, "manifold", across=1, down=1)),
    "a code too many": (BadValue, "drawn of 2", lambda place: DrawImages(place, 2, "manifold", across=3)),
    "no such image": (NotHere, "no image 99999", lambda place: DrawImages(place, 2, "between", first=1, second=99999)),
    "another ending": (BadUsage, "ending", lambda place: DrawImages(place, 2, file="x.gif")),
    "codes of another size": (BadValue, "drawn of 2", lambda place: Decode(place, 2, values=(0.0, 0.0, 0.0))),
    "codes that are none": (BadValue, "no numbers", lambda place: Decode(place, 2, values=(float("nan"), 0.0))),
    "no file": (BadFile, "no such file", lambda place: Decode(place, 2, f"{place}/none.csv")),
    "a text": (
        BadFile,
        "could not be read as codes",
        lambda place: Decode(place, 2, str(Path(place) / "workspace.toml")),
    ),
    "a folder that is not there": (
        BadFile,
        "could not be written",
        lambda place: DrawImages(place, 2, file="/no/x.png"),
    ),
}


@pytest.mark.parametrize(("rule", "value"), [("patience", 2), ("target", 0.9)])
def test_no_rule_waits_on_what_a_run_that_draws_never_tells(rule: str, value: float, drawing: Workspace) -> None:
    with pytest.raises(
        BadValue, match=f"{rule}_measure is accuracy, and what is measured of validation images is loss"
    ):
        small(**{f"stopping.{rule}": value, f"stopping.{rule}_measure": "accuracy"})
    by_loss = small(**{f"stopping.{rule}": value, f"stopping.{rule}_measure": "loss", "training.epochs": 1})
    assert finish(execute(drawing, drawing.claim_run(by_loss), lambda: False)).outcome.epochs == 1


@pytest.mark.filterwarnings("error")
@pytest.mark.parametrize("rate", [1.0, 10.0])
def test_numbers_that_run_away_end_a_run_with_the_place_where_they_did(rate: float, drawing: Workspace) -> None:
    claimed = drawing.claim_run(small(**{"optimiser.learning_rate": rate, "training.epochs": 30}))
    with pytest.raises(LensError, match=r"numbers ran away.* began (at the layer|in the loss|where gradients meet)"):
        finish(execute(drawing, claimed, lambda: False))
    assert RunReader(claimed).view().state == "failed"


DAMAGED: dict[str, bytes] = {
    "archive.npz": b"PK\x03\x04 and no more",
    "cut.npy": b"\x93NUMPY\x01\x00v\x00{'descr': '<f4', ",
    "wide.csv": b"x" * 200_000 + b"\n",
    "nul.csv": b"code 1,code 2\n\x00,1\n",
    "ragged.csv": b"code 1,code 2\n1\n",
    "nothing.csv": b"",
}


@pytest.mark.parametrize("name", DAMAGED)
def test_damaged_files_of_codes_are_refused_in_a_sentence(name: str, drawing: Workspace, tmp_path: Path) -> None:
    file = tmp_path / name
    file.write_bytes(DAMAGED[name])
    with pytest.raises(BadFile, match="could not be read as codes"):
        finish(carry_out(Decode(str(drawing.folder), 2, str(file))))


def test_no_codes_are_refused_too(drawing: Workspace, tmp_path: Path) -> None:
    np.save(tmp_path / "none.npy", np.zeros((0, 2), np.float32))
    with pytest.raises(BadValue, match="0×2 numbers"):
        finish(carry_out(Decode(str(drawing.folder), 2, str(tmp_path / "none.npy"))))
    with pytest.raises(BadUsage, match="no file of codes"):
        finish(carry_out(Decode(str(drawing.folder), 2)))


@pytest.mark.parametrize("case", BAD)
def test_bad_requests_are_refused_in_one_sentence(case: str, drawing: Workspace) -> None:
    kind, words, request = BAD[case]
    with pytest.raises(kind, match=words):
        finish(carry_out(request(str(drawing.folder))))  # type: ignore[arg-type]
