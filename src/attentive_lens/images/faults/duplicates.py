"""The same picture twice, above all in two sets."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray
from scipy.fft import irfft2, rfft2
from scipy.ndimage import gaussian_filter
from scipy.sparse import coo_matrix
from scipy.sparse.csgraph import connected_components

from attentive_lens.core.jobs import Job, Progress, breathe
from attentive_lens.images.faults.base import Action, Evidence, Finder, Finding, at_a_time, images_in_words

COARSE = 16
NEAR_COARSE = 0.65
NEAR_FINE = 0.81
"""Correlation from which two pictures are copies; ``benchmarks/faults.py`` says what it finds and what it mistakes."""
SHIFT = 2
"""Pixels by which near duplicates may be shifted against each other."""
AT_ONCE = 64
COLUMNS = 8192
"""Images compared with a part at once: 2 MB of likenesses."""
MOST_ALIKE = 8
"""Likely copies of an image that are looked at closely, in each such lot."""
KEPT = 4096
KINDS = {
    "leak": ("in more than one set", "Keep each in one set only, else the score is too good"),
    "contradiction": ("there under different labels", "Look at each and correct the label"),
    "duplicate": ("there more than once", "Keep one of each"),
}
ORDER = {"test": 3, "validation": 2, "training": 1}
"""Which of some copies is kept: a test set must not shrink."""
TINT = 0.012
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
        """At most one finding of each kind: copies in two sets, under two labels, and others."""
        kinds: dict[str, list[tuple[int, ...]]] = {kind: [] for kind in KINDS}
        groups = yield from duplicate_groups(evidence)
        for places in groups:
            if len({int(evidence.labels[p]) for p in places}) > 1:
                kinds["contradiction"].append(tuple(places))
            elif len({evidence.sets[p] for p in places}) > 1:
                kinds["leak"].append(tuple(places))
            else:
                kinds["duplicate"].append(tuple(places))
        return [_finding(evidence, kind, members) for kind, members in kinds.items() if members]


def _finding(evidence: Evidence, kind: str, groups: list[tuple[int, ...]]) -> Finding:
    where, remedy = KINDS[kind]
    places = tuple(place for group in groups for place in group)
    stay = {max(group, key=lambda p: (ORDER.get(evidence.sets[p], 0), -p)) for group in groups}
    out = tuple(place for place in places if place not in stay)
    leave_out = Action(f"exclude {images_in_words(len(out))}, keep one of each in the set judged last", out)
    mark = Action("flag them", flag=places)
    actions = (mark, leave_out) if kind == "contradiction" else (leave_out, mark)
    pictures = "1 picture stands" if len(groups) == 1 else f"{len(groups)} pictures stand"
    return Finding(kind, f"{pictures} {where} ({len(places)} images)", remedy, places, actions, tuple(groups))


def duplicate_groups(evidence: Evidence) -> Job[list[list[int]]]:
    """Groups of places, each of two or more, whose pictures are the same.

    Notes
    -----
    Takes 512 bytes an image besides the pictures at hand. The coarse comparison grows with the square of the number
    of images (0.5 ms of product for each 10 000 against one hundred); of those alike an image's nearest few go on.
    """
    count, side = len(evidence), evidence.side
    coarse = np.empty((count, COARSE * COARSE), np.float16)
    colours = np.empty((count, evidence.pixels.shape[3]), np.float32)
    for progress, places in at_a_time(count, "looking for copies"):
        yield progress
        images = evidence.images(places)
        colours[places] = images.mean(axis=(1, 2)) / 255
        grey = images.mean(axis=3, dtype=np.float32) / 255
        slow = gaussian_filter(grey, (0, side / 8, side / 8))
        coarse[places] = _unit(_shrunk(gaussian_filter(grey, (0, 1.25, 1.25)) - slow))
    pairs: list[tuple[int, int]] = []
    for progress, places in at_a_time(count, "looking for copies", AT_ONCE):
        yield progress
        pairs += _alike(coarse, colours, places)
    waves = _Waves(evidence)
    sure = []
    for done, (a, b) in enumerate(pairs):
        breathe()
        if done % AT_ONCE == 0:
            yield Progress(done, len(pairs), "comparing likely copies")
        if _best_correlation(waves.of(a), waves.of(b), side) > NEAR_FINE:
            sure.append((a, b))
    if not sure:
        return []
    rows, columns = np.array(sure).T
    graph = coo_matrix((np.ones(len(sure)), (rows, columns)), shape=(count, count))
    _, names = connected_components(graph, directed=False)
    members = np.unique(np.array(sure))
    return [[int(p) for p in members if names[p] == name] for name in dict.fromkeys(names[members].tolist())]


def _alike(
    coarse: NDArray[np.float16], colours: NDArray[np.float32], places: NDArray[np.int64]
) -> list[tuple[int, int]]:
    """Pairs, the first of ``places`` and the second after it, that are alike coarsely and of the same tint."""
    part = coarse[places].astype(np.float32)
    pairs = []
    for first in range(int(places[0]), len(coarse), COLUMNS):
        breathe()
        near = part @ coarse[first : first + COLUMNS].astype(np.float32).T
        rows, columns = np.nonzero(near > NEAR_COARSE)
        later = places[rows] < columns + first
        rows, columns = rows[later], columns[later]
        tinted = _same_tint(colours[places[rows]], colours[columns + first])
        rows, columns = rows[tinted], columns[tinted]
        strength = near[rows, columns]
        for row in np.unique(rows):
            mine = np.flatnonzero(rows == row)
            best = mine[np.argsort(-strength[mine], kind="stable")[:MOST_ALIKE]]
            pairs += [(int(places[row]), int(columns[k]) + first) for k in best]
    return pairs


class _Waves:
    """Fine detail of the images asked for last, so that pairs with a common image do not ask twice."""

    def __init__(self, evidence: Evidence) -> None:
        self._evidence = evidence
        self._kept: dict[int, NDArray[np.complex64]] = {}

    def of(self, place: int) -> NDArray[np.complex64]:
        """Of one image, see `_waves`."""
        if place not in self._kept:
            if len(self._kept) >= KEPT:
                del self._kept[next(iter(self._kept))]
            self._kept[place] = _waves(self._evidence.grey(np.array([place]))[0])
        return self._kept[place]


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


def _same_tint(one: NDArray[np.float32], other: NDArray[np.float32]) -> NDArray[np.bool_]:
    """Whether mean colours, two of n×C, differ by brightness alone, and not by much."""
    gain = (one * other).sum(axis=1) / np.maximum((other * other).sum(axis=1), 1e-6)
    apart = np.abs(one - gain[:, None] * other).max(axis=1, initial=0)
    return np.asarray((gain > 0.7) & (gain < 1.43) & (apart < TINT))


def _waves(grey: NDArray[np.float32]) -> NDArray[np.complex64]:
    """Fourier transform of a picture's fine detail, S×S, of mean square 1."""
    band = gaussian_filter(grey, 1) - gaussian_filter(grey, 2.5)
    even = band / np.sqrt(gaussian_filter(band * band, 3) + FAINT**2)
    even -= even.mean()
    even /= max(float(np.sqrt((even * even).mean())), 1e-6)
    return np.asarray(rfft2(even), np.complex64)


def _best_correlation(one: NDArray[np.complex64], other: NDArray[np.complex64], side: int) -> float:
    """Correlation of two pictures' fine detail at the best of all shifts up to `SHIFT` pixels."""
    correlations = irfft2(one * other.conj(), (side, side)) / side**2
    near = [*range(SHIFT + 1), *range(-SHIFT, 0)] if side > 4 * SHIFT else [0]
    return float(correlations[np.ix_(near, near)].max())
