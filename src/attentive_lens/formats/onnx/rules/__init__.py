"""How the nodes of the standard become layers of ours: a rule for each operator."""

from __future__ import annotations

from attentive_lens.formats.onnx.rules.arithmetic import ARITHMETIC
from attentive_lens.formats.onnx.rules.base import Rule
from attentive_lens.formats.onnx.rules.maps import MAPS
from attentive_lens.formats.onnx.rules.shaping import SHAPING

RULES: dict[str, Rule] = {**MAPS, **ARITHMETIC, **SHAPING}
"""By the operator; what has none can be run, and not taken in. Each family's table stands at the end of its file."""
