"""Which images are shown, in which groups and in which order."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field

import numpy as np
from numpy.typing import NDArray

from attentive_lens.core.numbering import number_at, place_of
from attentive_lens.desk.images.collection import Collection

MEASURES = ("pixels", "brightness", "contrast", "sharpness")
"""What every image can be measured by; the first needs only the catalogue."""
ORDERS = ("class and set", *MEASURES, "answer")
MOST_SETS_OF_LABELS = 60
"""Up to which each is a group of images."""
SHOWN_SETS = ("training", "validation", "test", "left out", "excluded", "gone")


@dataclass(frozen=True, slots=True)
class Said:
    """The name of the class said of an image, its probability, and whether it is right."""

    name: str
    probability: float
    right: bool


@dataclass(frozen=True)
class Answers:
    """What the run in view said, by image number."""

    predicted: Mapping[int, Said] = field(default_factory=dict)


@dataclass(frozen=True)
class Wanted:
    """What somebody wants to see.

    Attributes
    ----------
    label : int or None
        Only this class; of several labels, only images with this one, see `Collection.kinds`.
    sets : frozenset of str
        Only these sets.
    flagged : bool
        Only marked images.
    answers : str
        "" for all, "wrong" or "correct" for those the run in view answered so.
    within : mapping of str to (float, float)
        Only images whose measure lies in the closed range.
    order : str
        One of `ORDERS`; "answer" puts the surest mistakes first.
    descending : bool
        Largest first, for measures.
    """

    label: int | None = None
    sets: frozenset[str] = frozenset(SHOWN_SETS)
    flagged: bool = False
    answers: str = ""
    within: Mapping[str, tuple[float, float]] = field(default_factory=dict)
    order: str = "class and set"
    descending: bool = False


@dataclass(frozen=True)
class Shown:
    """Images under one heading: its parts, and places in the collection."""

    title: str
    note: str
    places: NDArray[np.int64]


def pixels_of(collection: Collection) -> NDArray[np.float32]:
    """Length of the shorter side of every file, in pixels."""
    return np.array([min(row.width, row.height) for row in collection.rows], np.float32)


def browse(
    collection: Collection, choice: Wanted, measures: Mapping[str, NDArray[np.float32]], answers: Answers
) -> list[Shown]:
    """Groups of images, in order; measures that are not there yet neither filter nor sort."""
    keep = _kept(collection, choice, measures, answers)
    places = np.flatnonzero(keep)
    if choice.order in measures:
        values = measures[choice.order][places]
        ranked = places[np.argsort(-values if choice.descending else values, kind="stable")]
        return [Shown(f"by {choice.order}", "", ranked)] if len(ranked) else []
    if choice.order == "answer" and answers.predicted:
        return _by_answer(places, answers)
    return _by_class_and_set(collection, places)


def _kept(
    collection: Collection, choice: Wanted, measures: Mapping[str, NDArray[np.float32]], answers: Answers
) -> NDArray[np.bool_]:
    keep = np.ones(len(collection.rows), bool)
    if choice.label is not None:
        keep &= collection.of_kind(choice.label)
    keep &= collection.in_sets(choice.sets)
    if choice.flagged:
        keep &= np.isin(np.arange(len(keep)), collection.flagged)
    for name, (low, high) in choice.within.items():
        if name in measures:
            keep &= (measures[name] >= low) & (measures[name] <= high)
    if choice.answers and answers.predicted:
        right = np.zeros(len(keep), np.int8)
        for number, answer in answers.predicted.items():
            right[place_of(number)] = 1 if answer.right else -1
        keep &= right == (1 if choice.answers == "correct" else -1)
    return keep


def _by_class_and_set(collection: Collection, places: NDArray[np.int64]) -> list[Shown]:
    """A group for each class in each set; of many sets of labels, which are mostly of few images, one for each set."""
    codes = collection.set_codes(SHOWN_SETS)[places]
    if collection.several and len(np.unique(collection.labels[places])) > MOST_SETS_OF_LABELS:
        ranked = places[np.argsort(collection.labels[places], kind="stable")]
        of_set = collection.set_codes(SHOWN_SETS)[ranked]
        parts = [(name, ranked[of_set == code]) for code, name in enumerate(SHOWN_SETS)]
        return [Shown(name, "by their labels", own) for name, own in parts if len(own)]
    keys = collection.labels[places] * len(SHOWN_SETS) + codes
    ranked = np.argsort(keys, kind="stable")
    edges = np.flatnonzero(np.diff(keys[ranked])) + 1
    groups = []
    for part in np.split(ranked, edges):
        if len(part):
            label, code = divmod(int(keys[part[0]]), len(SHOWN_SETS))
            groups.append(Shown(collection.classes[label], SHOWN_SETS[code], places[part]))
    return groups


def _by_answer(places: NDArray[np.int64], answers: Answers) -> list[Shown]:
    """Wrong answers, the surest first; right ones, the least sure first; those not asked about."""
    wrong, right, others = [], [], []
    for place in places.tolist():
        answer = answers.predicted.get(number_at(place))
        if answer is None:
            others.append(place)
        elif answer.right:
            right.append((answer.probability, place))
        else:
            wrong.append((-answer.probability, place))
    named = (
        ("wrong", "the surest first", [place for _, place in sorted(wrong)]),
        ("correct", "the least sure first", [place for _, place in sorted(right)]),
        ("not asked about", "", others),
    )
    return [Shown(title, note, np.array(places_shown, np.int64)) for title, note, places_shown in named if places_shown]


def find_images(collection: Collection, words: str) -> list[int]:
    """Places of the images a number or a name stands for, the best first.

    A whole number is the image of that number; anything else is looked for in the names: the whole name, its
    beginning, any part of it, any part of the path; without regard to case.
    """
    if words.isascii() and words.isdigit() and len(words) < 12:
        number = int(words)
        return [place_of(number)] if 1 <= number <= len(collection.rows) else []
    plain = words.casefold()
    ranked: list[tuple[int, int]] = []
    for place, row in enumerate(collection.rows):
        name = row.name.casefold()
        if plain in name:
            ranked.append((0 if plain in (name, name.rsplit(".", 1)[0]) else 1 if name.startswith(plain) else 2, place))
        elif plain in row.file.casefold():
            ranked.append((3, place))
    return [place for _, place in sorted(ranked)]


def histogram(values: Sequence[float] | NDArray[np.float32], bins: int = 40) -> tuple[NDArray[np.int64], float, float]:
    """Counts over even steps from the least to the greatest value that is known, and these two."""
    numbers = np.asarray(values, np.float64)
    numbers = numbers[np.isfinite(numbers)]
    if not len(numbers):
        return np.zeros(bins, np.int64), 0.0, 1.0
    low, high = float(numbers.min()), float(numbers.max())
    high = high if high > low else low + 1.0
    counts, _ = np.histogram(numbers, bins, (low, high))
    return counts.astype(np.int64), low, high
