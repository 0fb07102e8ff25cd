"""How well scores put the images that have a label before those that have not.

Average precision: Σ (Rₙ − Rₙ₋₁) Pₙ over the thresholds, no interpolation (Salton & McGill 1983); area under the ROC
curve by ranks (Mann & Whitney 1947). Over the labels of an image: label ranking average precision, coverage and ranking
loss (Schapire & Singer 2000). Equal scores count as what they are: one threshold, half a pair, the lower rank.
"""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray


def average_precision(scores: NDArray[np.floating[Any]], there: NDArray[np.bool_]) -> float | None:
    """Of one label, 0–1: scores N, and which of the images have it; None where none has."""
    count = int(there.sum())
    if not count:
        return None
    order = np.argsort(-scores, kind="stable")
    ranked = scores[order]
    ends = np.flatnonzero(np.append(ranked[1:] != ranked[:-1], True))  # the last of each run of equal scores
    right = np.cumsum(there[order])[ends]
    precision = right / (ends + 1)
    return float((np.diff(right, prepend=0) * precision).sum() / count)


def area_under_curve(scores: NDArray[np.floating[Any]], there: NDArray[np.bool_]) -> float | None:
    """Of the ROC curve: how often an image with the label scores higher than one without; None without both."""
    count, other = int(there.sum()), int((~there).sum())
    if not count or not other:
        return None
    from scipy.stats import rankdata  # only here: the window looks at results, and computes none

    ranks = rankdata(scores)
    return float((ranks[there].sum() - count * (count + 1) / 2) / (count * other))


def mean_average_precision(scores: NDArray[np.floating[Any]], there: NDArray[np.bool_]) -> float:
    """Mean over the labels that some image has, of scores N×K; 0 without any."""
    values = [average_precision(scores[:, k], there[:, k]) for k in range(scores.shape[1])]
    known = [value for value in values if value is not None]
    return float(np.mean(known)) if known else 0.0


def label_ranking(
    scores: NDArray[np.floating[Any]], there: NDArray[np.bool_]
) -> tuple[float | None, float | None, float | None]:
    """Over the images that have some labels and lack some, of scores N×K.

    Returns
    -------
    average_precision : float or None
        Mean, over an image's labels, of the part of its own among those that score as high or higher.
    coverage : float or None
        How far down an image's ranked labels one must go to have all its own; at best, the number of its own.
    ranking_loss : float or None
        Part of the pairs of a label it has and one it lacks that are ranked the wrong way round; equal ones half.
    """
    own = there.sum(axis=1)
    mixed = (own > 0) & (own < there.shape[1])
    if not mixed.any():
        return None, None, None
    from scipy.stats import rankdata  # only here, as above

    scores, there, own = scores[mixed], there[mixed], own[mixed]
    ranks = rankdata(-scores, method="max", axis=1)
    among = np.where(there, ranks, 0)
    own_ranks = rankdata(np.where(there, -scores, np.inf), method="max", axis=1)
    precision = np.where(there, own_ranks / ranks, 0).sum(axis=1) / own
    halves = rankdata(scores, axis=1)
    ahead = np.where(there, halves, 0).sum(axis=1) - own * (own + 1) / 2
    loss = 1 - ahead / (own * (there.shape[1] - own))
    return float(precision.mean()), float(among.max(axis=1).mean()), float(loss.mean())
