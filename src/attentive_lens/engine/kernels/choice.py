"""Which kernel a convolution runs by: a rule of its shape alone, so that the same plan always runs the same way."""

from __future__ import annotations

from attentive_lens.engine.kernels import tiles
from attentive_lens.plan.layers import Convolution, Shape

KERNELS = ("auto", "gather", "tiles")
"""What can be asked for: the rule's choice, or one kernel wherever it applies."""
FEWEST = 16
"""Channels and filters below which tiles cost more than they save."""
LEAST = 2.0
"""Times fewer multiply-adds that tiles must need: maps whose side fills its tiles badly are gathered."""


def kernel_for(layer: Convolution, input_shape: Shape, choice: str = "auto") -> str:
    """«gather», «tiles» or «depthwise», for one image's input shape."""
    if layer.groups > 1 and layer.groups == input_shape[2]:
        return "depthwise"
    (top, _), (left, _) = layer.pads
    fits = layer.kernel_size == 3 and top == left and layer.stride == layer.dilation == layer.groups == 1
    if not fits or choice == "gather":
        return "gather"
    if choice == "tiles":
        return "tiles"
    rows, columns, filters = layer.output_shape(input_shape)
    spent = tiles.PLACES * -(-rows // tiles.SIDE) * -(-columns // tiles.SIDE)
    saved = 9 * rows * columns / spent
    return "tiles" if min(input_shape[2], filters) >= FEWEST and saved >= LEAST else "gather"
