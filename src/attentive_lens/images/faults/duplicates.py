"""The same picture twice, above all in two sets."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray
from scipy.fft import irfft2, rfft2
from scipy.ndimage import gaussian_filter
from scipy.sparse import coo_matrix
from scipy.sparse.csgraph import connected_components

from attentive_lens.images.faults.base import Evidence, Finder, Finding
from attentive_lens.plan.progress import Job, Progress

COARSE = 16
NEAR_COARSE = 0.75
NEAR_FINE = 0.81
"""Correlation from which two pictures are copies; ``benchmarks/faults.py`` says what it finds and what it mistakes."""
SHIFT = 2
"""Pixels by which near duplicates may be shifted against each other."""
AT_ONCE = 64
TINT = 0.02
"""Of white: what may remain between the mean colours of copies once their brightness is matched."""
FAINT = 0.008
"""Strength of edges, of white, below which detail counts as noise."""


class Duplicates(Finder):
    """Pictures whose detail is the same but for brightness, a small shift, noise or another packing.

    A coarse picture of 16×16 proposes pairs, fine detail decides: edges of one to two pixels, each against the
    strength of those about it, so that an outline two things share does not outweigh all else. Their correlation is
    taken at the best shift up to two pixels. Mirrored or turned copies are not looked for.
    """

    def find(self, evidence: Evidence) -> Job[list[Finding]]:
        """One finding for each group of copies; those that stand in two sets first."""
        colours = np.stack([image.mean(axis=(0, 1)) for image in evidence.pixels]) / 255
        groups = yield from duplicate_groups(evidence.grey, colours.astype(np.float32))
        findings = []
        for places in groups:
            sets = sorted({evidence.sets[p] for p in places})
            labels = sorted({evidence.classes[int(evidence.labels[p])] for p in places})
            told = f"{len(places)} images show the same picture"
            if len(labels) > 1:
                told += f" under different labels ({', '.join(labels)})"
            if len(sets) > 1:
                kind, remedy = "leak", "Keep it in one set only, else the score is too good"
                told += f" and stand in different sets ({', '.join(sets)})"
            else:
                kind, remedy = "duplicate", "Keep one of them"
            findings.append(Finding(kind, told, remedy, tuple(places)))
        return sorted(findings, key=lambda f: (f.kind != "leak", f.places))


def duplicate_groups(grey: NDArray[np.float32], colours: NDArray[np.float32]) -> Job[list[list[int]]]:
    """Groups of places, each of two or more, whose pictures are the same.

    Parameters
    ----------
    grey : ndarray, N×S×S float32
        Pictures in 0–1.
    colours : ndarray, N×C float32
        Their mean colours in 0–1.
    """
    count, side = len(grey), grey.shape[1]
    parts = []
    for first in range(0, count, AT_ONCE):
        yield Progress(first, count, "looking for copies")
        part = grey[first : first + AT_ONCE]
        slow = gaussian_filter(part, (0, side / 8, side / 8))
        parts.append(_unit(_shrunk(gaussian_filter(part, (0, 1.25, 1.25)) - slow)))
    coarse = np.concatenate(parts)
    pairs: list[tuple[int, int]] = []
    for first in range(0, count, AT_ONCE):
        yield Progress(first, count, "looking for copies")
        near = coarse[first : first + AT_ONCE] @ coarse.T
        rows, columns = np.nonzero(near > NEAR_COARSE)
        pairs += [(int(r) + first, int(c)) for r, c in zip(rows, columns, strict=True) if r + first < c]
    waves: dict[int, NDArray[np.complex64]] = {}
    sure = []
    for done, (a, b) in enumerate(pairs):
        if done % AT_ONCE == 0:
            yield Progress(done, len(pairs), "comparing likely copies")
        if not _same_tint(colours[a], colours[b]):
            continue
        for place in (a, b):
            if place not in waves:
                waves[place] = _waves(grey[place])
        if _best_correlation(waves[a], waves[b], side) > NEAR_FINE:
            sure.append((a, b))
    if not sure:
        return []
    rows, columns = np.array(sure).T
    graph = coo_matrix((np.ones(len(sure)), (rows, columns)), shape=(count, count))
    _, names = connected_components(graph, directed=False)
    members = np.unique(np.array(sure))
    return [[int(p) for p in members if names[p] == name] for name in dict.fromkeys(names[members].tolist())]


def _shrunk(images: NDArray[np.float32]) -> NDArray[np.float32]:
    """Block means, N×(COARSE²), whatever the side."""
    side = images.shape[1]
    edges = np.linspace(0, side, COARSE + 1).astype(int)
    starts = np.minimum(edges[:-1], side - 1)
    counts = np.maximum(1, np.diff(edges)).astype(np.float32)
    sums = np.add.reduceat(np.add.reduceat(images, starts, axis=1), starts, axis=2)
    return (sums / counts[:, None] / counts).reshape(len(images), -1).astype(np.float32)


def _unit(rows: NDArray[np.float32]) -> NDArray[np.float32]:
    centred = rows - rows.mean(axis=1, keepdims=True)
    lengths = np.sqrt((centred * centred).sum(axis=1, keepdims=True))
    return np.asarray(centred / np.maximum(lengths, 1e-6), np.float32)


def _same_tint(one: NDArray[np.float32], other: NDArray[np.float32]) -> bool:
    """Whether two mean colours differ by brightness alone, and not by much."""
    gain = float(one @ other) / max(float(other @ other), 1e-6)
    return 0.7 < gain < 1.43 and float(np.abs(one - gain * other).max()) < TINT


def _waves(grey: NDArray[np.float32]) -> NDArray[np.complex64]:
    """Fourier transform of a picture's fine detail, S×S, of mean square 1."""
    band = gaussian_filter(grey, 1) - gaussian_filter(grey, 2.5)
    even = band / np.sqrt(gaussian_filter(band * band, 3) + FAINT**2)
    even -= even.mean()
    even /= max(float(np.sqrt((even * even).mean())), 1e-6)
    return np.asarray(rfft2(even), np.complex64)


def _best_correlation(one: NDArray[np.complex64], other: NDArray[np.complex64], side: int) -> float:
    """Correlation of two pictures' fine detail at the best of all shifts up to `SHIFT` pixels."""
    found = irfft2(one * other.conj(), (side, side)) / side**2
    near = [*range(SHIFT + 1), *range(-SHIFT, 0)] if side > 4 * SHIFT else [0]
    return float(found[np.ix_(near, near)].max())
