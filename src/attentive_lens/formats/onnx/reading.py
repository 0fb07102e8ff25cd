"""A file of the standard that anybody may have made: looked through before anything of it is believed, then run."""

from __future__ import annotations

import math
from collections import ChainMap
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, replace
from pathlib import Path
from typing import Any

import numpy as np
from google.protobuf.message import DecodeError
from onnx import AttributeProto, ModelProto, NodeProto, TensorProto, helper, numpy_helper

from attentive_lens.errors import BadFile, BadValue, LensError
from attentive_lens.formats.onnx.operators import OPERATORS, Node, Values
from attentive_lens.formats.onnx.operators.base import is_plain

MOST_BYTES, MOST_NODES, MOST_RANK = 2**30, 20_000, 8
"""Of a file; of its graph; axes of an array. More is refused before it is read."""
OLDEST, NEWEST = 6, 28
"""Versions of the standard's operators that are read."""
MOST_AT_ONCE = 2**29
"""Numbers that are kept at once while a graph is run, its own arrays aside."""
MISFITS = (ValueError, TypeError, IndexError, KeyError, ZeroDivisionError, OverflowError, AttributeError)
"""What is raised where a node's settings and inputs do not fit each other."""
DOMAINS = ("", "ai.onnx")
TAKE_ANOTHER = "Export it again, or take another model"


@dataclass(frozen=True)
class OnnxModel:
    """A graph that was looked through.

    Attributes
    ----------
    name : str
        Of the file.
    version : int
        Of the standard's operators.
    inputs : mapping
        Names of what must be given, with their sides; None where one is open.
    outputs : tuple of str
        Names of what comes out.
    nodes : tuple of Node
        In an order in which each stands behind what it takes.
    arrays : mapping
        The graph's own arrays, weights among them.
    properties : mapping
        Words that the maker added.
    """

    name: str
    version: int
    inputs: Mapping[str, tuple[int | None, ...]]
    outputs: tuple[str, ...]
    nodes: tuple[Node, ...]
    arrays: Mapping[str, Values]
    properties: Mapping[str, str]

    def run(self, inputs: Mapping[str, Values], outputs: Sequence[str] = ()) -> dict[str, Values]:
        """What comes out, in the standard's own layout: for checking, not for speed.

        Parameters
        ----------
        inputs : mapping
            An array for each name of `inputs`.
        outputs : sequence of str
            What is wanted; all of `outputs` if left out.

        Raises
        ------
        BadValue
            If an input is missing or has another shape.
        BadFile
            If a node cannot be carried out on these.
        """
        made = self._given(inputs)
        values = ChainMap(made, dict(self.arrays))
        wanted = tuple(outputs) or self.outputs
        last = {name: k for k, node in enumerate(self.nodes) for name in node.inputs}
        for k, node in enumerate(self.nodes):
            made.update(carried_out(node, values))
            for name in node.inputs:  # what nobody needs any more makes room
                if last[name] == k and name not in wanted:
                    made.pop(name, None)
            if sum(value.size for value in made.values()) > MOST_AT_ONCE:
                raise node.refuse("what is to be kept at once is larger than can be meant", "Take a smaller input")
        missing = [name for name in wanted if name not in values]
        if missing:
            raise BadValue(f"{self.name} has no output «{missing[0]}»", "no node makes it", "Ask for another one")
        return {name: values[name] for name in wanted}

    def ending_with(self, begin: str) -> OnnxModel:
        """The part of it that hangs on one value, which is its input then."""
        made = {begin, *self.arrays}
        rest = [node for node in self.nodes if begin not in node.outputs]
        hanging = {begin}
        for node in rest:
            if any(name in hanging for name in node.inputs):
                hanging.update(node.outputs)
        alone = [node for node in rest if not hanging.intersection(node.outputs)]
        for node in alone:  # of the graph's own arrays
            if all(name in made for name in node.inputs if name):
                made.update(node.outputs)
        nodes = tuple(node for node in rest if hanging.intersection(node.outputs) or made.issuperset(node.outputs))
        return replace(self, inputs={begin: ()}, nodes=nodes)

    def _given(self, inputs: Mapping[str, Values]) -> dict[str, Values]:
        for name, sides in self.inputs.items():
            if name not in inputs:
                raise BadValue(f"{self.name} was not run", f"its input «{name}» is missing", "Give an array for it")
            shape = np.shape(inputs[name])
            if sides and (
                len(shape) != len(sides)
                or any(want not in (None, side) for want, side in zip(sides, shape, strict=True))
            ):
                wanted = "×".join("…" if side is None else str(side) for side in sides)
                why = f"«{name}» has the shape {'×'.join(map(str, shape))}, and {wanted} is wanted"
                raise BadValue(f"{self.name} was not run", why, "Bring it to that shape")
        return {name: np.asarray(array) for name, array in inputs.items()}


def carried_out(node: Node, values: Mapping[str, Values]) -> dict[str, Values]:
    """The outputs of a node by name."""
    inputs = [values[name] if name else None for name in node.inputs]
    while inputs and inputs[-1] is None:
        inputs.pop()
    try:
        result = OPERATORS[node.operator](node, *inputs)
    except LensError:
        raise
    except MISFITS as error:
        raise node.refuse(f"what it gets does not fit ({error})") from None
    except MemoryError:
        raise node.refuse("there is not enough memory", "Take a smaller input") from None
    made = result if isinstance(result, tuple) else (result,)
    return {name: value for name, value in zip(node.outputs, made, strict=False) if name}


def read(source: Path | str | bytes) -> OnnxModel:
    """Read a model of the standard, from a file or from its bytes; nothing in it is ever executed.

    Parameters
    ----------
    source : Path, str or bytes
        The file, or what stands in it.

    Raises
    ------
    BadFile
        If it cannot be read, holds what cannot be carried out, or what cannot be meant: with the node and the reason.
    """
    name, data = ("the model", source) if isinstance(source, bytes) else (str(source), _bytes_of(Path(source)))
    if len(data) > MOST_BYTES:
        raise _refused(name, f"it has {len(data) / 2**20:.0f} MB, and {MOST_BYTES / 2**20:.0f} are the most")
    proto = ModelProto()
    try:
        proto.ParseFromString(data)
    except (DecodeError, ValueError, RuntimeError):
        raise _refused(name, "it is no model of the standard, or it is damaged") from None
    return _Reader(name, proto).model()


def _bytes_of(file: Path) -> bytes:
    try:
        if file.stat().st_size > MOST_BYTES:
            raise _refused(str(file), f"it has more than {MOST_BYTES / 2**20:.0f} MB")
        return file.read_bytes()
    except OSError as error:
        raise BadFile(
            f"{file} could not be read", str(error.strerror or error).lower(), "Choose another file"
        ) from None


def _refused(name: str, why: str) -> BadFile:
    return BadFile(f"{name} was not read", why, TAKE_ANOTHER)


class _Reader:
    """One file being looked through."""

    def __init__(self, name: str, proto: ModelProto) -> None:
        self.name, self.proto, self.graph = name, proto, proto.graph
        self.version = self._version()

    def model(self) -> OnnxModel:
        """All that is in it, or the reason why not."""
        if self.graph.sparse_initializer or self.proto.functions or self.proto.training_info:
            raise _refused(self.name, "it holds sparse arrays, functions or steps of training")
        if len(self.graph.node) > MOST_NODES:
            raise _refused(self.name, f"it has {len(self.graph.node)} nodes, and {MOST_NODES} are the most")
        arrays = {tensor.name: self._array(tensor, f"its array «{tensor.name}»") for tensor in self.graph.initializer}
        if len(arrays) != len(self.graph.initializer):
            raise _refused(self.name, "two of its arrays have one name")
        inputs = {each.name: _sides(each) for each in self.graph.input if each.name not in arrays}
        nodes = tuple(self._node(k, node) for k, node in enumerate(self.graph.node))
        outputs = tuple(each.name for each in self.graph.output)
        self._check_ways(nodes, {*arrays, *inputs}, outputs)
        properties = {each.key: each.value for each in self.proto.metadata_props}
        return OnnxModel(self.name, self.version, inputs, outputs, nodes, arrays, properties)

    def _version(self) -> int:
        versions = {each.version for each in self.proto.opset_import if each.domain in DOMAINS}
        if len(versions) != 1:
            raise _refused(self.name, "it does not name one version of the standard's operators")
        version = int(versions.pop())
        if not OLDEST <= version <= NEWEST:
            raise _refused(self.name, f"its operators are of version {version}, and {OLDEST} to {NEWEST} are known")
        return version

    def _node(self, place: int, node: NodeProto) -> Node:
        name = node.name or (node.output[0] if node.output else f"number {place + 1}")
        if node.domain not in DOMAINS or node.op_type not in OPERATORS:
            of = f"{node.domain}." if node.domain not in DOMAINS else ""
            raise _refused(self.name, f"its node «{name}» is a {of}{node.op_type}, which is not known here")
        attributes = {each.name: self._attribute(name, each) for each in node.attribute}
        return Node(name, node.op_type, self.version, tuple(node.input), tuple(node.output), attributes)

    def _attribute(self, node: str, attribute: AttributeProto) -> Any:
        if attribute.type == AttributeProto.TENSOR:
            return self._array(attribute.t, f"the array of its node «{node}»")
        if attribute.type not in (
            AttributeProto.FLOAT, AttributeProto.INT, AttributeProto.STRING,
            AttributeProto.FLOATS, AttributeProto.INTS, AttributeProto.STRINGS,
        ):  # fmt: skip
            raise _refused(self.name, f"its node «{node}» holds a graph or a kind of value that is not known here")
        value = helper.get_attribute_value(attribute)
        if isinstance(value, bytes):
            return value.decode("utf-8", "replace")
        return list(value) if isinstance(value, Iterable) else value

    def _array(self, tensor: TensorProto, what: str) -> Values:
        """An array of plain numbers, as long as it says and no longer than can be meant."""
        if tensor.data_location == TensorProto.EXTERNAL or tensor.external_data:
            raise _refused(self.name, f"{what} stands in another file, and only one file is read")
        try:
            kind = helper.tensor_dtype_to_np_dtype(tensor.data_type)
        except KeyError:
            raise _refused(self.name, f"{what} is of a type that is not known") from None
        if not is_plain(kind):
            raise _refused(self.name, f"{what} holds no plain numbers, but «{kind}»")
        count = math.prod(tensor.dims)
        if len(tensor.dims) > MOST_RANK or min(tensor.dims, default=0) < 0 or count * kind.itemsize > MOST_BYTES:
            raise _refused(self.name, f"{what} has a shape that cannot be meant")
        if tensor.HasField("raw_data") and len(tensor.raw_data) != count * kind.itemsize:
            raise _refused(self.name, f"{what} has {len(tensor.raw_data)} bytes for {count} numbers")
        try:
            array = numpy_helper.to_array(tensor)
        except (ValueError, TypeError, RuntimeError):
            raise _refused(self.name, f"{what} does not have the numbers that its shape asks for") from None
        if array.dtype.kind == "f" and not np.isfinite(array).all():
            raise _refused(self.name, f"{what} holds what is no number, or infinite")
        return array

    def _check_ways(self, nodes: Iterable[Node], known: set[str], outputs: tuple[str, ...]) -> None:
        """Every node stands behind what it takes, and no name is made twice."""
        known = set(known)
        made = {name for node in nodes for name in node.outputs}
        for node in nodes:
            for name in node.inputs:
                if name and name not in known:
                    out_of_order = "stands before it is made: the graph runs in a circle or is out of order"
                    why = out_of_order if name in made else "is made by nothing"
                    raise _refused(self.name, f"what its node «{node.name}» takes, «{name}», {why}")
            twice = [name for name in node.outputs if name in known]
            if twice:
                raise _refused(self.name, f"«{twice[0]}» is made twice, by its node «{node.name}» again")
            known.update(name for name in node.outputs if name)
        if not outputs or not known.issuperset(outputs):
            raise _refused(self.name, "it names no output, or one that is made by nothing")


def _sides(value: Any) -> tuple[int | None, ...]:
    """Sides of an input; None where one is open."""
    return tuple(
        int(dim.dim_value) if dim.HasField("dim_value") and dim.dim_value > 0 else None
        for dim in value.type.tensor_type.shape.dim
    )
