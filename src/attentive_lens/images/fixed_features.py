"""What an image is like by features that nothing was learned for: colours, edges and their directions, by place.

Enough for a quick probe before anything is trained, and for neighbours. A network that is no better than a linear
classifier on these has learned little.
"""

from __future__ import annotations

from collections.abc import Callable

import numpy as np
from numpy.typing import NDArray

from attentive_lens.core.jobs import Job, Progress
from attentive_lens.images.pixel_format import PixelArray, white_in
from attentive_lens.images.preprocessing import LUMA_CHROMA

AT_ONCE = 8
SIDE = 32
"""Pixels of a side that are looked at."""
DIRECTIONS = 8
LUMA_BINS, CHROMA_BINS, CHROMA = 6, 5, 0.3
"""Bins of the histogram of colours, and the chroma, either way, at which it ends."""
SCALES = ((4, 4), (4, 2), (2, 2))
"""Parts of a side, for edges and for edges of colour, in which means are taken: at full size, half, and a quarter."""


def fixed_features(pixels: PixelArray) -> NDArray[np.float32]:
    """Features of images, N×H×W×C: N×V float32. Channels that are no colours count as their mean.

    Means of luma and chroma in 4×4 places and their deviations in 2×2; strength of edges by direction, as in
    histograms of oriented gradients (Dalal & Triggs 2005, section 6), and of edges of colour, at three scales; a
    histogram of colours. Strengths and frequencies stand as their square roots.
    """
    images = _small(pixels)
    parts = [_means(images, 4), np.sqrt(np.maximum(_means(images**2, 2) - _means(images, 2) ** 2, 0))]
    scaled = images
    for places, colour_places in SCALES:
        down, across = np.gradient(scaled, axis=1), np.gradient(scaled, axis=2)
        parts.append(np.sqrt(_means(_by_direction(down[..., 0], across[..., 0]), places)))
        parts.append(np.sqrt(_means(np.hypot(down, across)[..., 1:], colour_places)))
        n, side, _, channels = scaled.shape
        scaled = scaled.reshape(n, side // 2, 2, side // 2, 2, channels).mean(axis=(2, 4))
    parts.append(np.sqrt(_histogram(images)))
    return np.concatenate([part.reshape(len(images), -1) for part in parts], axis=1).astype(np.float32)


def features_of(read: Callable[[slice], PixelArray], count: int, doing: str) -> Job[NDArray[np.float32]]:
    """Features of so many images, which are read a few at a time, in steps of a few milliseconds.

    Parameters
    ----------
    read
        Gives images n×H×W×C by their places among them.
    count
        How many there are: one at least.
    doing
        What the progress says.
    """
    parts = []
    for first in range(0, count, AT_ONCE):
        yield Progress(first, count, doing)
        parts.append(fixed_features(read(slice(first, min(first + AT_ONCE, count)))))
    return np.concatenate(parts)


def _small(pixels: PixelArray) -> NDArray[np.float32]:
    """Luma and two chromas, or luma alone, in 0–1, at `SIDE`×`SIDE`: means of whole blocks, or nearest pixels."""
    rows, columns = pixels.shape[1:3]
    if rows % SIDE == columns % SIDE == 0:
        down, across = rows // SIDE, columns // SIDE
        blocks = pixels.reshape(len(pixels), SIDE, down, SIDE, across, -1).mean(axis=(2, 4), dtype=np.float32)
    else:
        row, column = (np.minimum((np.arange(SIDE) + 0.5) * n / SIDE, n - 1).astype(int) for n in (rows, columns))
        blocks = pixels[:, row][:, :, column].astype(np.float32)
    scaled = blocks / np.float32(white_in(pixels))
    return np.asarray(
        scaled @ LUMA_CHROMA.T if scaled.shape[3] == 3 else scaled.mean(axis=3, keepdims=True), np.float32
    )


def _means(values: NDArray[np.float32], places: int) -> NDArray[np.float32]:
    """Over places × places parts of each image: N×(places²·C)."""
    n, side, _, channels = values.shape
    part = side // places
    parts = values.reshape(n, places, part, places, part, channels).mean(axis=(2, 4))
    return np.asarray(parts.reshape(n, -1), np.float32)


def _by_direction(down: NDArray[np.float32], across: NDArray[np.float32]) -> NDArray[np.float32]:
    """Strength of edges, N×H×W, shared out between the two directions nearest to each: N×H×W×8."""
    strength, place = np.hypot(down, across), (np.arctan2(down, across) % np.pi) / (np.pi / DIRECTIONS)
    directions = np.arange(DIRECTIONS, dtype=np.float32)
    apart = np.abs((place[..., None] - directions + DIRECTIONS / 2) % DIRECTIONS - DIRECTIONS / 2)
    return np.asarray(strength[..., None] * np.maximum(0, 1 - apart), np.float32)


def _histogram(images: NDArray[np.float32]) -> NDArray[np.float32]:
    """Part of the pixels in each bin of luma and chromas, N×150, or of luma, N×6."""
    bins = np.clip((images[..., 0] * LUMA_BINS).astype(int), 0, LUMA_BINS - 1)
    count = LUMA_BINS
    for channel in range(1, images.shape[3]):
        chroma = ((images[..., channel] + CHROMA) / (2 * CHROMA) * CHROMA_BINS).astype(int)
        bins = bins * CHROMA_BINS + np.clip(chroma, 0, CHROMA_BINS - 1)
        count *= CHROMA_BINS
    flat = bins.reshape(len(images), -1) + count * np.arange(len(images))[:, None]
    counts = np.bincount(flat.reshape(-1), minlength=count * len(images))
    return np.asarray(counts.reshape(len(images), count) / flat.shape[1], np.float32)
