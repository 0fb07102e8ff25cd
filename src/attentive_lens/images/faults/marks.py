"""A mark near the border that goes with one class: a shortcut a network would rather learn than the thing itself."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from attentive_lens.images.faults.base import Evidence, Finder, Finding
from attentive_lens.plan.progress import Job, Progress

AT_ONCE = 128
CELLS = 16
FEWEST = 20
"""Training images of a class, and of all others, below which chance looks like a mark."""
BORDER = 4
"""Cells from the edge that count as border: what is photographed stands in the middle."""
FAR = 6.0
"""Times the usual spread of a cell from which a colour is out of the ordinary."""
LEAST_PART = 0.4
"""Part of a class's training images that must carry it."""
TIMES = 5.0
"""How much oftener it must be there than in the other classes."""


class Marks(Finder):
    """Colours out of the ordinary, in the same place of the border, in many images of one class and in few others.

    The picture is cut into 16×16 cells. A cell is out of the ordinary when the colour of its mean lies six times
    farther from the cell's median over all images than is usual there. Debris lies anywhere and averages out; a mark
    comes back. Marks in the middle, and marks that two classes share, are not looked for.
    """

    def find(self, evidence: Evidence) -> Job[list[Finding]]:
        """At most one finding for each class."""
        training = np.flatnonzero(np.array(evidence.sets) == "training")
        if len(training) < 2 * FEWEST:
            return []
        parts = []
        for first in range(0, len(training), AT_ONCE):
            yield Progress(first, len(training), "looking for marks")
            parts.append(cell_means(evidence.pixels[training[first : first + AT_ONCE]]))
        odd = odd_cells(np.concatenate(parts))
        labels = evidence.labels[training]
        findings = []
        for label, name in enumerate(evidence.classes):
            own = labels == label
            if min(own.sum(), (~own).sum()) < FEWEST:
                continue
            here, elsewhere = odd[own].mean(axis=0), odd[~own].mean(axis=0)
            score = np.where(here >= LEAST_PART, here / (elsewhere + 0.01), 0)
            row, column = (int(n) for n in np.unravel_index(score.argmax(), score.shape))
            if score[row, column] < TIMES:
                continue
            carriers = training[odd[:, row, column] & own]
            rate, others = here[row, column], elsewhere[row, column]
            why = (
                f"{rate:.0%} of the training images of «{name}» have something at the {_place(row, column)} that"
                f" {others:.0%} of the others have, and may be learned in its place"
            )
            findings.append(
                Finding("mark", why, "Cover that place with cut-out patches, or crop it away", tuple(carriers.tolist()))
            )
        return findings


def cell_means(pixels: NDArray[np.uint8]) -> NDArray[np.float32]:
    """Mean colour of every cell, N×16×16×C in 0–255, against the picture's own light: a brighter lamp is no mark."""
    n, side, _, channels = pixels.shape
    edges = np.linspace(0, side, CELLS + 1).astype(int)
    starts = np.minimum(edges[:-1], side - 1)
    counts = np.maximum(1, np.diff(edges)).astype(np.float32)
    sums = np.add.reduceat(np.add.reduceat(pixels.astype(np.float32), starts, axis=1), starts, axis=2)
    means = sums / counts[:, None, None] / counts[None, :, None]
    light = np.median(means.reshape(n, -1, channels), axis=1)
    return np.asarray(means - light[:, None, None, :], np.float32)


def odd_cells(means: NDArray[np.float32]) -> NDArray[np.bool_]:
    """Which cells of the border ring are out of the ordinary, N×16×16, each with its neighbours: marks straddle."""
    away = np.abs(means - np.median(means, axis=0)).max(axis=3)
    usual = np.median(away, axis=0) + 1.0
    odd: NDArray[np.bool_] = away > FAR * usual
    ring = np.zeros((CELLS, CELLS), bool)
    ring[:] = True
    ring[BORDER:-BORDER, BORDER:-BORDER] = False
    odd &= ring
    wide = odd.copy()
    wide[:, 1:] |= odd[:, :-1]
    wide[:, :-1] |= odd[:, 1:]
    grown = wide.copy()
    grown[:, :, 1:] |= wide[:, :, :-1]
    grown[:, :, :-1] |= wide[:, :, 1:]
    return grown


def _place(row: int, column: int) -> str:
    third = CELLS / 3
    vertical = "top" if row < third else "bottom" if row >= 2 * third else ""
    horizontal = "left" if column < third else "right" if column >= 2 * third else ""
    return " ".join(filter(None, (vertical, horizontal))) or "edge"
