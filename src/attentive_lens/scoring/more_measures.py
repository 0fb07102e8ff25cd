"""Measures that packages bring, computed from a set's answers."""

from __future__ import annotations

import math
from collections.abc import Callable, Mapping
from typing import Any

import numpy as np
from numpy.typing import NDArray

from attentive_lens.core.extensions import Parts, leave_out, problem_with, raising
from attentive_lens.errors import BadFile
from attentive_lens.plan.measures import more_measures

GROUP = "scoring.measures"
COMPUTED: Parts[Callable[[NDArray[Any], NDArray[np.int64]], float]] = Parts(
    {}, GROUP, raising, lambda thing: thing if callable(thing) else None
)


def more_measured(answers: NDArray[np.floating[Any]], labels: NDArray[np.int64]) -> dict[str, float]:
    """By name, what packages bring, of the answers M×K to M images with true classes M; nothing without images.

    One that raises or gives no number is left out, and told as other parts that are (`core.extensions`).
    """
    result = {}
    for measure in more_measures() if len(labels) else ():
        try:
            value = float(COMPUTED[measure.name](answers, labels))
        except Exception as error:  # noqa: BLE001  # it is somebody else's code: whatever it raises is told
            leave_out(GROUP, measure.name, f"{type(error).__name__}: {error}"[:300])
            continue
        if math.isfinite(value):
            result[measure.name] = value
        else:
            leave_out(GROUP, measure.name, f"it came to {value}")
    return result


def check_known(name: str, values: Mapping[str, float]) -> None:
    """Refuse to go by a measure that could not be computed.

    Raises
    ------
    BadFile
        If it is not among the values.
    """
    if name not in values:
        why = problem_with(GROUP, name) or "nothing computes it"
        raise BadFile(f"The measure «{name}» could not be computed", why, "Choose another measure, or mend its package")
