"""Files of the open format are asked, explained and built upon like models of ours."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import onnx
import pytest
from onnx import helper, numpy_helper
from tests.cli.running import command, last_object

import attentive_lens as al
from attentive_lens.core.jobs import finish
from attentive_lens.desk.requests.exporting import ExportModel
from attentive_lens.desk.requests.importing import ImportModel
from attentive_lens.desk.tasks import carry_out, importing
from attentive_lens.desk.training.executing import execute
from attentive_lens.errors import BadFile
from attentive_lens.formats.reading import read_model
from attentive_lens.workspace import Workspace


@pytest.fixture
def file(station: Workspace, tmp_path: Path) -> Path:
    """The model of run 1, as another program gets it."""
    where = tmp_path / "grains.onnx"
    finish(carry_out(ExportModel(str(station.folder), "1", str(where), sample=0)))
    return where


def test_a_model_comes_back_and_answers_the_same(station: Workspace, file: Path, tmp_path: Path) -> None:
    said = command("import-model", file, "--out", tmp_path / "back.alens")
    assert "6 classes" in said
    result = last_object(command("import-model", file, "--out", tmp_path / "back.alens", "--json"))
    assert result["most"] < 1e-5
    assert result["assumed"] == []
    image = station.path_of(station.catalogue.images()[0])
    answers = [
        al.open_model(each).predict([image])[0] for each in (file, tmp_path / "back.alens", station.run(1).model)
    ]
    assert answers[0] == answers[1] == answers[2]
    maps = [al.open_model(each).explain(image) for each in (file, station.run(1).model)]
    assert np.array_equal(*maps)


def test_a_network_is_built_on_such_a_file(station: Workspace, file: Path) -> None:
    model = read_model(file)
    until = [node.name for node in model.plan.nodes if node.layer.kind == "max pooling"][-1]
    settings = {"base.model": str(file), "base.until": until, "training.epochs": 1, "base.take_preprocessing": True}
    plan = station.run(1).plan().changed(settings)
    number = station.claim_run(plan).number
    finish(execute(station, station.run(number), lambda: False))
    trained = read_model(station.run(number).model)
    first = next(node.name for node in model.plan.nodes if node.layer.kind == "convolution")
    assert np.array_equal(trained.weights[first]["kernel"], model.weights[first]["kernel"]), "it was frozen"


def strange(file: Path, **more: object) -> Path:
    """A classifier of images 3×8×8 by another program, with settings of its last node."""
    end = helper.make_node("Softmax", ["s"], ["y"], name="end", **more)
    nodes = [
        helper.make_node("GlobalMaxPool", ["x"], ["p"]),
        helper.make_node("Flatten", ["p"], ["f"]),
        helper.make_node("Gemm", ["f", "m"], ["s"]),
        end,
    ]
    graph = helper.make_graph(
        nodes,
        "g",
        [helper.make_tensor_value_info("x", 1, ["n", 3, 8, 8])],
        [helper.make_tensor_value_info("y", 1, None)],
        [numpy_helper.from_array(np.random.default_rng(0).standard_normal((3, 4)).astype(np.float32), "m")],
    )
    onnx.save(helper.make_model(graph, opset_imports=[helper.make_opsetid("", 17)]), file)
    return file


def test_what_a_file_of_others_does_not_say_is_given_or_assumed(tmp_path: Path) -> None:
    file = strange(tmp_path / "s.onnx")
    out = tmp_path / "s.alens"
    said = command("import-model", file, "--out", out)
    assert "It does not say what its pixels become" in said
    assert "It has no names of its classes" in said
    names = [word for name in "abcd" for word in ("--class", name)]
    figures = ["--mean", "0.5", "--std", "0.2", "--std", "0.3", "--std", "0.4"]
    result = last_object(command("import-model", file, "--out", out, *names, *figures, "--json"))
    assert result["assumed"] == []
    assert result["classes"] == ["a", "b", "c", "d"]
    assert read_model(out).preprocessor.std == (0.2, 0.3, 0.4)
    for more, why in ((["--class", "a"], "it has 4 classes"), (["--mean", "no"], "no numbers for --mean"),
                      (["--mean", "1", "--mean", "2"], "3 channels, and 2 figures")):  # fmt: skip
        error = last_object(command("import-model", file, "--out", out, *more, "--json", code=1))["error"]
        assert why in error["why"]


def test_what_cannot_be_taken_in_leaves_nothing_behind(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    file, out = strange(tmp_path / "s.onnx", axis=0), tmp_path / "s.alens"
    with pytest.raises(BadFile, match="its Softmax «end» is no layer of ours"):
        finish(carry_out(ImportModel(str(file), str(out))))
    (tmp_path / "none.onnx").write_text("no model")
    with pytest.raises(BadFile, match="was not read"):
        finish(carry_out(ImportModel(str(tmp_path / "none.onnx"), str(out))))
    with pytest.raises(BadFile, match="nowhere"):
        finish(carry_out(ImportModel(str(strange(tmp_path / "s.onnx")), str(tmp_path / "nowhere" / "s.alens"))))
    monkeypatch.setattr(importing, "_apart", lambda *_: 0.5)
    with pytest.raises(BadFile, match=r"differs from it by 0\.5 of its greatest output"):
        finish(carry_out(ImportModel(str(file), str(out))))
    assert not out.exists()


def test_one_score_of_two_classes_is_taken_in_and_no_number_is_not(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    nodes = [helper.make_node("GlobalMaxPool", ["x"], ["p"]), helper.make_node("Flatten", ["p"], ["f"]),
             helper.make_node("MatMul", ["f", "m"], ["s"]), helper.make_node("Sigmoid", ["s"], ["y"])]  # fmt: skip
    ends = [helper.make_tensor_value_info("x", 1, ["n", 3, 8, 8]), helper.make_tensor_value_info("y", 1, None)]
    weights = numpy_helper.from_array(np.array([[0.5], [-1], [0.25]], np.float32), "m")
    graph = helper.make_graph(nodes, "g", ends[:1], ends[1:], [weights])
    onnx.save(helper.make_model(graph, opset_imports=[helper.make_opsetid("", 17)]), tmp_path / "one.onnx")
    request = ImportModel(str(tmp_path / "one.onnx"), str(tmp_path / "one.alens"))
    result = finish(carry_out(request))
    assert (result.output, len(result.classes)) == ("one sigmoid", 2)
    assert result.most < 1e-5
    monkeypatch.setattr(importing, "_apart", lambda *_: float("nan"))
    with pytest.raises(BadFile, match="differs from it by nan"):
        finish(carry_out(request))
