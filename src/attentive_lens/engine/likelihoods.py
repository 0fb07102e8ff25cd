"""How likely images are by what is drawn, and how far the codes' distribution is from the standard normal one.

Everything is in nats an image; pixels are 0 to 1.
"""

from __future__ import annotations

import math
from collections.abc import Callable
from dataclasses import dataclass

import numpy as np

from attentive_lens.engine.arrays import Array
from attentive_lens.engine.special import expit
from attentive_lens.plan.layers import Drawing
from attentive_lens.plan.layers.coding import NO_LIKELIHOOD

LOG_TWO_PI = math.log(2 * math.pi)


@dataclass(frozen=True)
class Likelihood:
    """Minus the log likelihood of images, with its gradients.

    Attributes
    ----------
    losses : ndarray, N
        In nats, summed over an image's values.
    grad : ndarray, N×H×W×C
        Of each image's own, by what is drawn (before the sigmoid).
    by_log_variance : ndarray, N, or None
        By the logarithm of the variance, where there is one.
    """

    losses: Array
    grad: Array
    by_log_variance: Array | None = None


def gaussian(settings: Drawing, raw: Array, images: Array, log_variance: float) -> Likelihood:
    """½ Σ (log 2π + log v + (x − m)² / v); its gradient by m is (m − x) / v (Bishop 2006, eq. 1.54)."""
    free = settings.mean == "free"
    mean = raw if free else np.asarray(expit(raw), raw.dtype)
    variance = math.exp(log_variance)
    gap = mean - images
    squares = _sums(gap * gap) / variance
    size = math.prod(raw.shape[1:])
    losses = 0.5 * (squares + size * (LOG_TWO_PI + log_variance))
    grad = gap / np.asarray(variance, raw.dtype)
    if not free:
        grad *= mean * (1 - mean)
    return Likelihood(losses, grad, 0.5 * (size - squares))


def bernoulli(settings: Drawing, raw: Array, images: Array, log_variance: float) -> Likelihood:
    """Cross-entropy of every value by itself: max(s, 0) − s·x + log(1 + e^−|s|); the gradient is σ(s) − x."""
    del settings, log_variance
    losses = np.maximum(raw, 0) - raw * images + np.log1p(np.exp(-np.abs(raw)))
    return Likelihood(_sums(losses), np.asarray(expit(raw) - images, raw.dtype))


LIKELIHOODS: dict[str, Callable[[Drawing, Array, Array, float], Likelihood]] = {
    "gaussian": gaussian,
    "bernoulli": bernoulli,
}


def likelihood(settings: Drawing, raw: Array, images: Array, log_variance: Array | None = None) -> Likelihood:
    """Of images N×H×W×C, 0–1, by what is drawn, of the same shape; the settings say by which distribution.

    ``log_variance`` is the weight, where it is learned.
    """
    spread = 2 * math.log(settings.deviation) if log_variance is None else float(log_variance[0])
    with np.errstate(all="ignore"):  # numbers may run away; who trains looks whether they do
        return LIKELIHOODS[settings.likelihood](settings, raw, images.astype(raw.dtype, copy=False), spread)


def shown(settings: Drawing, raw: Array) -> Array:
    """What is drawn as pixels 0–1: the mean of every pixel's distribution; a free mean is cut off at the ends.

    Without a likelihood it is drawn from -1 to 1.
    """
    if settings.likelihood == NO_LIKELIHOOD:
        return ((raw + 1) / 2).clip(0, 1)
    if settings.likelihood == "gaussian" and settings.mean == "free":
        return raw.clip(0, 1)
    return np.asarray(expit(raw), raw.dtype)


def divergence(statistics: Array) -> tuple[Array, Array]:
    """Kullback–Leibler divergence of normal codes from the standard normal distribution.

    ½ Σ (m² + e^l − 1 − l) for means m and log variances l (Kingma & Welling 2014, appendix B).

    Parameters
    ----------
    statistics : ndarray, N×2D
        Means, then log variances.

    Returns
    -------
    losses : ndarray, N
        In nats, 0 or more.
    grad : ndarray, N×2D
        m, and (e^l − 1) / 2.
    """
    size = statistics.shape[1] // 2
    mean, log_variance = statistics[:, :size], statistics[:, size:]
    with np.errstate(over="ignore", invalid="ignore"):
        variance = np.exp(log_variance)
        losses = 0.5 * (mean * mean + variance - 1 - log_variance).sum(axis=1, dtype=np.float64)
        return losses, np.concatenate([mean, (variance - 1) * np.asarray(0.5, statistics.dtype)], axis=1)


def log_density(codes: Array, statistics: Array | None = None) -> Array:
    """Of codes N×D under normal distributions N×2D, or under the standard one, in nats (Bishop 2006, eq. 2.43)."""
    codes = codes.astype(np.float64)
    if statistics is None:
        return -0.5 * (codes**2 + LOG_TWO_PI).sum(axis=-1)
    size = statistics.shape[-1] // 2
    mean, log_variance = statistics[..., :size].astype(np.float64), statistics[..., size:].astype(np.float64)
    return np.asarray(-0.5 * ((codes - mean) ** 2 / np.exp(log_variance) + log_variance + LOG_TWO_PI).sum(axis=-1))


def _sums(values: Array) -> Array:
    """Over each image's values, in 64 bits."""
    return np.asarray(values.reshape(len(values), -1).sum(axis=1, dtype=np.float64))
