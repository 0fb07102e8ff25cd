"""The operators of the standard that an image classifier is made of, in its own layout, by their names."""

from __future__ import annotations

from attentive_lens.formats.onnx.operators.base import Node, Operator, Values
from attentive_lens.formats.onnx.operators.elementwise import ELEMENTWISE
from attentive_lens.formats.onnx.operators.reckoning import RECKONING
from attentive_lens.formats.onnx.operators.resizing import RESIZING
from attentive_lens.formats.onnx.operators.shaping import SHAPING
from attentive_lens.formats.onnx.operators.windows import WINDOWS

OPERATORS: dict[str, Operator] = {**ELEMENTWISE, **SHAPING, **WINDOWS, **RECKONING, **RESIZING}
"""Each family's table stands at the end of its file."""

__all__ = ["OPERATORS", "Node", "Operator", "Values"]
