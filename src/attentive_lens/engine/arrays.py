"""The array types of the engine."""

from __future__ import annotations

from typing import Any, TypeAlias

import numpy as np
from numpy.typing import NDArray

# Any: NumPy's own word for a precision left open
Array: TypeAlias = NDArray[np.floating[Any]]
"""float32 or float64, C-contiguous; images and feature maps are N×H×W×C, rows of values N×V."""

Inputs: TypeAlias = tuple[Array, ...]
"""What a layer that joins gets: one array an input."""

Dtype: TypeAlias = np.dtype[np.floating[Any]]
"""Of an `Array`: NumPy's way to leave the precision open."""

DTYPES: dict[str, type] = {"single": np.float32, "double": np.float64}
"""By a plan's precision."""

Labels: TypeAlias = NDArray[np.int64]
"""Class numbers, N, from 0."""

Weights: TypeAlias = dict[str, dict[str, Array]]
"""Arrays that training changes: node name → array name → array."""
