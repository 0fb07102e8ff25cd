"""The same picture twice, above all in two sets."""

from __future__ import annotations

import math

import numpy as np
from numpy.typing import NDArray
from scipy.ndimage import gaussian_filter

from attentive_lens.core.jobs import Job, Progress, breathe, paced
from attentive_lens.images.faults.base import Action, Evidence, Finder, Finding, at_a_time, images_in_words
from attentive_lens.images.pixel_format import PixelArray
from attentive_lens.images.registration import BLANK, LEAST, SHIFT, Registered, fitted

COARSE = 16
STEP = 3
"""Pixels by which coarse pictures are moved every way before they are compared: a cell is about four."""
NEAR_COARSE = 0.5
"""Correlation of coarse pictures from which two are looked at closely."""
AT_ONCE = 64
COLUMNS = 8192
"""Images compared with a part at once: 2 MB of likenesses."""
MOST_ALIKE = 8
"""Likely copies of an image that are looked at closely, in each such lot."""
KEPT = 4096
FARTHEST = 6
"""Pixels by which pictures of small files may be shifted, where others may be by `SHIFT`."""
OTHERS = 8
"""Other images of its class with which an image must fit far worse than with its copy."""
FAR_WORSE = 4.0
EQUAL = 1e-4
"""What may remain between pictures that are equal, whatever else is like them."""
KINDS = {
    "leak": ("in more than one set", "Keep each in one set only, else the score is too good"),
    "contradiction": ("there under different labels", "Look at each and correct the label"),
    "sizes": ("there in several sizes", "Keep all sizes of one in one set, or only its largest"),
    "duplicate": ("there more than once", "Keep one of each"),
}
ORDER = {"test": 3, "validation": 2, "training": 1}
"""Which of some copies is kept: a test set must not shrink."""
OTHER_SIZE = 1.25
"""Ratio of sides from which two files of one picture are sizes of it."""
TINT = 0.012
"""Of white: what may remain between the mean colours of copies once their brightness is matched."""


class Duplicates(Finder):
    """Pictures that show the same but for brightness, a shift of up to three pixels of their files, noise, another size
    or another packing.

    A coarse picture of 16×16 proposes pairs; laid over each other (see `images.registration`) next to nothing may
    remain, nowhere, and far less than remains against other images of the class: regular patterns and smooth pictures
    all fit each other a little. A group is what fits one picture of it, never a chain. Mirrored or turned copies are
    not looked for, nor those whose shapes differ.
    """

    def find(self, evidence: Evidence) -> Job[list[Finding]]:
        """At most one finding of each kind: under two labels, in two sets, in several sizes, and others."""
        kinds: dict[str, list[tuple[int, ...]]] = {kind: [] for kind in KINDS}
        groups = yield from duplicate_groups(evidence)
        for places in groups:
            sides = [int(evidence.sizes[p].max()) for p in places]
            if len({int(evidence.labels[p]) for p in places}) > 1:
                kinds["contradiction"].append(tuple(places))
            elif max(sides) > OTHER_SIZE * min(sides):
                kinds["sizes"].append(tuple(places))
            elif len({evidence.sets[p] for p in places}) > 1:
                kinds["leak"].append(tuple(places))
            else:
                kinds["duplicate"].append(tuple(places))
        return [_finding(evidence, kind, members) for kind, members in kinds.items() if members]


def _finding(evidence: Evidence, kind: str, groups: list[tuple[int, ...]]) -> Finding:
    where, remedy = KINDS[kind]
    places = tuple(place for group in groups for place in group)

    def rank(place: int) -> tuple[int, int, int]:
        size = int(evidence.sizes[place].max())
        return (size if kind == "sizes" else 0, ORDER.get(evidence.sets[place], 0), -place)

    stay = {max(group, key=rank) for group in groups}
    out = tuple(place for place in places if place not in stay)
    which = "the largest of each" if kind == "sizes" else "one of each in the set judged last"
    leave_out = Action(f"exclude {images_in_words(len(out))}, keep {which}", out)
    mark = Action("flag them", flag=places)
    bind = Action("keep each group in one set", together=tuple(groups))
    actions = {
        "contradiction": (mark, leave_out),
        "sizes": (bind, leave_out),
        "leak": (leave_out, bind, mark),
        "duplicate": (leave_out, mark),
    }[kind]
    pictures = "1 picture stands" if len(groups) == 1 else f"{len(groups)} pictures stand"
    across = sum(len({evidence.sets[p] for p in group}) > 1 for group in groups)
    more = f", {across} of them in more than one set" if kind == "sizes" and across else ""
    return Finding(kind, f"{pictures} {where} ({len(places)} images){more}", remedy, places, actions, tuple(groups))


def duplicate_groups(evidence: Evidence) -> Job[list[list[int]]]:
    """Groups of places, each of two or more, the first being the picture that the others are copies of.

    Notes
    -----
    Takes 512 bytes an image besides the pictures at hand. The coarse comparison, nine times over, grows with the square
    of the number of images (5 ms of product for each 10 000 against one hundred); of those alike an image's nearest few
    go on.
    """
    count = len(evidence)
    coarse = np.empty((count, COARSE * COARSE), np.float16)
    colours = np.empty((count, evidence.pixels.shape[3]), np.float32)
    for progress, places in at_a_time(count, "looking for copies"):
        yield progress
        images = evidence.images(places)
        colours[places] = images.mean(axis=(1, 2)) / 255
        coarse[places] = _unit(_shrunk(_even(images)))
    pairs: list[tuple[int, int]] = []
    for progress, places in at_a_time(count, "looking for copies", AT_ONCE):
        yield progress
        pairs += _alike(coarse, colours, places, _moved(_even(evidence.images(places))))
    close = _Close(evidence)
    sure = []
    for done, (one, other) in enumerate(pairs):
        breathe()
        if done % AT_ONCE == 0:
            yield Progress(done, len(pairs), "comparing likely copies")
        if close.are_copies(one, other):
            sure.append((one, other))
    return _stars(sure)


def _stars(pairs: list[tuple[int, int]]) -> list[list[int]]:
    """Groups of what is paired with one representative each, those with most pairs first; sorted by it."""
    near: dict[int, set[int]] = {}
    for one, other in pairs:
        near.setdefault(one, set()).add(other)
        near.setdefault(other, set()).add(one)
    free = set(near)
    groups = []
    for middle in sorted(near, key=lambda place: (-len(near[place]), place)):
        members = near[middle] & free - {middle}
        if middle in free and members:
            groups.append([middle, *sorted(members)])
            free -= {middle, *members}
    return sorted((sorted(group) for group in groups), key=lambda group: group[0])


def _alike(
    coarse: NDArray[np.float16],
    colours: NDArray[np.float32],
    places: NDArray[np.int64],
    moved: list[NDArray[np.float32]],
) -> list[tuple[int, int]]:
    """Pairs, the first of ``places`` and the second after it, that are alike coarsely and of the same tint.

    The first are coarse pictures moved every way.
    """
    pairs = []
    for first in range(int(places[0]), len(coarse), COLUMNS):
        breathe()
        others = coarse[first : first + COLUMNS].astype(np.float32).T
        near = moved[0] @ others
        for part in moved[1:]:
            breathe()
            np.maximum(near, part @ others, out=near)
        near[places[:, None] >= np.arange(first, first + near.shape[1])] = -1
        for row, likeness in enumerate(paced(near, 8)):
            best = np.argsort(-likeness, kind="stable")[: 4 * MOST_ALIKE]
            best = best[likeness[best] > NEAR_COARSE]
            if len(best):
                colour = np.broadcast_to(colours[places[row]], (len(best), colours.shape[1]))
                best = best[_same_tint(colour, colours[best + first])][:MOST_ALIKE]
                pairs += [(int(places[row]), int(k) + first) for k in best]
    return pairs


class _Close:
    """Lays pictures over each other; those asked for last are kept prepared, for many pairs have one in common."""

    def __init__(self, evidence: Evidence) -> None:
        self._evidence = evidence
        self._prepared: dict[int, Registered] = {}
        members = [np.flatnonzero(evidence.labels == label) for label in range(len(evidence.classes))]
        self._others = [
            places[np.linspace(0, len(places) - 1, min(len(places), OTHERS + 2)).astype(int)] for places in members
        ]
        self._usual: dict[int, list[tuple[int, float]]] = {}

    def are_copies(self, one: int, other: int) -> bool:
        """Whether two pictures are copies, and fit each other far better than the rest of their class."""
        first, second = self._of(one), self._of(other)
        if min(first.contrast, second.contrast) < BLANK:
            return False
        fit = fitted(first, second, LEAST, self._shift(one, other))
        if not fit.same or fit.residual < EQUAL:
            return fit.same
        usual = [residual for place, residual in self._usual_of(other) if place not in (one, other)]
        return fit.residual * FAR_WORSE < min(usual, default=1.0)

    def _shift(self, one: int, other: int) -> int:
        """Pixels by which two pictures may be shifted: three of their files, be they smaller than what is compared."""
        smaller = max(1, int(self._evidence.sizes[[one, other]].min()))
        return min(FARTHEST, max(SHIFT, math.ceil(SHIFT * self._evidence.side / smaller)))

    def _usual_of(self, place: int) -> list[tuple[int, float]]:
        """What remains of a picture when some others of its class are laid over it."""
        if place not in self._usual:
            others = self._others[int(self._evidence.labels[place])].tolist()
            picture = self._of(place)
            self._usual[place] = [(k, fitted(self._of(k), picture).residual) for k in paced(others, 1) if k != place]
        return self._usual[place]

    def _of(self, place: int) -> Registered:
        if place not in self._prepared:
            if len(self._prepared) >= KEPT:
                del self._prepared[next(iter(self._prepared))]
            self._prepared[place] = Registered.of(self._evidence.grey(np.array([place]))[0])
        return self._prepared[place]


def _even(images: PixelArray) -> NDArray[np.float32]:
    """Grey pictures N×H×W without what changes slowly over them."""
    grey = images.mean(axis=3, dtype=np.float32) / 255
    slow = images.shape[1] / 8
    return np.asarray(gaussian_filter(grey, (0, 1.25, 1.25)) - gaussian_filter(grey, (0, slow, slow)), np.float32)


def _moved(pictures: NDArray[np.float32]) -> list[NDArray[np.float32]]:
    """Coarse pictures, as they are and a few pixels to every side."""
    steps = (0, -STEP, STEP) if pictures.shape[1] > 4 * STEP else (0,)
    places = [(down, across) for down in steps for across in steps]
    return [_unit(_shrunk(np.roll(pictures, place, (1, 2)))) for place in paced(places, 1)]


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
