"""Feature maps weighed by what they do to the answer."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray
from scipy.ndimage import zoom

from attentive_lens.core.values import unknown_word
from attentive_lens.engine.arrays import Array
from attentive_lens.engine.network import Network
from attentive_lens.errors import BadValue
from attentive_lens.explaining.methods import ClassActivationSettings
from attentive_lens.explaining.probe import Probe, Targets
from attentive_lens.explaining.saliency.base import MapMethod
from attentive_lens.plan.layers import Dropout, Pooling
from attentive_lens.plan.layers.base import SameShape
from attentive_lens.plan.nodes import IMAGE


class ClassActivation(MapMethod):
    """max(0, Σ over channels of (mean gradient of the channel) · channel), enlarged (Selvaraju 2017, eq. 1–2).

    Notes
    -----
    Units of the number per pixel of the maps. Coarse: as fine as the layer's maps. Those of the layer chosen, with the
    activation that follows it, or of `last_maps`.
    """

    def maps(self, probe: Probe, image: Array, targets: Targets) -> NDArray[np.float32]:
        """See `MapMethod.maps`; `BadValue` without feature maps, at the layer chosen or such that all paths pass."""
        layer = self.settings.layer if isinstance(self.settings, ClassActivationSettings) else ""
        node = chosen_maps(probe.network, layer) if layer else last_maps(probe.network)
        copies = np.repeat(image[None], len(targets.weights), axis=0)
        grads, outs = probe.gradients_at(node, copies, targets.weights, targets.of)
        coarse = np.maximum((grads.mean(axis=(1, 2), keepdims=True) * outs).sum(axis=3), 0)
        factors = (1, image.shape[0] / coarse.shape[1], image.shape[1] / coarse.shape[2])
        return np.asarray(zoom(coarse, factors, order=1, grid_mode=True, mode="nearest"), np.float32)


def last_maps(network: Network) -> str:
    """Name of the last node with feature maps that every path from the image to the answers passes.

    Poolings and dropout at the end only thin maps out, so the maps before them are taken. On a short cut round a
    convolution that is the sum of both ways, not the convolution on either.

    Raises
    ------
    BadValue
        If there is none.
    """
    passed: dict[str, frozenset[str]] = {IMAGE: frozenset()}
    for node in network.plan.nodes:
        before = [passed[source] for source in node.after]
        passed[node.name] = frozenset.intersection(*before) | {node.name}
    of_all = passed[network.output]
    shapes = {fact.name: fact.shape for fact in network.plan.facts(network.image_shape)}
    name = next((n.name for n in reversed(network.plan.nodes) if n.name in of_all and len(shapes[n.name]) == 3), IMAGE)
    while name != IMAGE and isinstance(network.plan.node(name).layer, Pooling | Dropout):
        name = network.plan.node(name).after[0]
    if name == IMAGE:
        raise BadValue(
            "Class activation cannot be shown",
            "the network has no feature maps that every path to its answers passes",
            "Choose a gradient method, occlusion or random masks",
        )
    return name


def chosen_maps(network: Network, layer: str) -> str:
    """The node whose maps a layer has; `LensError` if there is no such layer, or it has no maps."""
    shapes = {fact.name: fact.shape for fact in network.facts}
    if layer not in shapes:
        raise unknown_word("layer", layer, frozenset(shapes))
    if len(shapes[layer]) != 3:
        why = "its output is one row of values"
        raise BadValue(f"{layer} has no feature maps", why, "Choose a layer before it")
    return coated(network, layer)


def coated(network: Network, name: str) -> str:
    """The activation that directly follows a layer, or the layer itself."""
    network.plan.node(name)
    while True:
        users = [node for node in network.plan.nodes if name in node.after]
        if len(users) != 1 or not isinstance(users[0].layer, SameShape) or users[0].layer.kind == "dropout":
            return name
        name = users[0].name
