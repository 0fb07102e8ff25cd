"""Whether a map can be believed, measured: what its order of pixels gains, small noise, other weights, completeness.

There is one verdict, that of `gains`, at once with every map and in the whole measurement alike.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace

import numpy as np
from numpy.typing import NDArray
from scipy.ndimage import gaussian_filter, sobel, uniform_filter

from attentive_lens.core.jobs import breathe, paced
from attentive_lens.core.random import random_generator
from attentive_lens.engine.arrays import Array
from attentive_lens.engine.network import Network
from attentive_lens.explaining.figures import Completeness, Gain, WeightRandomisation
from attentive_lens.explaining.probe import Probe, Targets
from attentive_lens.explaining.saliency import MapMethod
from attentive_lens.plan.initialisations import He

FRACTIONS = (1 - np.cos(np.pi * np.linspace(0, 1, 9))) / 2
"""Of the pixels deleted or restored; closer together at both ends, where maps differ, and alike from either."""
DRAWS = 20
"""Random maps that a map must beat: half of them, and each of these turned round, which is as random."""
LEAST = 0.5
"""Gain over random maps that a map must have; where no order of the pixels has it, nothing can be said to decide. On
networks that learned shuffled labels nine of ten images give less than 0.4, on others nine of ten more than 0.6
(``benchmarks/real/trust.py``)."""
SMOOTH = 5
"""Pixels over which a map is averaged before its pixels are put in order."""
NOISE, COPIES = 0.02, 3
"""Standard deviation of the small noise as a part of the image's range, and noisy copies."""


def blank(probe: Probe, seed: int = 0) -> Probe:
    """The same network with starting weights throughout."""
    return Probe(probe.predictor.with_network(_randomised(probe.network, None, seed)))


def rivals_of(
    method: MapMethod, probe: Probe, image: Array, targets: Targets, maps: NDArray[np.float32], empty: Probe
) -> list[dict[str, Array]]:
    """For each map of differences the map of the opposite one, and that of the network without what it learned."""
    opposite = -maps if method.settings.signed else method.maps(probe, image, Targets(-targets.weights, targets.of))
    unlearned = np.nan_to_num(method.maps(empty, image, targets))
    return [{"next class": a, "random weights": b} for a, b in zip(opposite, unlearned, strict=True)]


def gains(
    probe: Probe,
    image: Array,
    maps: NDArray[np.float32],
    pairs: Sequence[tuple[int, int]],
    rivals: Sequence[dict[str, Array]],
) -> list[Gain]:
    """How far the maps of some classes of one image part each from its next one.

    Parameters
    ----------
    probe : Probe
        A trained network.
    image : ndarray, H×W×C
        Prepared.
    maps : ndarray, T×H×W float32
        Averaged over 5×5 pixels before their pixels are put in order.
    pairs : sequence of (int, int)
        The class that each map speaks for, and the next one, T.
    rivals : sequence of dict
        For each map others that know nothing of this answer, H×W; the image's edges and a blob in its middle are added.

    Notes
    -----
    What is deleted is replaced by the image out of focus, and what is restored is put back into it: one filling for
    both, which of the mean colour, this, and texture from nearby tells maps from random ones best. Random maps hang
    together over as many pixels as smoothed ones do, for single random pixels are noise a network has never seen,
    and would flatter every map. Deletion and insertion: Petsiuk 2018, section 4.1; here of the difference of two
    scores, so that what speaks for a class is not mixed with what speaks for any.
    """
    height, width = image.shape[:2]
    grey = image.mean(axis=2)
    edges = np.hypot(sobel(grey, axis=0), sobel(grey, axis=1))
    down, across = ((np.arange(side) + 0.5) / side - 0.5 for side in (height, width))
    middle = np.exp(-8 * (down[:, None] ** 2 + across[None] ** 2))
    noise = random_generator(0, "random maps").standard_normal((DRAWS // 2, height, width))
    random_maps = [gaussian_filter(random_map, SMOOTH / 2) for random_map in noise]
    of_all = [*random_maps, *(-random_map for random_map in random_maps), edges, middle]
    of_each = [[map_, *own.values()] for map_, own in zip(maps, rivals, strict=True)]
    orders = [_order(map_) for map_ in paced((*of_all, *(map_ for each in of_each for map_ in each)), 4)]
    soft = np.asarray(gaussian_filter(image, (height / 8, width / 8, 0)))
    lost, restored = _lost_and_restored(probe, image, soft, orders)
    results, row = [], len(of_all)
    for (label, other), own in zip(pairs, rivals, strict=True):
        one, two = (scores[:, :, label] - scores[:, :, other] for scores in (lost, restored))
        deletion, insertion = (np.asarray(np.trapezoid(curve, FRACTIONS, axis=1), np.float64) for curve in (one, two))
        every = (insertion - deletion).tolist()
        random = np.array(every[:DRAWS])
        gain = Gain(
            float(deletion[row]),
            float(insertion[row]),
            float(random.mean()),
            float(random.std()),
            float(random.max()),
            {"edges": every[DRAWS], "middle": every[DRAWS + 1]} | dict(zip(own, every[row + 1 :], strict=False)),
            float(two.max() - one.min()),
            None,
        )
        row += 1 + len(own)
        tried = np.array([gain.value, gain.best_random, *gain.rivals.values()]) - gain.random
        better = tried[0] >= LEAST and gain.value > gain.limit
        results.append(replace(gain, passed=bool(better) if np.abs(tried).max() >= LEAST else None))
    return results


def _order(map_: Array) -> NDArray[np.int64]:
    """Pixels, what is marked most first."""
    return np.argsort(-uniform_filter(np.asarray(map_, np.float64), SMOOTH), axis=None, kind="stable")


def _lost_and_restored(
    probe: Probe, image: Array, soft: Array, orders: Sequence[NDArray[np.int64]]
) -> tuple[Array, Array]:
    """Scores M×F×K while the image is put out of focus in M orders, and while it is restored.

    An order that is another turned round restores the very images that the other deletes: no two of them are measured.
    """
    known: dict[bytes, tuple[int, bool]] = {}
    measured: list[NDArray[np.int64]] = []
    for order in orders:
        if order.tobytes() not in known:
            known[order[::-1].tobytes()] = len(measured), True
            known[order.tobytes()] = len(measured), False
            measured.append(order)
    lost, restored = _scores(probe, image, soft, measured), _scores(probe, soft, image, measured)
    rows = [known[order.tobytes()] for order in orders]
    return (
        np.stack([restored[row, ::-1] if turned else lost[row] for row, turned in rows]),
        np.stack([lost[row, ::-1] if turned else restored[row] for row, turned in rows]),
    )


def _scores(probe: Probe, start: Array, end: Array, orders: Sequence[NDArray[np.int64]]) -> Array:
    """Scores M×F×K while the pixels of one image are replaced by another's, in M orders; both ends asked once."""
    inner = FRACTIONS[1:-1]
    one, other = start.reshape(-1, start.shape[2]), end.reshape(-1, start.shape[2])
    images = np.empty((len(orders), len(inner), *one.shape), start.dtype)
    for m, order in enumerate(orders):
        breathe()
        for k, fraction in enumerate(inner):
            chosen = order[: round(fraction * len(order))]
            images[m, k] = one
            images[m, k, chosen] = other[chosen]
    ends = probe.scores(np.stack([start, end]).astype(start.dtype))
    between = probe.scores(images.reshape(-1, *start.shape)).reshape(len(orders), len(inner), -1)
    shape = (len(orders), 1, ends.shape[1])
    return np.concatenate([np.broadcast_to(ends[0], shape), between, np.broadcast_to(ends[1], shape)], axis=1)


def rank_correlation(one: Array, other: Array) -> float:
    """Of what speaks for the class in two maps, averaged over 5×5 pixels: 1 alike, 0 unrelated (Spearman 1904).

    What speaks against counts as nothing, as where pixels are deleted and restored: it is the order of what a map marks
    that is looked at and believed. Regardless of sign, maps that are a product with the image would stay alike because
    the image does, whatever the network says of it. 0 where one of them is the same everywhere.
    """
    ranks = [_ranks(uniform_filter(np.maximum(np.asarray(m, np.float64), 0), SMOOTH)) for m in (one, other)]
    around = [r - r.mean() for r in ranks]
    size = np.sqrt((around[0] ** 2).sum() * (around[1] ** 2).sum())
    return float((around[0] * around[1]).sum() / size) if size > 0 else 0.0


def _ranks(values: Array) -> Array:
    """Places from 1 in the order of all values, of equal ones the mean of theirs."""
    _, kind, counts = np.unique(values, return_inverse=True, return_counts=True)
    return np.asarray((np.cumsum(counts) - (counts - 1) / 2)[kind.reshape(-1)])


def stability(
    method: MapMethod, probe: Probe, image: Array, targets: Targets, maps: NDArray[np.float32]
) -> list[float]:
    """Rank correlation of each map with those of the image with a little noise, mean over copies."""
    width = NOISE * float(image.max() - image.min())
    correlations = []
    for copy in range(COPIES):
        noise = random_generator(0, "small noise", copy).standard_normal(image.shape, np.float32).astype(image.dtype)
        again = method.maps(probe, image + width * noise, targets)
        correlations.append([rank_correlation(a, b) for a, b in zip(maps, again, strict=True)])
    return [float(v) for v in np.mean(correlations, axis=0)]


def weight_randomisation(method: MapMethod, probe: Probe, images: Array, seed: int = 0) -> WeightRandomisation:
    """Measure it on prepared images N×H×W×C, for the class each is said to be against the next one."""
    network = probe.network
    networks = {"output": _randomised(network, {network.output}, seed), "all": _randomised(network, None, seed)}
    probes = {name: Probe(probe.predictor.with_network(randomised)) for name, randomised in networks.items()}
    rows: dict[str, list[float]] = {"output": [], "all": [], "noise": [], "random": []}
    for number, image in enumerate(images):
        targets = probe.against_next(image)
        maps = method.maps(probe, image, targets)
        for name, randomised in probes.items():
            rows[name].append(rank_correlation(maps[0], method.maps(randomised, image, targets)[0]))
        rows["noise"].append(stability(method, probe, image, targets, maps)[0])
        noise = random_generator(seed, "random maps", number).standard_normal(image.shape[:2])
        rows["random"].append(rank_correlation(maps[0], gaussian_filter(noise, SMOOTH / 2)))
    output_layer, all_layers, noise, random = (
        float(np.mean(rows[name])) for name in ("output", "all", "noise", "random")
    )
    limit = (noise + random) / 2
    return WeightRandomisation(output_layer, all_layers, noise, random, limit, all_layers < limit, len(images))


def _randomised(network: Network, nodes: set[str] | None, seed: int) -> Network:
    """A copy whose weights (of some nodes, or all) are starting weights."""
    fresh = Network.start(network.plan, network.image_shape, seed, network.dtype.type, He())
    weights = network.copy_weights()
    for name in network.weights if nodes is None else nodes:
        weights[name] = fresh.weights[name]
    return Network(network.plan, network.image_shape, weights, network.kernels)


def completeness(map_: NDArray[np.float32], expected: float, score: float) -> Completeness:
    """Of one map H×W."""
    total = float(map_.sum(dtype=np.float64))
    return Completeness(total, expected, score, abs(total - expected) / max(abs(expected), abs(score), 1e-6))
