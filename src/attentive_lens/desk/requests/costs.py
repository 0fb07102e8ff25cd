"""The request for what a run's mistakes cost."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from typing import ClassVar

import numpy as np
from numpy.typing import NDArray

from attentive_lens.core.values import spec
from attentive_lens.desk.requests.base import Request
from attentive_lens.scoring.costs import WITHHELD, Cost


@dataclass(frozen=True)
class DecidedOtherwise:
    """An image whose decision of least expected cost is not the class said.

    Attributes
    ----------
    image : int
        Its number.
    true, predicted, decided : str
        Classes: on the label, said, and decided; the last may be «withheld».
    before, after : float
        What the answer costs, and the decision.
    """

    image: int
    true: str
    predicted: str
    decided: str
    before: float
    after: float


@dataclass(frozen=True)
class Change:
    """Images of one class said that are decided otherwise in the same way, and what that saves in all."""

    predicted: str
    decided: str
    images: tuple[int, ...]
    saved: float


@dataclass(frozen=True)
class CostsWeighed:
    """What the answers of a run on a set cost, and what decisions of least expected cost do.

    Attributes
    ----------
    run, images : int
    on, table : str
        The set, and the table of costs.
    classes, decisions : tuple of str
        Rows and columns of the matrices.
    costs : ndarray, K×D float64
        Row true, column decided.
    temperature : float or None
        By which scores were divided before, as fits the validation set; None where there is none.
    said, least : Cost
        An image costs so much by the class said, and by the decision of least expected cost.
    saved : Cost
        The first less the second, image by image.
    constant : str
        The decision that would cost least if it were the same for all images of the set.
    constant_cost : float
        What it would cost an image.
    numbers, true, decided : ndarray, N int64
        Every image's number, its true class, and its decision.
    otherwise : tuple of DecidedOtherwise
        Those whose decision is another one, what saves most first.
    """

    run: int
    on: str
    table: str
    images: int
    classes: tuple[str, ...]
    decisions: tuple[str, ...]
    costs: NDArray[np.float64]
    temperature: float | None
    said: Cost
    least: Cost
    saved: Cost
    constant: str
    constant_cost: float
    numbers: NDArray[np.int64]
    true: NDArray[np.int64]
    decided: NDArray[np.int64]
    otherwise: tuple[DecidedOtherwise, ...]

    def matrix(self) -> NDArray[np.int64]:
        """Images D×D by true class and decision; nothing is truly withheld."""
        counts = np.zeros((len(self.decisions), len(self.decisions)), np.int64)
        np.add.at(counts, (self.true, self.decided), 1)
        return counts

    def images_in(self, rows: tuple[int, int], columns: tuple[int, int]) -> tuple[int, ...]:
        """Numbers of the images in a rectangle of the matrix, by its first and last row and column."""
        inside = (self.true >= rows[0]) & (self.true <= rows[1])
        inside &= (self.decided >= columns[0]) & (self.decided <= columns[1])
        return tuple(self.numbers[inside].tolist())

    def changes(self) -> list[Change]:
        """Those images by the class said and the decision, what saves most first."""
        groups: dict[tuple[str, str], list[DecidedOtherwise]] = {}
        for each in self.otherwise:
            groups.setdefault((each.predicted, each.decided), []).append(each)
        changes = [
            Change(*pair, tuple(each.image for each in own), sum(each.before - each.after for each in own))
            for pair, own in groups.items()
        ]
        return sorted(changes, key=lambda change: -change.saved)

    def sentences(self) -> Iterator[str]:
        """What it comes to."""
        yield (
            f"Answers cost {self.said} an image, decisions of least expected cost {self.least}: {self.saved} less."
            f" «{self.constant}» for all would cost {self.constant_cost:.3g}."
        )
        if self.temperature is None:
            yield "No temperature fits, for there is no validation set to fit it on: probabilities are as they are."
        withheld = sum(each.decided == WITHHELD for each in self.otherwise)
        more = f", {withheld} of them withheld" if WITHHELD in self.decisions else ""
        yield f"{len(self.otherwise)} of {self.images} images are decided otherwise{more}."
        if self.saved.may_be_none and self.otherwise:
            yield "That may be chance: the interval of what is saved holds zero."

    def words(self) -> Iterator[str]:
        """The sentences, then the images that are decided otherwise."""
        yield from self.sentences()
        for each in self.otherwise[:10]:
            yield (
                f"image {each.image}: said {each.predicted}, decided {each.decided}, true {each.true}:"
                f" {each.after:g} in place of {each.before:g}"
            )
        if len(self.otherwise) > 10:
            yield f"… and {len(self.otherwise) - 10} more; --json lists all."


@dataclass(frozen=True)
class WeighCosts(Request[CostsWeighed]):
    """Tell what a run's mistakes cost by a table of costs, and what decisions of least expected cost would save."""

    result: ClassVar[type[object]] = CostsWeighed
    task: ClassVar[str] = "costs.weigh_costs"
    doing: ClassVar[str] = "weighing costs"
    workspace: str
    run: int
    table: str = spec(
        names="table",
        meaning="Table of costs: true classes down and decisions across, or columns true, said and cost; a decision may"
        " be «withheld».",
    )
    on: str = "validation"
