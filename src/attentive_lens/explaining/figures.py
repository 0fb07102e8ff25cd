"""Figures about maps, as plain values: nothing here computes, so anybody may name them."""

from __future__ import annotations

from dataclasses import dataclass


@dataclass(frozen=True)
class Curve:
    """Area under the curve of a class's answer while pixels are deleted or restored, 0–1.

    Attributes
    ----------
    area : float
        For the map; small is good where pixels are deleted, large where they are restored.
    random, edges : float
        For random maps, their mean, and for an edge filter, which knows nothing of the network.
    limit : float
        The best of the random maps': what the map must pass.
    passed : bool or None
        Whether it does; None where the class has nothing to lose.
    """

    area: float
    random: float
    edges: float
    limit: float
    passed: bool | None

    @property
    def figures(self) -> tuple[str, str]:
        """Area and limit with as many decimals as tell them apart, two to four."""
        decimals = next((d for d in (2, 3) if f"{self.area:.{d}f}" != f"{self.limit:.{d}f}"), 4)
        return f"{self.area:.{decimals}f}", f"{self.limit:.{decimals}f}"


@dataclass(frozen=True)
class Curves:
    """Both curves of a map.

    Attributes
    ----------
    answer : float
        The class's for the untouched image.
    deletion : Curve
        The image with more and more put out of focus, what the map marks most first.
    insertion : Curve
        The image out of focus with more and more restored.
    passed : bool or None
        Whether it passes what was measured; None with nothing to lose.
    """

    answer: float
    deletion: Curve
    insertion: Curve
    passed: bool | None


@dataclass(frozen=True)
class WeightRandomisation:
    """What randomising weights does to a method's maps, mean over some images (Adebayo 2018, section 3).

    Attributes
    ----------
    output_layer, all_layers : float
        Rank correlation with the trained network's maps when the last layer's, and when all weights are drawn anew.
    noise, random : float
        The same under small noise, and with random maps: what «the same» and «unrelated» are.
    limit : float
        Half way between the two: a method whose maps stay more alike does not show the network.
    passed : bool
        Whether the maps change when the weights do.
    images : int
        How many.
    """

    output_layer: float
    all_layers: float
    noise: float
    random: float
    limit: float
    passed: bool
    images: int


@dataclass(frozen=True)
class Completeness:
    """What a map adds up to, where its method promises that it adds up to something.

    Attributes
    ----------
    sum, expected : float
        Of the map, and what it should be.
    score : float
        The class's, before the output function.
    error : float
        Their difference as a part of the larger of the last two.
    """

    sum: float
    expected: float
    score: float
    error: float
