"""3×3 convolution by the 4×4 tile transform, F(4×4, 3×3): 36 products where the direct formula needs 144.

Each tile of 6×6 input pixels is transformed, multiplied with the transformed filters place by place, all channels at
once as one matrix product for each of the 36 places, and transformed back to 4×4 output pixels. In float32 the result
agrees with the direct formula to about 1e-5 of its greatest entry. Source: Lavin & Gray 2016, «Fast algorithms for
convolutional neural networks», section 4.3; points 0, ±1, ±2, ∞. The gradient of the filters is the transposed map.
"""

from __future__ import annotations

from collections.abc import Iterator

import numpy as np

from attentive_lens.engine.arrays import Array
from attentive_lens.engine.kernels.choice import PLACES, SIDE
from attentive_lens.engine.kernels.scratch import scratch
from attentive_lens.engine.kernels.tile_loops import FROM_GRADIENT, FROM_IMAGES, tiles_from, tiles_to_images

BLOCK_BYTES = 1024 * 1024
"""Transformed tiles in and out of a block together: about a core's own cache."""
LEAST = 48
"""Tiles in a block, so that the rows of a product fill the processor."""

FILTERS = np.array(
    [
        [1 / 4, 0, 0],
        [-1 / 6, -1 / 6, -1 / 6],
        [-1 / 6, 1 / 6, -1 / 6],
        [1 / 24, 1 / 12, 1 / 6],
        [1 / 24, -1 / 12, 1 / 6],
        [0, 0, 1],
    ]
)
"""The filters' transform, 6×3."""


def transformed(kernel: Array) -> Array:
    """Filters 3×3×C×F at the 36 places: 36×C×F."""
    channels, filters = kernel.shape[2:]
    matrix = np.kron(FILTERS, FILTERS).astype(kernel.dtype)
    return np.asarray(matrix @ kernel.reshape(9, -1)).reshape(PLACES, channels, filters)


def turned(kernel: Array) -> Array:
    """Filters for the gradient of the inputs: turned by half, channels and filters changed over."""
    return np.ascontiguousarray(kernel[::-1, ::-1].transpose(0, 1, 3, 2))


def convolve(
    images: Array, places: Array, before: int, rows: int, columns: int, bias: Array | None, activate: bool
) -> Array:
    """Cross-correlate with 3×3 filters, step 1.

    Parameters
    ----------
    images : ndarray, N×H×W×C
        Feature maps, contiguous.
    places : ndarray, 36×C×F
        From `transformed`.
    before : int
        Zeros above and left of the image.
    rows, columns : int
        Of the output; whatever lies beyond the image counts as zero.
    bias : ndarray, F, or None
        Added to every output pixel.
    activate : bool
        Whether negative outputs become 0.

    Returns
    -------
    ndarray, N×rows×columns×F
        A new array.
    """
    n, channels, filters = len(images), images.shape[3], places.shape[2]
    out = np.empty((n, rows, columns, filters), images.dtype)
    added = np.zeros(filters, images.dtype) if bias is None else bias
    down, across = -(-rows // SIDE), -(-columns // SIDE)
    for first, strips in _blocks(n * down, across, channels, filters, images.itemsize):
        inputs = scratch("tiles inputs", (PLACES, strips * across, channels), images.dtype)
        products = scratch("tiles made", (PLACES, strips * across, filters), images.dtype)
        tiles_from(images, *FROM_IMAGES, before, down, across, first, strips, inputs)
        np.matmul(inputs, places, out=products)
        tiles_to_images(products, added, activate, down, across, first, strips, out)
    return out


def filter_gradient(images: Array, grad: Array, before: int) -> Array:
    """Gradient 3×3×C×F of the filters, for the images that went in and the gradient N×OH×OW×F of what came out."""
    n, rows, columns, filters = grad.shape
    channels = images.shape[3]
    sums = np.zeros((PLACES, channels, filters), grad.dtype)
    part = scratch("tiles part", (PLACES, channels, filters), grad.dtype)
    down, across = -(-rows // SIDE), -(-columns // SIDE)
    for first, strips in _blocks(n * down, across, channels, filters, grad.itemsize):
        inputs = scratch("tiles inputs", (PLACES, strips * across, channels), grad.dtype)
        came = scratch("tiles made", (PLACES, strips * across, filters), grad.dtype)
        tiles_from(images, *FROM_IMAGES, before, down, across, first, strips, inputs)
        tiles_from(grad, *FROM_GRADIENT, 0, down, across, first, strips, came)
        np.matmul(inputs.transpose(0, 2, 1), came, out=part)
        sums += part
    matrix = np.kron(FILTERS, FILTERS).astype(grad.dtype)
    return np.asarray(matrix.T @ sums.reshape(PLACES, -1)).reshape(3, 3, channels, filters)


def _blocks(strips: int, across: int, channels: int, filters: int, item: int) -> Iterator[tuple[int, int]]:
    """First strip and number of strips of every block: as many as fit a core's cache, and enough to fill a product."""
    tiles = max(LEAST, BLOCK_BYTES // (PLACES * (channels + filters) * item))
    block = max(1, min(strips, round(tiles / across)))
    for first in range(0, strips, block):
        yield first, min(block, strips - first)
