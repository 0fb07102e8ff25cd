"""A graph of the standard as it grows: nodes in order, constants, and names that are never used twice."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

import numpy as np
from numpy.typing import NDArray
from onnx import NodeProto, TensorProto, ValueInfoProto, helper, numpy_helper

COUNT = "images"
"""Name of the open number of images."""
OPSET = 21
"""Version of the standard's operators that graphs are written in: its group normalisation scales channel by channel."""


class Graph:
    """Nodes and constants, by the names of their outputs.

    Parameters
    ----------
    half : bool
        Whether arrays of weights are stored in 16 bits, half as large; they are turned to 32 where they are used.
    """

    def __init__(self, half: bool = False) -> None:
        self.half = half
        self.nodes: list[NodeProto] = []
        self.constants: list[TensorProto] = []
        self.inputs: list[ValueInfoProto] = []
        self._names: set[str] = set()

    def add(self, operator: str, *inputs: str, name: str = "", **attributes: Any) -> str:
        """A node with one output; gives the output's name, which is ``name`` where that is still free."""
        output = self._free(name or operator.lower())
        self.nodes.append(helper.make_node(operator, list(inputs), [output], name=output, **attributes))
        return output

    def add_input(self, name: str, shape: Sequence[int | str], kind: int = TensorProto.FLOAT) -> str:
        """What is fed for each image, an array of this shape each; its name, which is ``name`` where that is free."""
        name = self._free(name)
        self.inputs.append(helper.make_tensor_value_info(name, kind, [COUNT, *shape]))
        return name

    def constant(self, values: NDArray[Any] | float, name: str = "constant") -> str:
        """An array as it is: numbers of a formula, indices; float64 becomes float32."""
        array = np.asarray(values)
        array = array.astype(np.float32) if array.dtype == np.float64 else array
        name = self._free(name)
        self.constants.append(numpy_helper.from_array(np.array(array, order="C"), name))
        return name

    def whole(self, numbers: Sequence[int]) -> str:
        """Whole numbers, int64: sides, axes, places."""
        return self.constant(np.array(numbers, np.int64), "numbers")

    def weights(self, values: NDArray[np.float32], name: str) -> str:
        """An array that was learned, float32, stored in 16 bits where the graph is so."""
        if not self.half:
            return self.constant(values, name)
        stored = self.constant(values.astype(np.float16), f"{name} in 16 bits")
        return self.add("Cast", stored, name=name, to=TensorProto.FLOAT)

    def _free(self, name: str) -> str:
        """That name, or with the first number behind it that is free."""
        free, number = name, 1
        while free in self._names:
            number += 1
            free = f"{name} {number}"
        self._names.add(free)
        return free
