"""The standard's own cases come out as it says, and what nobody can mean is refused before it does harm."""

from __future__ import annotations

import warnings
from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path

import numpy as np
import onnx
import onnx.backend.test
import pytest
from onnx import TensorProto, helper, numpy_helper

from attentive_lens.errors import BadFile, BadValue
from attentive_lens.formats.onnx import reading
from attentive_lens.formats.onnx.operators import OPERATORS
from attentive_lens.formats.onnx.operators.base import is_plain
from attentive_lens.formats.onnx.reading import read

CASES = Path(onnx.backend.test.__file__).parent / "data"
LARGE = sorted((CASES / "light").glob("*.onnx"))
FOLDERS = sorted(each for kind in ("*-converted", "*-operator", "simple") for each in CASES.glob(f"{kind}/test_*"))


@dataclass(frozen=True)
class Case:
    """A model of the standard with inputs and what must come out."""

    name: str
    data: bytes
    sets: tuple[tuple[list[np.ndarray], list[np.ndarray]], ...]
    rtol: float = 1e-3
    atol: float = 1e-5


def in_scope(proto: onnx.ModelProto) -> bool:
    """Whether all its operators are known here and all its values are plain numbers."""
    kinds = {each.type.tensor_type.elem_type for each in (*proto.graph.input, *proto.graph.output)}
    plain = all(kind and is_plain(helper.tensor_dtype_to_np_dtype(kind)) for kind in kinds)
    return plain and all(node.op_type in OPERATORS and node.domain in ("", "ai.onnx") for node in proto.graph.node)


def made_cases() -> Iterator[Case]:
    """Those that the package makes."""
    from onnx.backend.test.case.node import collect_testcases

    with warnings.catch_warnings():
        warnings.simplefilter("ignore")
        for case in collect_testcases(None):
            if in_scope(case.model):
                sets = tuple(
                    ([plain(x) for x in inputs], [plain(x) for x in outputs]) for inputs, outputs in case.data_sets
                )
                yield Case(case.name, case.model.SerializeToString(), sets, case.rtol, max(case.atol, 1e-6))


def plain(values: object) -> np.ndarray:
    return numpy_helper.to_array(values) if isinstance(values, TensorProto) else np.asarray(values)


def tensor(file: Path) -> np.ndarray:
    proto = TensorProto()
    proto.ParseFromString(file.read_bytes())
    return numpy_helper.to_array(proto)


def stored_case(folder: Path) -> Case | None:
    """One that the package carries."""
    data = (folder / "model.onnx").read_bytes()
    if not in_scope(onnx.load_model_from_string(data)):
        return None
    sets = []
    for each in sorted(folder.glob("test_data_set_*")):
        parts = ([tensor(each / f"{kind}_{k}.pb") for k in range(len(list(each.glob(f"{kind}_*.pb"))))]
                 for kind in ("input", "output"))  # fmt: skip
        sets.append(tuple(parts))
    return Case(folder.name, data, tuple(sets))  # type: ignore[arg-type]


def wrong(case: Case) -> str:
    """What does not come out as it should; empty where all does."""
    try:
        model = read(case.data)
        for inputs, outputs in case.sets:
            given = dict(zip(model.inputs, inputs, strict=False))
            results = model.run(given)
            for name, want in zip(model.outputs, outputs, strict=False):
                got = results[name]
                if got.shape != want.shape or got.dtype != want.dtype:
                    return f"{got.dtype}{got.shape} in place of {want.dtype}{want.shape}"
                if not np.allclose(got, want, case.rtol, case.atol, equal_nan=True):
                    return f"off by {np.nanmax(np.abs(got.astype(np.float64) - want.astype(np.float64))):.3g}"
    except (BadFile, BadValue) as error:
        return str(error)
    return ""


TRAINING = "as in training, which a model at inference does not ask for"
EXCLUDED = {
    "test_batchnorm_example_training_mode": TRAINING,
    "test_batchnorm_epsilon_training_mode": TRAINING,
    "test_training_dropout": TRAINING,
    "test_training_dropout_default": TRAINING,
    "test_training_dropout_default_mask": TRAINING,
    "test_training_dropout_mask": TRAINING,
}
"""Cases that do not come out, and why; one that does is to be taken off."""


def test_the_standard_s_cases_come_out_as_it_says() -> None:
    cases = [*made_cases(), *(case for folder in FOLDERS if (case := stored_case(folder)) is not None)]
    assert len(cases) > 650
    faults = {case.name: why for case in cases if (why := wrong(case))}
    assert faults.keys() == EXCLUDED.keys(), {name: why for name, why in faults.items() if name not in EXCLUDED}


@pytest.mark.parametrize("number", range(len(LARGE)))
def test_the_standard_s_large_graphs_come_out_as_it_says(number: int) -> None:
    file = LARGE[number]
    model, want = read(file), tensor(file.with_name(f"{file.stem}_output_0.pb"))
    ((name, sides),) = model.inputs.items()
    values = np.arange(np.prod(sides), dtype=np.float32).reshape(sides) / np.prod(sides)  # type: ignore[arg-type]
    got = model.run({name: values})[model.outputs[0]]
    assert got.shape == want.shape
    assert np.allclose(got, want, rtol=5e-3, atol=1e-6)


def small(*nodes: onnx.NodeProto, opset: int = 17, **arrays: np.ndarray) -> onnx.ModelProto:
    """A model from «x», 1×2×4×4, to «y»."""
    value = helper.make_tensor_value_info("x", TensorProto.FLOAT, [1, 2, 4, 4])
    out = helper.make_tensor_value_info("y", TensorProto.FLOAT, None)
    tensors = [numpy_helper.from_array(array, name) for name, array in arrays.items()]
    graph = helper.make_graph(list(nodes), "g", [value], [out], tensors)
    return helper.make_model(graph, opset_imports=[helper.make_opsetid("", opset)])


X = np.arange(32, dtype=np.float32).reshape(1, 2, 4, 4)


def refusal(proto: onnx.ModelProto, run: bool = False) -> str:
    with pytest.raises(BadFile) as caught:
        model = read(proto.SerializeToString())
        if run:
            model.run({"x": X})
    return str(caught.value)


def test_a_small_graph_is_read_and_run(tmp_path: Path) -> None:
    proto = small(helper.make_node("Relu", ["x"], ["h"]), helper.make_node("Add", ["h", "one"], ["y"]),
                  one=np.ones(1, np.float32))  # fmt: skip
    (tmp_path / "m.onnx").write_bytes(proto.SerializeToString())
    model = read(tmp_path / "m.onnx")
    assert (model.inputs, model.outputs, model.version) == ({"x": (1, 2, 4, 4)}, ("y",), 17)
    assert np.array_equal(model.run({"x": X})["y"], X + 1)
    assert np.array_equal(model.run({"x": X - 9}, ["h"])["h"], np.maximum(X - 9, 0))
    with pytest.raises(BadValue, match="«x» is missing"):
        model.run({})
    with pytest.raises(BadValue, match="1×2×4×4 is wanted"):
        model.run({"x": X[:, :1]})
    with pytest.raises(BadValue, match="no output «z»"):
        model.run({"x": X}, ["z"])


def relu(given: str = "x", made: str = "y") -> onnx.NodeProto:
    return helper.make_node("Relu", [given], [made], name=f"relu of {given}")


def test_what_a_graph_must_not_be_is_told_with_the_node() -> None:
    assert "what its node «relu of a» takes, «a», is made by nothing" in refusal(small(relu("a")))
    assert "runs in a circle" in refusal(small(relu("h", "y"), relu("y", "h")))
    assert "«y» is made twice" in refusal(small(relu(), relu()))
    assert "names no output" in refusal(small(relu("x", "h")))
    strange = helper.make_node("Attention", ["x"], ["y"], name="deep")
    assert "its node «deep» is a Attention, which is not known" in refusal(small(strange))
    other = helper.make_node("Relu", ["x"], ["y"], name="own", domain="some.where")
    assert "«own» is a some.where.Relu" in refusal(small(other))
    assert "of version 3" in refusal(small(relu(), opset=3))
    assert "of version 99" in refusal(small(relu(), opset=99))
    inner = helper.make_graph([relu()], "inner", [], [])
    holds = helper.make_node("Relu", ["x"], ["y"], name="deep", body=inner)
    assert "«deep» holds a graph" in refusal(small(holds))


def test_arrays_that_cannot_be_meant_are_refused() -> None:
    add = helper.make_node("Add", ["x", "w"], ["y"])
    assert "infinite" in refusal(small(add, w=np.array([np.inf], np.float32)))
    assert "no number" in refusal(small(add, w=np.array([np.nan], np.float32)))
    for change, why in (
        (lambda t: t.dims.__setitem__(0, 5), "bytes for 5 numbers"),
        (lambda t: t.dims.__setitem__(0, 2**40), "a shape that cannot be meant"),
        (lambda t: t.dims.__setitem__(0, -1), "a shape that cannot be meant"),
        (lambda t: t.dims.extend([1] * 12), "a shape that cannot be meant"),
        (lambda t: setattr(t, "data_type", 77), "a type that is not known"),
        (lambda t: setattr(t, "data_type", TensorProto.STRING), "no plain numbers"),
        (lambda t: setattr(t, "data_location", TensorProto.EXTERNAL), "stands in another file"),
    ):
        proto = small(add, w=np.ones(2, np.float32))
        change(proto.graph.initializer[0])
        assert why in refusal(proto), why
    proto = small(add, w=np.ones(1, np.float32))
    proto.graph.initializer.append(proto.graph.initializer[0])
    assert "one name" in refusal(proto)


def test_what_would_take_all_memory_is_refused_before_it_does() -> None:
    huge = np.array([2**20, 2**20], np.int64)
    expand = helper.make_node("Expand", ["one", "w"], ["y"], name="wide")
    assert "larger than can be meant" in refusal(small(expand, w=huge, one=np.ones(1, np.float32)), run=True)
    fill = helper.make_node("ConstantOfShape", ["w"], ["y"], name="wide")
    assert "larger than can be meant" in refusal(small(fill, w=huge), run=True)
    border = helper.make_node("Pad", ["x", "w"], ["y"], name="wide")
    pads = np.array([0, 0, 2**20, 2**20, 0, 0, 0, 0], np.int64)
    assert "larger than can be meant" in refusal(small(border, w=pads), run=True)
    grown = helper.make_node("Resize", ["x", "", "w"], ["y"], name="wide")
    assert "larger than can be meant" in refusal(small(grown, w=np.array([1, 1, 9999, 9999], np.float32)), run=True)
    looks = helper.make_node("Conv", ["x", "w"], ["y"], name="wide", pads=[3000] * 4)
    assert "what it looks at" in refusal(small(looks, w=np.ones((1, 2, 3, 3), np.float32)), run=True)
    many = [helper.make_node("Expand", ["x", "w"], [f"h{k}"], name=f"wide {k}") for k in range(9)]
    many.append(helper.make_node("Sum", [f"h{k}" for k in range(9)], ["y"]))
    sides = np.array([2**21, 2, 4, 4], np.int64)
    assert "kept at once" in refusal(small(*many, w=sides), run=True)
    looks = helper.make_node("Conv", ["x", "w"], ["y"], name="wide", pads=[2**30] * 4)
    assert "cannot be meant" in refusal(small(looks, w=np.ones((1, 2, 3, 3), np.float32)), run=True)


@pytest.mark.parametrize(
    ("operator", "attributes", "why"),
    [
        ("Conv", {"group": 3}, "in 3 groups do not fit 2 channels"),
        ("Conv", {"strides": [1]}, "does not have the 2 axes"),
        ("Conv", {"strides": [0, 1]}, "cannot be meant"),
        ("Conv", {"auto_pad": "UPWARD"}, "padding «UPWARD» is not known"),
        ("Conv", {"dilations": [9, 9]}, "does not fit on maps"),
        ("Transpose", {"perm": [0, 1, 1, 2]}, "are not axes"),
        ("Transpose", {"perm": [0, 1]}, "what it gets does not fit"),
        ("Softmax", {"axis": 9}, "what it gets does not fit"),
        ("Cast", {"to": TensorProto.STRING}, "no plain numbers"),
        ("Concat", {"axis": 7}, "what it gets does not fit"),
    ],
)
def test_settings_that_do_not_fit_are_told_by_their_node(
    operator: str, attributes: dict[str, object], why: str
) -> None:
    inputs = ["x", "w"] if operator == "Conv" else ["x"]
    node = helper.make_node(operator, inputs, ["y"], name="odd", **attributes)
    said = refusal(small(node, w=np.ones((4, 2, 3, 3), np.float32)), run=True)
    assert f"{operator} «odd» cannot be carried out" in said
    assert why in said


def test_damaged_files_and_none_are_refused(tmp_path: Path) -> None:
    whole = small(relu()).SerializeToString()
    random = np.random.default_rng(0)
    read_ = 0
    for k in range(1500):
        data = bytearray(whole)
        for place in random.integers(0, len(data), random.integers(1, 4)):
            data[place] = random.integers(0, 256)
        try:
            model = read(bytes(data[: len(data) if k % 3 else random.integers(0, len(data))]))
            model.run(dict.fromkeys(model.inputs, X))
            read_ += 1
        except (BadFile, BadValue):
            pass
    assert 0 < read_ < 1500
    with pytest.raises(BadFile, match="could not be read"):
        read(tmp_path / "none.onnx")
    with pytest.raises(BadFile, match=r"no model of the standard|does not name one version"):
        read(b"")


def test_a_file_that_is_too_large_or_has_too_many_nodes_is_not_read(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    data = small(relu("x", "a"), relu("a", "b"), relu("b", "y")).SerializeToString()
    (tmp_path / "m.onnx").write_bytes(data)
    monkeypatch.setattr(reading, "MOST_NODES", 2)
    with pytest.raises(BadFile, match="it has 3 nodes, and 2 are the most"):
        read(data)
    monkeypatch.setattr(reading, "MOST_BYTES", 9)
    for source in (data, tmp_path / "m.onnx"):
        with pytest.raises(BadFile, match="MB"):
            read(source)
