"""Several labels for one image: a set of them is kept as one class, whose name is theirs, in order.

So an image has one class in every workspace, and what counts, splits, corrects and undoes classes does the same with
sets of labels. Only what learns and answers several labels takes the names apart.
"""

from __future__ import annotations

from collections.abc import Iterable, Sequence

import numpy as np
from numpy.typing import NDArray

SEPARATOR = "; "
"""Between two labels in the name of a set of them."""
NO_LABEL = "no label"
"""The name of the set without any."""
HALF = 0.5
"""Probability from which a label is said where nobody chose another."""
PARTED = ";"
"""Between the labels of an image where a source has a column of 0 and 1 for each, and no sign of its own."""
NOT = "not "
"""Before a label, in the name of the class of images that do not have it."""


def label_set(labels: Iterable[str]) -> str:
    """The name of a set of labels: each once, in the order of the alphabet."""
    return SEPARATOR.join(sorted({label for label in labels if label and label != NO_LABEL})) or NO_LABEL


def labels_in(name: str, separator: str = SEPARATOR) -> tuple[str, ...]:
    """The labels in the name of a set, or in a table's cell, where something else may part them."""
    words = (word.strip() for word in name.split(separator.strip() or separator))
    return tuple(word for word in words if word and word != NO_LABEL)


def labels_of(classes: Iterable[str]) -> tuple[str, ...]:
    """All labels of some sets, each once, in the order of the alphabet."""
    return tuple(sorted({label for name in classes for label in labels_in(name)}))


def members_of(classes: Sequence[str], labels: Sequence[str]) -> NDArray[np.bool_]:
    """Which of L labels each of K sets has, K×L."""
    sets = [frozenset(labels_in(name)) for name in classes]
    return np.array([[label in each for label in labels] for each in sets], bool).reshape(len(classes), len(labels))


def of_one(label: str) -> tuple[str, str]:
    """The two classes of images by one label: those without it, and those with it."""
    return f"{NOT}{label}", label
