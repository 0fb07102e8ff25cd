"""Asking models and runs from the command line, and following a run."""

from __future__ import annotations

import contextlib
import io
import json
import re
import time
from pathlib import Path

import numpy as np
import pytest
from PIL import Image
from tests.cli.running import TINY, command, last_object, leaves, run_words

from attentive_lens.desk.training.runs import reap_children, start_training
from attentive_lens.explaining.saliency import METHODS
from attentive_lens.plan.losses import LOSSES
from attentive_lens.training.journal import read_events
from attentive_lens.workspace import Workspace

CLASSES = {"furrowed", "netted", "smooth", "spiny", "triangular", "winged"}


def wrong(*words: object, code: int) -> str:
    """What is said of a command that cannot be carried out."""
    return " ".join(last_object(command(*words, "--json", code=code))["error"].values())


def test_an_image_is_asked_about_in_every_way(station: Workspace, tmp_path: Path) -> None:
    folder, out = station.folder, tmp_path / "out"
    result = last_object(
        command("explain", folder, 1, 2, "--method", "integrated_gradients", "--trust", "--out", out, "--json")
    )
    assert all(region["gives"].keys() == {"predicted", "true"} for region in result["regions"])
    assert result["regions"]
    (measured,) = result["measured"]
    assert measured["agreement"].keys() == METHODS.keys() - {"integrated_gradients"}
    assert [own["key"] for own in measured["maps"]] == ["predicted", "true"]
    assert measured["maps"][0]["completeness"]["error"] < 0.05
    quick = {own["key"]: own["trust"] for own in result["maps"] if own["trust"]}
    for own in measured["maps"]:
        assert own["gain"] == quick[own["key"]]["gain"], "there is one measurement"
        assert own["gain"]["rivals"].keys() == {"edges", "middle", "next class", "random weights"}
    assert (station.run(1).folder / "randomised-integrated_gradients.npz").exists()
    words = command("explain", folder, 1, 2, "--trust", "--out", out)
    assert "with all weights randomised" in words
    grouped = last_object(command("causes", folder, 1, "--json"))
    assert sum(len(group["images"]) for group in grouped["groups"]) == grouped["mistakes"] > 0
    assert "mistakes in" in command("causes", folder, 1)
    near = last_object(command("neighbours", folder, 1, 2, "--json"))
    assert [entry["distance"] for entry in near["near"]["true"]] == sorted(
        entry["distance"] for entry in near["near"]["true"]
    )
    assert "nearest of said" in command("neighbours", folder, 1, 2, "--layer", "max pooling 1")
    tried = last_object(command("try", folder, 1, 2, "--change", "rotate degrees=30", "--change", "denoise", "--json"))
    assert [after["change"]["kind"] for after in tried["after"]] == ["rotate", "denoise"]
    assert sum(tried["after"][0]["probabilities"].values()) == pytest.approx(1)
    assert "square" in command("try", folder, 1, 2, "--change", "brighten factor=1.2", "--smallest")
    layer = last_object(command("layer", folder, 1, "convolution 2", "--out", tmp_path / "layer", "--json"))
    patches = np.load(tmp_path / "layer" / "patches.npy")
    assert patches.shape == (16, 9, 8, 8, 3)
    assert len(layer["speaks"]) == 16
    with Image.open(layer["synthetic"]) as picture:
        assert picture.size == (8 * 32 * 3, 32 * 3)
    assert "switched off" in command("channel", folder, 1, 2, "relu 2", 3)
    assert "channel 0:" in command("layer", folder, 1, "convolution 2", "--out", tmp_path / "layer")


def test_a_layer_and_the_classes_are_looked_into(station: Workspace, tmp_path: Path) -> None:
    folder = station.folder
    rests = last_object(command("class-maps", folder, 1, "--on", "training", "--out", tmp_path / "classes", "--json"))
    assert {each["name"] for each in rests["classes"]} <= set(CLASSES)
    for each in rests["classes"]:
        assert np.load(each["map"]).shape == (32, 32)
        with Image.open(each["picture"]) as picture:
            assert picture.size == (2 * 32 * 5, 32 * 5)
    assert "right answer" in command("class-maps", folder, 1, "--on", "training", "--out", tmp_path / "classes")
    active = last_object(command("activity", folder, 1, "relu 2", "--json"))
    assert sum(active["counts"]) == active["images_looked_at"] * 32 * 32 * 16 // 4
    assert len(active["used"]) == 16
    assert set(active["mean"]) == set(CLASSES)
    assert "above zero anywhere" in command("activity", folder, 1, "relu 2")
    file = tmp_path / "numbers.npz"
    result = last_object(command("numbers", folder, 1, "convolution 2", "--image", 2, "--out", file, "--json"))
    with np.load(file) as arrays:
        assert arrays["values"].shape == tuple(result["shape"]) == arrays["gradient"].shape
        assert float(arrays["values"].min()) == pytest.approx(result["least"])
        assert float(np.sqrt((arrays["gradient"].astype(float) ** 2).mean())) == pytest.approx(result["gradient"])
        assert {f"optimiser {name}" for name in result["optimiser"]} < set(arrays)
    assert "the optimiser remembers" in command("numbers", folder, 1, "convolution 2", "bias")
    nowhere = tmp_path / "none" / "numbers.npz"
    assert "could not be written" in wrong("numbers", folder, 1, "output", "--out", nowhere, code=1)


def test_changes_are_tried_on_a_file_and_written_down_with_their_maps(station: Workspace, tmp_path: Path) -> None:
    model, file = station.run(1).model, next(station.folder.rglob("*.png"))
    words = ("--change", "noise deviation=0.1", "--change", "cover row=0.5 column=0.5 side=0.2 across=0.6")
    out = tmp_path / "tried"
    tried = last_object(command("try", "--model", model, file, *words, "--method", "gradient", "--out", out, "--json"))
    assert (tried["image"], tried["file"]) == (None, str(file))
    assert len(tried["after"]) == 2
    for number in (1, 2):
        assert np.load(out / f"change-{number:02d}.npy").shape == (32, 32)
        with Image.open(out / f"change-{number:02d}.png") as picture:
            assert picture.size == (2 * 32 * 5, 32 * 5)
    assert "the changed images are in" in command("try", "--model", model, file, *words, "--out", out)
    assert "a workspace, a run and an image" in wrong("try", station.folder, 1, *words, code=2)
    assert "is no number" in wrong("try", station.folder, "one", 2, code=2)
    assert "image file" in wrong("try", "--model", model, file, file, code=2)
    began = command("explain", station.folder, 1, 2, "--method", "integrated_gradients baseline=black", "--out", out)
    assert "integrated gradients from black" in began
    misspelt = ("--method", "integrated_gradients baseline=blak")
    assert "Did you mean «black»" in wrong("explain", station.folder, 1, 2, *misspelt, "--out", out, code=2)
    at = ("--method", "class_activation layer='convolution 1'")
    assert "class activation at convolution 1" in command("explain", station.folder, 1, 2, *at, "--out", out)


@pytest.mark.parametrize(
    ("words", "reason", "code"),
    [
        (["explain", "STATION", "1", "2", "--method", "gradiant"], "gradient", 2),
        (["try", "STATION", "1", "2", "--change", "cover row=a"], "row, column, side", 2),
        (["try", "STATION", "1", "2", "--change", "cover 3"], "not understood", 2),
        (["try", "STATION", "1", "2", "--change", "covr"], "cover", 2),
        (["try", "STATION", "1", "2", "--change", "scale factor=0"], "0 is below the least, 0.01", 2),
        (["try", "STATION", "1", "2", "--change", "cover row=5 column=0 side=0.2"], "5 is above the most, 1", 2),
        (["channel", "STATION", "1", "2", "output", "0"], "no channels to switch off", 1),
        (["layer", "STATION", "1", "convolution 9"], "convolution 2", 2),
        (["channel", "STATION", "1", "2", "relu 2", "99"], "channels 0 to 15", 1),
        (["layer", "STATION", "1", "fully connected 1"], "one row of values", 1),
        (["neighbours", "STATION", "1", "2", "--layer", "relu 99"], "relu", 2),
        (["train", "STATION", "--resume", "1"], "trained all its epochs", 1),
        (["measure", "--kernels", "fast"], "auto", 2),
    ],
)
def test_what_cannot_be_asked_is_said_and_nothing_is_written(
    words: list[str], reason: str, code: int, station_once: Path, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.chdir(tmp_path)
    result = last_object(command(*[str(station_once) if w == "STATION" else w for w in words], "--json", code=code))
    assert reason in " ".join(result["error"].values())
    assert list(tmp_path.iterdir()) == []


def test_images_no_workspace_knows_are_explained_by_a_model_file_alone(station: Workspace, tmp_path: Path) -> None:
    model, place = tmp_path / "grains.alens", leaves(tmp_path / "leaves")
    station.run(1).model.rename(model)
    files = [place / "round leaf" / "leaf 0.png", place / "a long leaf with quite a long name to it" / "leaf 0.png"]
    out = tmp_path / "out"
    text = command("explain", "--model", model, *files, "--for", "spiny", "--out", out, "--json")
    result = [json.loads(line) for line in text.splitlines()]
    assert [entry["file"] for entry in result] == [str(f) for f in files]
    written = [entry["file"] for one in result for entry in one["maps"]]
    assert len(set(written)) == len(written) == 4
    for one in result:
        assert (one["image"], one["true"]) == (None, None)
        assert [entry["key"] for entry in one["maps"]] == ["predicted", "for"]
        assert all(np.load(entry["file"]).shape == (32, 32) for entry in one["maps"])
    predicted = [json.loads(line) for line in command("predict", model, *files, "--json").splitlines()]
    for one, answer in zip(result, predicted, strict=True):
        assert one["probabilities"] == pytest.approx(answer["probabilities"], abs=1e-5)
    assert "said" in command("explain", "--model", model, place / "round leaf", "--out", out)
    (tmp_path / "words.png").write_text("no picture")
    nothing = command("predict", model, tmp_path / "words.png", "--json", code=1).splitlines()
    assert "not those of an image format" in json.loads(nothing[0])["error"]
    assert json.loads(nothing[1])["error"]["what"] == "Nothing was answered"
    assert "round leaf" in command("predict", model, tmp_path / "words.png", files[0])
    refused = last_object(command("explain", "--model", model, files[0], "--trust", "--json", code=2))
    assert "--trust" in refused["error"]["what"]


def test_the_surest_mistakes_are_explained_in_one_call(station: Workspace, tmp_path: Path) -> None:
    wrong = last_object(command("score", station.folder, 1, "--on", "training", "--json"))["wrong"]
    words = ("explain", station.folder, 1, "--wrong", 2, "--on", "training", "--out", tmp_path / "out")
    result = [json.loads(line) for line in command(*words, "--trust", "--json").splitlines()]
    assert [one["image"] for one in result] == [entry["image"] for entry in wrong[:2]]
    assert all(not one["measured"][0]["agreement"] for one in result), "the other methods are not asked each time"
    for one in result:
        shown, measured = one["maps"][0]["trust"], one["measured"][0]["maps"][0]
        assert [shown[key] for key in ("passed", "gain")] == [measured[key] for key in ("passed", "gain")], (
            "one verdict, at once and in the whole measurement"
        )
    assert re.search(r"^\d of \d maps for what was said pass", command(*words), re.MULTILINE)
    model = station.run(1).model
    refused = last_object(command("explain", "--model", model, "a.png", "--wrong", 2, "--json", code=2))
    assert "--wrong" in refused["error"]["what"]


def test_all_methods_and_several_images_are_explained_at_once(station: Workspace, tmp_path: Path) -> None:
    wrong = last_object(command("score", station.folder, 1, "--on", "training", "--json"))["wrong"]
    images = [wrong[0]["image"], wrong[1]["image"]]
    out = tmp_path / "out"
    text = command("explain", station.folder, 1, *images, "--method", "all", "--out", out, "--json")
    result = [json.loads(line) for line in text.splitlines()]
    assert [one["image"] for one in result] == images
    for one in result:
        assert {(e["method"]["kind"], e["key"]) for e in one["maps"]} == {
            (method, key) for method in METHODS for key in ("predicted", "true", "difference")
        }
        maps = {(e["method"]["kind"], e["key"]): np.load(e["file"]) for e in one["maps"]}
        for name in ("gradient_times_input", "integrated_gradients", "occlusion"):
            gap = -maps[name, "true"]  # which is set against what is said
            assert maps[name, "difference"] == pytest.approx(gap, abs=1e-3 * float(np.abs(gap).max()) + 1e-5)
        for entry in one["maps"]:
            with Image.open(entry["picture"]) as picture:
                assert picture.size == (2 * 32 * 5, 32 * 5)
        for name in ("contribution", "contribution_alpha_beta", "integrated_gradients"):
            trust = next(e["trust"] for e in one["maps"] if (e["method"]["kind"], e["key"]) == (name, "predicted"))
            assert trust["completeness"]["error"] < (0.1 if name == "integrated_gradients" else 0.01)
    assert "map of said − true" in command("explain", station.folder, 1, images[0], "--out", out)


def test_a_plan_is_written_changed_checked_and_trained(station: Workspace, tmp_path: Path) -> None:
    file = tmp_path / "plan.toml"
    command("plan", "new", "--set", "network=two blocks", "--set", "preprocessing.input_size=24", "--out", file)
    text = file.read_text("utf-8")
    assert "# Times as many images are shown as are in training." in text
    file.write_text(text.replace("epochs = 20", "epochs = 1"), "utf-8")
    assert command("plan", "new", "--plan", file) == file.read_text("utf-8")
    rows = last_object(command("plan", "check", file, "--classes", 6, "--json"))["layers"]
    assert rows[0]["shape"] == [24, 24, 8]
    assert rows[-1]["shape"] == [6]
    assert "24×24×8" in command("plan", "check", file)
    trained = last_object(command("train", station.folder, "--plan", file, "--json"))
    assert trained["epochs"] == 1
    run = station.run(2)
    assert (run.plan().preprocessing.input_size, len(run.plan().augmentation)) == (24, 4)
    bare = file.read_text("utf-8").split("# Changes made")[0] + 'network = "two blocks"\n'
    file.write_text('network = "two blocks"\n[training]\nepochs = 1\n[preprocessing]\ninput_size = 24\n', "utf-8")
    last_object(command("train", station.folder, "--plan", file, "--json"))
    assert station.run(3).plan().augmentation == ()
    file.write_text(bare.replace('network = "two blocks"\n', ""), "utf-8")
    refused = last_object(command("train", station.folder, "--plan", file, "--json", code=2))
    assert "no network" in refused["error"]["what"]
    assert "training.epochs" in command("plan", "keys")


def test_an_epoch_is_told_when_it_is_over_and_none_is_left_out(station: Workspace) -> None:
    err = io.StringIO()
    with contextlib.redirect_stderr(err), contextlib.redirect_stdout(io.StringIO()):
        assert run_words("train", station.folder, *TINY, "--set", "training.epochs=3") == 0
    lines = [line for line in err.getvalue().splitlines() if line.startswith("epoch ") and "training" in line]
    assert [int(line.split()[1]) for line in lines] == [1, 2, 3]
    events, _ = read_events(station.run(2).journal)
    for line, event in zip(lines, [e for e in events if e["event"] == "epoch"], strict=True):
        assert f"loss {event['training']['loss']:.3f}" in line
        assert f"validation {event['validation']['accuracy']:.1%} loss {event['validation']['loss']:.3f}" in line
        assert "learning rate 0.001" in line


@pytest.mark.parametrize("loss", [kind for kind in LOSSES if kind != "binary cross-entropy"])
def test_the_loss_is_one_and_the_same_in_the_journal_and_the_score(loss: str, station: Workspace) -> None:
    more = ["--set", f"loss={loss}", "--set", "optimiser.learning_rate=0.0001"]
    if "label_smoothing" in LOSSES[loss].specs():
        more += ["--set", "loss.label_smoothing=0.2"]
    trained = last_object(command("train", station.folder, *TINY, *more, "--json"))
    scored = last_object(command("score", station.folder, 2, "--json"))
    assert scored["loss_function"] == loss
    assert scored["loss"] == pytest.approx(trained["validation"]["loss"], rel=1e-4)
    events, _ = read_events(station.run(2).journal)
    assert events[0]["loss_function"] == loss
    assert f"loss: {loss}" in command("watch", station.folder, 2)
    assert loss in command("score", station.folder, 2)


def test_watching_follows_a_run_until_it_ends(station: Workspace) -> None:
    plan = station.run(1).plan().changed({"training.epochs": 40})
    run = start_training(station, plan)
    watched = command("watch", station.folder, run.number)
    while reap_children():
        time.sleep(0.02)
    assert len([line for line in watched.splitlines() if line.startswith("epoch ")]) == 40
    assert any(line.endswith("done · epoch 40 of 40") for line in watched.splitlines()[-4:])


def test_causes_are_looked_for_on_validation_and_the_test_set_counts_as_asked(station: Workspace) -> None:
    assert last_object(command("causes", station.folder, 1, "--json"))["on"] == "validation"
    assert not station.run(1).scores_file("test").exists()
    result = last_object(command("causes", station.folder, 1, "--on", "test", "--json"))
    assert result["judged_by_test"] == [1]
    assert last_object(command("score", station.folder, 1, "--json"))["judged_by_test"] == [1]


def test_a_plan_is_shown_with_its_price_and_compared_with_another(station: Workspace, tmp_path: Path) -> None:
    shown = last_object(command("plan", "show", "--set", "network=two blocks", "--classes", 6, "--json"))
    assert shown["price"] is None
    assert sum(layer["share"] for layer in shown["layers"]) == pytest.approx(1)
    assert shown["layers"][0]["receptive_field"] == 3
    assert sum(layer["weights"] for layer in shown["layers"]) == shown["weights"]
    priced = last_object(command("plan", "show", "--workspace", station.folder, "--run", 1, "--threads", "--json"))
    assert [each["threads"] for each in priced["price"]["threads"]][:1] == [1]
    assert all(min(each["forward_seconds"], each["step_seconds"]) > 0 for each in priced["price"]["threads"])
    command("plan", "show", "--threads", "--json", code=2)
    price = priced["price"]
    assert price["batches"] == -(-price["training"] // 16)
    assert price["epoch_seconds"] == pytest.approx(
        price["step_seconds"] * price["training"] / 16 + price["evaluation_seconds"]
    )
    assert 0 < price["memory"] < price["free"]
    words = command("plan", "show", "--workspace", station.folder, "--set", "base.run=1")
    assert "(frozen)" in words
    assert "computed anew each time: augmentation changes every image" in words
    words = command("plan", "show", "--workspace", station.folder, "--set", "base.run=1", "--set", "augmentation=none")
    assert "all up to flatten 1 is frozen: its outputs are computed once" in words
    assert last_object(command("plan", "show", "1", "--workspace", station.folder, "--json"))["name"] == priced["name"]
    assert "s per epoch here" in words
    one, other = tmp_path / "a.toml", tmp_path / "b.toml"
    command("plan", "new", "--set", "network=two blocks", "--out", one)
    command("plan", "new", "--set", "network=three blocks", "--set", "training.epochs=7", "--out", other)
    rows = {row["key"]: row for row in last_object(command("plan", "diff", one, other, "--json"))["differences"]}
    assert (rows["training.epochs"]["one"], rows["training.epochs"]["other"]) == ("20", "7")
    assert rows["network.convolution 3"]["one"] is None
    assert "filters 64" in rows["network.convolution 3"]["other"]
    assert "network.convolution 3" in command("plan", "diff", one, other)
    assert "the same" in command("plan", "diff", one, one)
    assert not any(key.startswith("preprocessing") for key in rows)
