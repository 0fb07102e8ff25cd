"""How alike maps are: under small noise, under weights drawn anew, and between methods."""

from __future__ import annotations

from dataclasses import asdict, dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray
from scipy.ndimage import gaussian_filter, uniform_filter

from attentive_lens.engine.arrays import Array
from attentive_lens.engine.network import Network
from attentive_lens.explaining.probe import Asked, Probe
from attentive_lens.explaining.saliency import MapMethod
from attentive_lens.plan.chance import chance

NOISE, COPIES = 0.02, 3
"""Deviation of the noise as a part of the image's range, and noisy copies."""


def likeness(one: NDArray[Any], other: NDArray[Any]) -> float:
    """Rank correlation of the strengths of two maps, averaged over 5×5 pixels: 1 alike, 0 unrelated (Spearman 1904).

    0 where one of them is the same everywhere.
    """
    from scipy.stats import rankdata  # only here: it takes a second to import

    ranks = [rankdata(uniform_filter(np.abs(np.asarray(m, np.float64)), 5)) for m in (one, other)]
    around = [r - r.mean() for r in ranks]
    size = np.sqrt((around[0] ** 2).sum() * (around[1] ** 2).sum())
    return float((around[0] * around[1]).sum() / size) if size > 0 else 0.0


def stability(method: MapMethod, probe: Probe, image: Array, asked: Asked, maps: NDArray[np.float32]) -> list[float]:
    """Likeness of each map to those of the image with a little noise, mean over copies."""
    width = NOISE * float(image.max() - image.min())
    found = []
    for copy in range(COPIES):
        noise = chance(0, "small noise", copy).standard_normal(image.shape, np.float32).astype(image.dtype)
        again = method.maps(probe, image + width * noise, asked)
        found.append([likeness(a, b) for a, b in zip(maps, again, strict=True)])
    return [float(v) for v in np.mean(found, axis=0)]


@dataclass(frozen=True)
class Redrawn:
    """What drawing weights anew does to a method's maps, mean over some images (Adebayo 2018, section 3).

    Attributes
    ----------
    answers, everything : float
        Likeness to the trained network's maps with the last layer's, and with all weights drawn anew.
    noise, random : float
        Likeness under small noise, and to random maps: what «the same» and «unrelated» are.
    images : int
        How many.
    """

    answers: float
    everything: float
    noise: float
    random: float
    images: int

    @property
    def limit(self) -> float:
        """Half way between the same and unrelated: a method whose maps stay more alike does not show the network."""
        return (self.noise + self.random) / 2

    @property
    def passed(self) -> bool:
        """Whether the maps change when the weights do."""
        return self.everything < self.limit

    def as_dict(self) -> dict[str, Any]:
        """For a table."""
        return {**asdict(self), "limit": self.limit, "passed": self.passed}


def redrawn(method: MapMethod, probe: Probe, images: Array, seed: int = 0) -> Redrawn:
    """Measure it for the class each image is said to be."""
    network = probe.network
    nets = {"answers": _drawn(network, {network.answers}, seed), "everything": _drawn(network, None, seed)}
    probes = {name: Probe(own, probe.crew) for name, own in nets.items()}
    found: dict[str, list[float]] = {"answers": [], "everything": [], "noise": [], "random": []}
    said = probe.scores(images).argmax(axis=1)
    for number, (image, label) in enumerate(zip(images, said, strict=True)):
        asked = Asked.classes([int(label)], probe.classes)
        maps = method.maps(probe, image, asked)
        for name, own in probes.items():
            found[name].append(likeness(maps[0], method.maps(own, image, asked)[0]))
        found["noise"].append(stability(method, probe, image, asked, maps)[0])
        noise = chance(seed, "random maps", number).standard_normal(image.shape[:2])
        found["random"].append(likeness(maps[0], gaussian_filter(noise, 2.5)))
    means = {name: float(np.mean(values)) for name, values in found.items()}
    return Redrawn(means["answers"], means["everything"], means["noise"], means["random"], len(images))


def _drawn(network: Network, nodes: set[str] | None, seed: int) -> Network:
    """A copy whose weights (of some nodes, or all) are starting weights."""
    fresh = Network.start(network.plan, network.image, seed, network.dtype.type)
    weights = network.copy_weights()
    for name in network.weights if nodes is None else nodes:
        weights[name] = fresh.weights[name]
    return Network(network.plan, network.image, weights, network.kernels)
