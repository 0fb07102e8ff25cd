"""Parts of a set by what their images are like, and which of them are answered worse than the rest, beyond chance.

Chance: the probability that so few of a slice's images are right if those right were dealt out at random, exact
(Fisher 1935, one side), times as many slices as are tried and left, in the order of Holm (1979). Within classes, those
right of each class are dealt out among that class's images alone, so that a slice is not blamed for its hard classes:
the sum of the classes' hypergeometric counts, exact (Mehta, Patel & Gray 1985).
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from attentive_lens.scoring.measures import Share

PARTS = 4
"""Into which images are cut by a number: quarters of about as many."""
FEWEST = 8
"""Images that a slice must have."""
MOST_VALUES = 200
"""Values of a word by which slices are made, the most frequent."""


@dataclass(frozen=True)
class Slice:
    """Some images of a set.

    Attributes
    ----------
    by, name : str
        What they were cut by, and which part this is.
    right : Share
        Answered rightly, of how many.
    others : float or None
        Part of all other images answered rightly.
    p_value : float
        That chance alone does so badly, corrected for all slices that were tried.
    p_within : float
        The same if classes are as hard as they are: what is left once the slice's classes are allowed for.
    members : ndarray, M int64
        Their numbers in the catalogue.
    """

    by: str
    name: str
    right: Share
    others: float | None
    p_value: float
    p_within: float
    members: NDArray[np.int64]


def slices_of(
    numbers: NDArray[np.int64],
    right: NDArray[np.bool_],
    values: Mapping[str, NDArray[np.float64] | NDArray[np.str_]],
    classes: NDArray[np.int64] | None = None,
    groups: NDArray[np.int64] | None = None,
) -> tuple[Slice, ...]:
    """Every slice with enough images, the least likely by chance first.

    Parameters
    ----------
    numbers : ndarray, N int64
        The images' numbers in the catalogue.
    right : ndarray, N bool
        Whether each was answered rightly.
    values : mapping
        What to cut by → a number or a word for each image, N. Images without a finite number are in no part of it.
    classes : ndarray, N int64, optional
        True classes; all one class if left out.
    groups : ndarray, N int64, optional
        One number for images that belong together; each is by itself if left out.
    """
    parts = [(by, name, place) for by, column in values.items() for name, place in _parts(column)]
    parts = [(by, name, place) for by, name, place in parts if FEWEST <= place.sum() < len(right)]
    raw = np.array([_chance(right, place) for _, _, place in parts])
    units = groups if groups is not None else np.arange(len(right))
    labels = classes if classes is not None else np.zeros(len(right), np.int64)
    within = _holm(np.array([_chance_within(right, place, labels) for _, _, place in parts]))
    result = []
    for (by, name, place), chance, own in zip(parts, _holm(raw), within, strict=True):
        outside = ~place
        result.append(
            Slice(
                by,
                name,
                Share.by_group(right[place], units[place]),
                float(right[outside].mean()) if outside.any() else None,
                float(chance),
                float(own),
                numbers[place],
            )
        )
    order = sorted(range(len(result)), key=lambda k: (raw[k], result[k].right.value or 0.0))
    return tuple(result[k] for k in order)


def _parts(column: NDArray[np.float64] | NDArray[np.str_]) -> list[tuple[str, NDArray[np.bool_]]]:
    if column.dtype.kind in "US":
        words, counts = np.unique(column, return_counts=True)
        most = words[np.argsort(-counts, kind="stable")][:MOST_VALUES]
        return [(str(word), column == word) for word in most] if len(words) > 1 else []
    values = column.astype(np.float64)
    known = np.isfinite(values)
    if not known.any():
        return []
    edges = np.unique(np.quantile(values[known], np.linspace(0, 1, PARTS + 1)))
    if len(edges) < 3:
        return []
    places = np.clip(np.searchsorted(edges, values, side="right") - 1, 0, len(edges) - 2)
    return [(f"{edges[k]:.3g} to {edges[k + 1]:.3g}", known & (places == k)) for k in range(len(edges) - 1)]


def _chance(right: NDArray[np.bool_], place: NDArray[np.bool_]) -> float:
    """That a random slice of this size has no more right answers."""
    from scipy.stats import hypergeom  # only here: it takes half a second to import

    return float(hypergeom.cdf(int(right[place].sum()), len(right), int(right.sum()), int(place.sum())))


def _chance_within(right: NDArray[np.bool_], place: NDArray[np.bool_], classes: NDArray[np.int64]) -> float:
    """The same, those right of each class being dealt out among its images."""
    from scipy.stats import hypergeom

    spread, least = np.ones(1), 0
    for label in np.unique(classes[place]):
        own = classes == label
        images, good, drawn = int(own.sum()), int(right[own].sum()), int((own & place).sum())
        low, high = max(0, drawn - (images - good)), min(drawn, good)
        spread = np.convolve(spread, hypergeom.pmf(np.arange(low, high + 1), images, good, drawn))
        least += low
    return float(min(1.0, spread[: int(right[place].sum()) - least + 1].sum()))


def _holm(raw: NDArray[np.float64]) -> NDArray[np.float64]:
    """Corrected for all of them."""
    order, count = np.argsort(raw, kind="stable"), len(raw)
    out = np.empty(count)
    highest = 0.0
    for rank, place in enumerate(order):
        highest = max(highest, min(1.0, raw[place] * (count - rank)))
        out[place] = highest
    return out
