"""A run's model written for other programs answers there as it does here; what cannot be written is told."""

from __future__ import annotations

import json
import sys
from dataclasses import replace
from pathlib import Path

import numpy as np
import onnx
import pytest
from PIL import Image
from safetensors.numpy import load_file
from tests.cli.running import command, last_object

from attentive_lens.core.jobs import finish
from attentive_lens.desk.making import make_workspace
from attentive_lens.desk.requests.exporting import FILES, KINDS, Exported, ExportModel
from attentive_lens.desk.requests.shelf import PutOnShelf
from attentive_lens.desk.tasks import carry_out, exporting
from attentive_lens.desk.training.executing import execute
from attentive_lens.errors import BadFile, BadValue, LensError
from attentive_lens.formats.onnx import checking
from attentive_lens.formats.reading import read_model
from attentive_lens.plan.plan import Plan
from attentive_lens.workspace import Run, Workspace


def exported(station: Workspace, file: Path, **more: object) -> Exported:
    return finish(carry_out(ExportModel(str(station.folder), "1", str(file), **more)))  # type: ignore[arg-type]


def test_the_standard_s_evaluator_gives_the_same_answers(station: Workspace, tmp_path: Path) -> None:
    result = exported(station, tmp_path / "m.onnx")
    assert result.images == 16
    assert result.same == 16
    assert 0 < result.most < 5e-3
    assert result.bytes == (tmp_path / "m.onnx").stat().st_size
    assert "all of 16 images" in " ".join(result.words())
    proto = onnx.load(tmp_path / "m.onnx")
    names = json.loads({each.key: each.value for each in proto.metadata_props}["classes"])
    assert names == list(read_model(station.run(1).model).classes)
    half = exported(station, tmp_path / "half.onnx", half=True, sample=4)
    assert half.images == 4
    assert half.bytes < 0.65 * result.bytes
    assert exported(station, tmp_path / "unchecked.onnx", sample=0).images == 0


def test_a_model_on_the_shelf_is_written_too(station: Workspace, tmp_path: Path) -> None:
    finish(carry_out(PutOnShelf(str(station.folder), "1", "grains")))
    for name in ("grains", "shelf:grains"):
        result = finish(carry_out(ExportModel(str(station.folder), name, str(tmp_path / "m.onnx"))))
        assert (result.images, result.same) == (16, 16)
    finish(carry_out(ExportModel(str(station.folder), "shelf:motifs", str(tmp_path / "base.npz"))))
    assert (tmp_path / "base.npz").stat().st_size > 3e6
    with pytest.raises(LensError, match="Shelf"):
        finish(carry_out(ExportModel(str(station.folder), "gone", str(tmp_path / "m.onnx"))))


def test_a_file_that_answers_otherwise_is_told_of(
    station: Workspace, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    real = exporting.model_of_run

    def other(run: Run) -> object:
        model = real(run)
        output = model.plan.nodes[-1].name
        turned = {name: -array for name, array in model.weights[output].items()}
        return replace(model, weights={**model.weights, output: turned})

    exported(station, tmp_path / "m.onnx", sample=0)
    written = (tmp_path / "m.onnx").read_bytes()
    monkeypatch.setattr(exporting, "model_of_run", other)
    monkeypatch.setattr(
        "attentive_lens.formats.onnx.writing.write_onnx", lambda model, file, half: file.write_bytes(written)
    )
    result = exported(station, tmp_path / "m.onnx")
    assert result.same < result.images
    assert result.most > 0.1
    assert f"{result.same} of {result.images} images" in " ".join(result.words())


def test_pictures_of_any_size_go_in(tmp_path: Path) -> None:
    random = np.random.default_rng(5)
    for name, value in (("dark", 40), ("light", 200)):
        (tmp_path / "images" / name).mkdir(parents=True)
        for k in range(10):
            rows, columns = random.integers(20, 70, 2)
            pixels = (value + random.integers(-30, 30, (rows, columns, 3))).astype(np.uint8)
            Image.fromarray(pixels).save(tmp_path / "images" / name / f"{k}.png")
    place = finish(make_workspace(tmp_path / "work", tmp_path / "images")).workspace
    settings = {"network": "two blocks", "preprocessing.input_size": 24, "training.epochs": 2}
    for number, mode in enumerate(("letterbox", "centre crop", "none"), 1):
        plan = Plan().changed({**settings, "preprocessing.resize_mode": mode})
        finish(execute(place, place.claim_run(plan), lambda: False))
        request = ExportModel(str(place.folder), str(number), str(tmp_path / f"{number}.onnx"), sample=6)
        result = finish(carry_out(request))
        assert result.images > 1
        assert result.same == result.images
        assert result.most < 0.05


def test_weights_alone_are_those_of_the_model(station: Workspace, tmp_path: Path) -> None:
    weights = read_model(station.run(1).model).weights
    flat = {f"{node}/{name}": array for node, arrays in weights.items() for name, array in arrays.items()}
    exported(station, tmp_path / "w.npz")
    exported(station, tmp_path / "w.safetensors")
    with np.load(tmp_path / "w.npz") as arrays:
        for back in (dict(arrays), load_file(tmp_path / "w.safetensors")):
            assert back.keys() == flat.keys()
            assert all(np.array_equal(back[key], flat[key]) for key in flat)
    exported(station, tmp_path / "m.alens")
    assert (tmp_path / "m.alens").read_bytes() == station.run(1).model.read_bytes()


def test_what_cannot_be_written_is_told(station: Workspace, tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    with pytest.raises(BadValue, match=r"its ending is none of \.onnx"):
        exported(station, tmp_path / "m.txt")
    with pytest.raises(BadValue, match="ending"):
        exported(station, tmp_path / "m")
    for ending in KINDS:
        with pytest.raises(BadFile, match="nowhere"):
            exported(station, tmp_path / "nowhere" / f"m{ending}")
        assert f"*{ending})" in FILES
    assert [each.name for each in tmp_path.iterdir()] == [station.folder.name]
    monkeypatch.setattr(sys, "executable", "/bin/false")
    with pytest.raises(BadFile, match="it ended at once"):
        exported(station, tmp_path / "m.onnx")


def test_a_check_that_takes_too_long_is_ended(
    station: Workspace, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(checking, "LONGEST", 0.0)
    with pytest.raises(BadFile, match="it took longer than 0 s"):
        exported(station, tmp_path / "m.onnx")
    assert (tmp_path / "m.onnx").exists(), "the file was written, it was not checked"


def test_the_command_exports(station: Workspace, tmp_path: Path) -> None:
    result = last_object(command("export", station.folder, 1, "--out", tmp_path / "m.onnx", "--sample", 3, "--json"))
    assert (result["images"], result["same"]) == (3, 3)
    assert "MB" in command("export", station.folder, 1, "--out", tmp_path / "w.npz")
    refused = last_object(command("export", station.folder, 1, "--out", tmp_path / "m.doc", "--json", code=1))["error"]
    assert "ending" in refused["why"]


def test_sixteen_bits_take_half_the_room_in_every_kind_of_file(station: Workspace, tmp_path: Path) -> None:
    for ending in (".alens", ".npz", ".safetensors"):
        whole = exported(station, tmp_path / f"whole{ending}", sample=0)
        half = exported(station, tmp_path / f"half{ending}", half=True, sample=0)
        assert half.bytes < 0.75 * whole.bytes, ending
    whole_model, half_model = (read_model(tmp_path / f"{name}.alens") for name in ("whole", "half"))
    for node, arrays in whole_model.weights.items():
        for name, array in arrays.items():
            stored = half_model.weights[node][name]
            assert stored.dtype == np.float32, "it is computed with as ever"
            assert np.array_equal(stored, array.astype(np.float16).astype(np.float32))
    rows = load_file(tmp_path / "half.safetensors")
    assert {array.dtype for array in rows.values()} == {np.dtype(np.float16)}
