from __future__ import annotations

import json
import zipfile
from dataclasses import replace
from pathlib import Path

import numpy as np
import pytest
from safetensors.numpy import load

from attentive_lens.engine.arrays import Array
from attentive_lens.engine.network import Network
from attentive_lens.errors import BadFile
from attentive_lens.formats.bundle import ModelFile
from attentive_lens.formats.reading import read_checkpoint, read_model
from attentive_lens.images.preprocessing import Preprocessor
from attentive_lens.plan.blocks import built
from attentive_lens.plan.layers import Connected, Flatten, Output
from attentive_lens.plan.preprocessing import Preprocessing
from attentive_lens.plan.starters import STARTERS


@pytest.fixture
def model() -> ModelFile:
    preprocessing = Preprocessing(input_size=16)
    plan = STARTERS["two blocks"].network.with_outputs(3)
    network = Network.start(plan, preprocessing.shape, 4)
    preprocessor = Preprocessor(preprocessing, (0.1, 0.2, 0.3), (0.5, 0.6, 0.7))
    return ModelFile(plan, network.weights, preprocessor, ("smooth", "spiny", "winged"), card={"run": 3})


def test_a_model_saved_and_read_answers_with_the_same_bits(model: ModelFile, tmp_path: Path) -> None:
    model.write(tmp_path / "m.alens")
    back = read_model(tmp_path / "m.alens")
    images = np.random.default_rng(0).random((2, 16, 16, 3), np.float32)
    first = model.network().forward(images).outputs["output"]
    assert np.array_equal(back.network().forward(images).outputs["output"], first)
    assert (back.plan, back.preprocessor) == (model.plan, model.preprocessor)
    assert (back.classes, back.card) == (model.classes, model.card)
    assert [p.name for p in tmp_path.iterdir()] == ["m.alens"]


def test_a_model_file_can_be_read_without_us(model: ModelFile, tmp_path: Path) -> None:
    model.write(tmp_path / "m.alens")
    with zipfile.ZipFile(tmp_path / "m.alens") as archive:
        assert json.loads(archive.read("classes.json")) == ["smooth", "spiny", "winged"]
        kinds = [node["layer"] for node in json.loads(archive.read("network.json"))["nodes"]]
        assert kinds[:3] == ["convolution", "relu", "max pooling"]
        assert load(archive.read("weights.safetensors"))["convolution 1/kernel"].shape == (3, 3, 3, 8)


def test_optimiser_arrays_travel_with_a_checkpoint(model: ModelFile, tmp_path: Path) -> None:
    shape = model.weights["output"]["bias"].shape
    replace(model, optimiser={"output/bias/mean": np.ones(shape, np.float32)}).write(tmp_path / "c.alens")
    assert read_checkpoint(tmp_path / "c.alens").optimiser["output/bias/mean"].tolist() == [1, 1, 1]
    assert read_model(tmp_path / "c.alens").optimiser == {}, "not read where nothing goes on"


def rewritten(file: Path, name: str, data: bytes | None) -> Path:
    """A copy of a model file with one part replaced, or left out."""
    other = file.with_name("other.alens")
    with zipfile.ZipFile(file) as old, zipfile.ZipFile(other, "w") as new:
        for entry in old.namelist():
            if entry != name:
                new.writestr(entry, old.read(entry))
            elif data is not None:
                new.writestr(entry, data)
    return other


def test_damaged_model_files_are_refused_in_words(model: ModelFile, tmp_path: Path) -> None:
    file = tmp_path / "m.alens"
    model.write(file)
    whole = file.read_bytes()
    (tmp_path / "cut.alens").write_bytes(whole[: len(whole) // 2])
    (tmp_path / "text.alens").write_bytes(b"not a model")
    network = {"format": 9, "nodes": [], "output": "softmax", "kernels": {}}
    cases = {
        tmp_path / "cut.alens": "not a whole model file",
        tmp_path / "text.alens": "not a whole model file",
        rewritten(file, "classes.json", b'["a", "b"]'): "do not go with its 3 scores",
    }
    for damaged, reason in cases.items():
        with pytest.raises(BadFile, match=reason):
            read_model(damaged)
    for name, data, reason in (
        ("weights.safetensors", None, "not a whole model file"),
        ("weights.safetensors", b"\0" * 40, "damaged"),
        ("network.json", json.dumps(network).encode(), "reads format 1"),
        ("preprocessing.json", b"{}", "mean does not have a number"),
    ):
        with pytest.raises(BadFile, match=reason):
            read_model(rewritten(file, name, data))
    with pytest.raises(BadFile, match="no such file"):
        read_model(tmp_path / "none.alens")


def test_weights_that_do_not_fit_or_are_no_numbers_are_refused(model: ModelFile, tmp_path: Path) -> None:
    file = tmp_path / "m.alens"
    kernel = model.weights["convolution 1"]["kernel"]
    model.weights["convolution 1"]["kernel"] = kernel[:2]
    model.write(file)
    with pytest.raises(BadFile, match=r"weights of convolution 1 \(kernel\) are .* not of the shape"):
        read_model(file)
    model.weights["convolution 1"]["kernel"] = np.full_like(kernel, np.nan)
    model.write(file)
    with pytest.raises(BadFile, match="not numbers"):
        read_model(file)


def test_a_folder_that_cannot_be_written_is_said(model: ModelFile, tmp_path: Path) -> None:
    with pytest.raises(BadFile, match="could not be written"):
        model.write(tmp_path / "none" / "m.alens")


def test_a_checkpoint_of_many_weights_holds_all_that_training_keeps_of_them(tmp_path: Path) -> None:
    wide = built([Flatten(), Connected(4200), Output(units=2)])
    network = Network.start(wide, (32, 32, 1), 1)
    optimiser: dict[str, Array] = {
        f"{node}/{name}/{stored}": np.zeros_like(array)
        for node, arrays in network.weights.items()
        for name, array in arrays.items()
        for stored in ("mean", "square", "greatest", "average")
    }
    preprocessor = Preprocessor(Preprocessing(input_size=32, colour_space="grey"), (0.5,), (1.0,))
    model = ModelFile(wide, network.weights, preprocessor, ("smooth", "spiny"), optimiser=optimiser)
    model.write(tmp_path / "last.alens")
    assert read_checkpoint(tmp_path / "last.alens").optimiser.keys() == optimiser.keys()


def test_a_weight_that_sixteen_bits_cannot_hold_is_refused_and_nothing_is_written(
    model: ModelFile, tmp_path: Path
) -> None:
    node, arrays = next(iter(model.weights.items()))
    name, array = next(iter(arrays.items()))
    large = replace(model, weights={**model.weights, node: {**arrays, name: np.full_like(array, 70_000)}})
    with pytest.raises(BadFile, match="16 bits"):
        large.write(tmp_path / "m.alens", half=True)
    assert list(tmp_path.iterdir()) == []
    large.write(tmp_path / "m.alens")
    assert float(read_model(tmp_path / "m.alens").weights[node][name].max()) == 70_000
