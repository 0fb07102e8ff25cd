"""The array types of the engine."""

from __future__ import annotations

from typing import Any, TypeAlias

import numpy as np
from numpy.typing import NDArray

Array: TypeAlias = NDArray[np.floating[Any]]
"""float32 or float64, C-contiguous; images and feature maps are N×H×W×C, rows of values N×V."""

Labels: TypeAlias = NDArray[np.int64]
"""Class numbers, N, from 0."""

Weights: TypeAlias = dict[str, dict[str, Array]]
"""Arrays that training changes: node name → array name → array."""
