"""Which kernel a convolution runs by: a rule of its shape alone, so that the same plan always runs the same way."""

from __future__ import annotations

from attentive_lens.plan.layers import Convolution, Shape

KERNELS = ("auto", "direct", "tiles")
"""What can be asked for: the rule's choice, or one kernel wherever it applies."""
SIDE, PLACES = 4, 36
"""Output pixels on a tile's side, and places of the transformed tile; see `kernels.tiles`."""
FEWEST = 32
"""Channels and filters below which tiles cost more than they save."""
LEAST = 2.0
"""Times fewer multiply-adds that tiles must need: maps whose side fills its tiles badly are convolved directly."""
FEWEST_FOR_WEIGHTS, LEAST_AREA = 64, 196
"""Channels and filters, and pixels of a map, below which the gradient of the weights is not taken by tiles."""


def kernel_for(layer: Convolution, input_shape: Shape, choice: str = "auto") -> str:
    """«direct», «tiles» or «depthwise», for one image's input shape."""
    if layer.groups > 1 and layer.groups == input_shape[2]:
        return "depthwise"
    (top, _), (left, _) = layer.pads
    fits = layer.kernel_size == 3 and top == left and layer.stride == layer.dilation == layer.groups == 1
    if not fits or choice == "direct":
        return "direct"
    if choice == "tiles":
        return "tiles"
    rows, columns, filters = layer.output_shape(input_shape)
    spent = PLACES * -(-rows // SIDE) * -(-columns // SIDE)
    saved = 9 * rows * columns / spent
    return "tiles" if min(input_shape[2], filters) >= FEWEST and saved >= LEAST else "direct"


def weights_by_tiles(channels: int, filters: int, area: int) -> bool:
    """Whether a convolution that runs by tiles takes the gradient of its weights, over so many pixels, so too."""
    return min(channels, filters) >= FEWEST_FOR_WEIGHTS and area >= LEAST_AREA
