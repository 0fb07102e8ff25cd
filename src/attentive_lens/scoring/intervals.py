"""How far a share of so many images can be trusted."""

from __future__ import annotations

import math

Z = 1.96
"""Of a normal distribution, for 95 %."""


def interval(accuracy: float, images: int) -> tuple[float, float]:
    """Of an accuracy, 0 to 1, on so many images, 95 % (Wilson 1927)."""
    middle = (accuracy + Z**2 / (2 * images)) / (1 + Z**2 / images)
    half = Z / (1 + Z**2 / images) * math.sqrt(accuracy * (1 - accuracy) / images + Z**2 / (4 * images**2))
    return max(0.0, middle - half), min(1.0, middle + half)
