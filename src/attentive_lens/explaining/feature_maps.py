"""What every layer made of one image, and the weights of the first layer as pictures."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
from numpy.typing import NDArray

from attentive_lens.engine.arrays import Array
from attentive_lens.engine.network import Network
from attentive_lens.plan.layers import Convolution
from attentive_lens.plan.nodes import IMAGE


def feature_maps(network: Network, image: Array, layers: Sequence[str]) -> dict[str, Array]:
    """Outputs of some layers, or the image itself, for one prepared H×W×C: node → rows×columns×channels, or values."""
    trace = network.forward(image[None], watch=frozenset(layers) - {IMAGE})
    return {name: image if name == IMAGE else trace.outputs[name][0] for name in layers}


def strongest(maps: Array, count: int) -> NDArray[np.int64]:
    """Numbers of the channels with the greatest mean absolute value, the strongest first.

    Parameters
    ----------
    maps : ndarray, H×W×C
        A layer's output for one image.
    count : int
        At most this many.
    """
    strength = np.abs(maps).mean(axis=(0, 1))
    return np.argsort(-strength, kind="stable")[:count]


def first_filters(network: Network) -> tuple[str, NDArray[np.float32]] | None:
    """The first convolution's name and its filters as pictures, or None without one on the image itself.

    Returns
    -------
    name : str
        The node's name.
    pictures : ndarray, F×K×K×3 float32
        Each filter about 0.5, its own greatest weight at 0 or 1, so signs can be seen.
    """
    for node in network.plan.nodes:
        if isinstance(node.layer, Convolution) and node.after == ("image",):
            kernel = network.weights[node.name]["kernel"].astype(np.float32)
            top = np.abs(kernel).max(axis=(0, 1, 2), keepdims=True)
            pictures = np.moveaxis(0.5 + 0.5 * kernel / np.maximum(top, 1e-12), 3, 0)
            if pictures.shape[3] == 1:
                pictures = np.repeat(pictures, 3, axis=3)
            return node.name, np.ascontiguousarray(pictures)
    return None
