"""Marks: near the border in much of one class, a shortcut a network would rather learn than the thing itself; or the
same small thing in a few images.
"""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray
from scipy.ndimage import maximum_filter

from attentive_lens.core.jobs import Job, breathe
from attentive_lens.images.faults.base import Action, Evidence, Finder, Finding, at_a_time, images_in_words
from attentive_lens.images.faults.recurring import Recurring, recurring
from attentive_lens.images.pixel_format import PixelArray
from attentive_lens.images.preprocessing import LUMA_CHROMA
from attentive_lens.plan.augmentation import Erasing

SAMPLED = 6000
"""Images that tell what is usual."""
CELLS = 16
FEWEST = 20
"""Images of a class outside the test set, and of all others, below which chance looks like a mark."""
BORDER = 4
"""Cells from the edge that count as border: what is photographed stands in the middle."""
FAR = 5.0
"""Times the usual spread of a cell from which a colour is out of the ordinary."""
WIDE = 4
"""Cells across that a mark is taken to cover when a model is asked about it."""
RING = np.ones((CELLS, CELLS), bool)
RING[BORDER:-BORDER, BORDER:-BORDER] = False
ALL_ROUND = 0.6
"""Part of the cells about a mark from which it must differ by half as much as from the usual one of them."""
STANDS_OUT = 2.0
"""Times the spread of the cells about it by which a mark differs from them."""
OFTENER = 4.5
"""Times as often as in other classes it must be there: corners of things are like each other."""
MORE = 0.35
"""Part of a class's images by which it must be there more often than in other classes and at mirrored places."""


class Marks(Finder):
    """Colours out of the ordinary, in the same place of the border, in many images of one class and in few others.

    The picture is cut into 16×16 cells. A cell is out of the ordinary when its mean, in luma or in a chroma, lies far
    from what the class usually shows at the mirrored places: far in usual distances there. Debris lies anywhere and
    averages out, what is photographed reaches into the border on all sides alike, and a mark comes back where it was.
    Of such marks those in the middle, on all sides, and those that two classes share are not looked for.

    What a few images have, of whatever class and at whatever place, is told by its own likeness: see `recurring`.
    """

    def find(self, evidence: Evidence) -> Job[list[Finding]]:
        """At most one finding for each class; then one for each thing that a few images have."""
        findings = yield from self._of_classes(evidence)
        for thing in (yield from recurring(evidence)):
            if not thing.is_known(np.array(finding.places) for finding in findings):
                findings.append(_of_few(evidence, thing))
        return findings

    def _of_classes(self, evidence: Evidence) -> Job[list[Finding]]:
        training = np.flatnonzero(np.array(evidence.sets) != "test")
        if len(training) < 2 * FEWEST:
            return []
        labels = evidence.labels[training]
        usual = yield from _usual(evidence, training)
        odd = np.empty((len(training), CELLS, CELLS), bool)
        for progress, part in at_a_time(len(training), "looking for marks", 8):
            yield progress
            middle, away = usual[0][labels[part]], usual[1][labels[part]]
            odd[part] = odd_cells(cell_means(evidence.images(training[part])), middle, away)
        findings = []
        counts, in_all = np.bincount(labels, minlength=len(evidence.classes)), odd.sum(axis=0)
        for label, name in enumerate(evidence.classes):
            count = int(counts[label])
            if min(count, len(labels) - count) < FEWEST:
                continue
            of_class: NDArray[np.bool_] = np.asarray(labels == label)
            with_it = odd[of_class].sum(axis=0)
            here, elsewhere = with_it / count, (in_all - with_it) / (len(labels) - count)
            mirrored = np.median([here[::-1], here[:, ::-1], here[::-1, ::-1]], axis=0)
            more = here - np.maximum(elsewhere, mirrored)
            row, column = (int(n) for n in np.unravel_index(more.argmax(), more.shape))
            if more[row, column] < MORE or here[row, column] < OFTENER * elsewhere[row, column]:
                continue
            seen: NDArray[np.bool_] = np.asarray(odd[:, near_by(row, column, 1) & (more >= MORE)].any(axis=1))
            carriers = training[seen & of_class]
            rate, others = seen[of_class].mean(), seen[~of_class].mean()
            why = (
                f"{rate:.0%} of the images of «{name}» outside the test set have something at the"
                f" {_place(row, column)} that {others:.0%} of the others have: a mark that may be learned in its place,"
                " or part of the thing"
            )
            ranked = tuple(carriers.tolist())
            actions = (
                Action("cover places at random while training", step=Erasing(probability=0.5, range=(0.2, 0.4))),
                Action("flag them", flag=ranked),
            )
            remedy = "Look whether it belongs there; else cover places at random while training, or crop it away"
            spot = (*_middle(more * near_by(row, column, 2)), WIDE / CELLS)
            findings.append(Finding("mark", why, remedy, ranked, actions, spot=spot))
        return findings


def _of_few(evidence: Evidence, thing: Recurring) -> Finding:
    counts = np.bincount(evidence.labels[thing.places], minlength=len(evidence.classes))
    most, held = int(counts.argmax()), int((counts > 0).sum())
    where = f"at the {_place(*(int(part * CELLS) for part in thing.spot[:2]))}" if thing.spot else "at different places"
    name = evidence.classes[most]
    of = f"all of «{name}»" if held == 1 else f"{counts[most]} of them of «{name}»"
    what = (
        "a mark that may be learned in its place, or part of the thing"
        if held == 1
        else "perhaps a stamp, a label or a pen"
    )
    looked = f" of {thing.looked} looked at" if thing.looked < len(evidence) else ""
    why = (
        f"{images_in_words(len(thing.places))}{looked}, {of}, have the same small thing {where},"
        f" {thing.across:.0%} of a side across, and no other has one nearly like it: {what}"
    )
    ranked = tuple(thing.places.tolist())
    actions = (
        Action("flag them", flag=ranked),
        Action("cover places at random while training", step=Erasing(probability=0.5, range=(0.1, 0.3))),
        Action(f"exclude {images_in_words(len(ranked))}", ranked),
    )
    remedy = "Look at it: if it does not belong there crop it away, or leave these images out"
    return Finding("mark", why, remedy, ranked, actions, spot=thing.spot if held == 1 else None)


def cell_means(pixels: PixelArray) -> NDArray[np.float32]:
    """Mean of every cell against its image's border, N×16×16×C: luma and two chromas, or grey, about 0.

    A brighter lamp is no mark: the median of the image's border is taken off.
    """
    side, channels = pixels.shape[1], pixels.shape[3]
    edges = np.linspace(0, side, CELLS + 1).astype(int)
    starts = np.minimum(edges[:-1], side - 1)
    counts = np.maximum(1, np.diff(edges)).astype(np.float32)
    sums = np.add.reduceat(np.add.reduceat(pixels.astype(np.float32), starts, axis=1), starts, axis=2)
    means = sums / counts[:, None, None] / counts[None, :, None]
    means = np.asarray(means @ LUMA_CHROMA.T if channels == 3 else means, np.float32)
    return np.asarray(means - np.median(means[:, RING], axis=1)[:, None, None], np.float32)


def _usual(evidence: Evidence, training: NDArray[np.int64]) -> Job[tuple[NDArray[np.float32], NDArray[np.float32]]]:
    """For each class the median of the cells at the mirrored places, and the usual distance from it, K×16×16×C."""
    sample = training[np.unique(np.linspace(0, len(training) - 1, min(SAMPLED, len(training))).astype(int))]
    parts = []
    for progress, part in at_a_time(len(sample), "looking for marks"):
        yield progress
        parts.append(cell_means(evidence.images(sample[part])))
    means = np.concatenate(parts)
    of_all: tuple[NDArray[np.float32], NDArray[np.float32]] | None = None
    pairs = []
    for label in range(len(evidence.classes)):
        of_class = means[evidence.labels[sample] == label]
        if len(of_class) >= FEWEST // 2:
            pairs.append(_middle_and_distance(of_class))
            continue
        of_all = of_all or _middle_and_distance(means)  # once, however many small classes there are
        pairs.append(of_all)
    return np.stack([pair[0] for pair in pairs]), np.stack([pair[1] for pair in pairs])


def _middle_and_distance(means: NDArray[np.float32]) -> tuple[NDArray[np.float32], NDArray[np.float32]]:
    """The median of cells N×16×16×C at the mirrored places, and the usual distance from it."""
    breathe()
    mirrored = np.concatenate([means[:, ::-1], means[:, :, ::-1], means[:, ::-1, ::-1]])
    middle = np.asarray(np.median(mirrored, axis=0), np.float32)
    breathe()
    return middle, np.asarray(np.median(np.abs(mirrored - middle), axis=0), np.float32)


def odd_cells(means: NDArray[np.float32], middle: NDArray[np.float32], away: NDArray[np.float32]) -> NDArray[np.bool_]:
    """Which cells of the border ring are out of the ordinary and stand out, N×16×16, each with its neighbours.

    To stand out a cell must differ from those three cells away, in the same picture, by more than they differ
    from each other: what reaches on into the picture is the thing itself, no mark on it.
    """
    odd = (np.abs(means - middle) > FAR * (away + 1)).any(axis=3) & RING
    about = _about(means)
    usual = np.median(about, axis=0)
    spread = 1.4826 * np.median(np.abs(about - usual), axis=0)
    apart = np.abs(means - usual)
    odd &= (apart > STANDS_OUT * (spread + 1)).any(axis=3)
    differ = np.abs(about - means).max(axis=4) > apart.max(axis=3) / 2
    odd &= differ.mean(axis=0) > ALL_ROUND
    wide: NDArray[np.bool_] = maximum_filter(odd, (0, 3, 3))
    return wide


def _about(means: NDArray[np.float32]) -> NDArray[np.float32]:
    """The 24 cells three away from each, 24×N×16×16×C; at the edge the picture is mirrored."""
    wide = np.pad(means, ((0, 0), (3, 3), (3, 3), (0, 0)), mode="reflect")
    places = [(r, c) for r in range(7) for c in range(7) if max(abs(r - 3), abs(c - 3)) == 3]
    return np.stack([wide[:, r : r + CELLS, c : c + CELLS] for r, c in places])


def near_by(row: int, column: int, reach: int) -> NDArray[np.bool_]:
    """Cells at most so many rows and columns away."""
    near = np.zeros((CELLS, CELLS), bool)
    near[max(0, row - reach) : row + reach + 1, max(0, column - reach) : column + reach + 1] = True
    return near


def _middle(more: NDArray[np.floating]) -> tuple[float, float]:
    """Row and column of the middle of the cells that are nearly the strongest, parts of the side."""
    rows, columns = np.nonzero(more >= 0.8 * more.max())
    return float(rows.mean() + 0.5) / CELLS, float(columns.mean() + 0.5) / CELLS


def _place(row: int, column: int) -> str:
    third = CELLS / 3
    vertical = "top" if row < third else "bottom" if row >= 2 * third else ""
    horizontal = "left" if column < third else "right" if column >= 2 * third else ""
    return " ".join(filter(None, (vertical, horizontal))) or "middle"
