"""The request for an order of a confusion matrix's classes."""

from __future__ import annotations

from dataclasses import dataclass
from typing import ClassVar

import numpy as np
from numpy.typing import NDArray

from attentive_lens.desk.requests.base import Request


@dataclass(frozen=True)
class ClassesOrdered:
    """Class numbers as they are to stand, K int64."""

    order: NDArray[np.int64]


@dataclass(frozen=True)
class OrderClasses(Request[ClassesOrdered]):
    """The classes of a run's scores in one of `scoring.ordering.ORDERS`."""

    result: ClassVar[type[object]] = ClassesOrdered
    task: ClassVar[str] = "scoring.order_classes"
    workspace: str
    run: int
    on: str
    order: str
