"""Figures about maps, as plain values: nothing here computes, so anybody may name them."""

from __future__ import annotations

from dataclasses import dataclass


@dataclass(frozen=True)
class Gain:
    """How far a map's order of the pixels parts a class from the next one, beside other orders.

    All but ``share`` are differences of two scores before the output function: natural logarithms of odds where that
    is softmax.

    Attributes
    ----------
    deletion, insertion : float
        Area under the curve of the class's score less the next class's, while the image is put out of focus, what the
        map marks most first, and while it is restored from there in the same order.
    random, spread : float
        Mean and standard deviation of the gains of random maps that hang together.
    best_random : float
        The greatest of them.
    rivals : dict
        Gains of what knows nothing of this answer: «edges» of the image, a blob in its «middle», the map for the «next
        class», and the same method's on the network with «random weights».
    reach : float
        What the best order could gain at most, as far as the curves tell.
    passed : bool or None
        Whether the map gains more than all of these, by more than their spread; None where no order gains so much that
        anything in this image could be said to decide between the two classes.
    """

    deletion: float
    insertion: float
    random: float
    spread: float
    best_random: float
    rivals: dict[str, float]
    reach: float
    passed: bool | None

    @property
    def value(self) -> float:
        """Insertion less deletion: the more, the better the map."""
        return self.insertion - self.deletion

    @property
    def limit(self) -> float:
        """What the map must gain more than."""
        return max(self.best_random, *(gain + self.spread for gain in self.rivals.values()), self.random + self.spread)

    @property
    def share(self) -> float:
        """The gain over random maps as a part of what could be reached, at most 1."""
        return self.part(self.value)

    def part(self, gain: float) -> float:
        """Where any gain stands between that of random maps, 0, and what could be reached, 1."""
        room = self.reach - self.random
        return min(1.0, (gain - self.random) / room) if room > 0 else 0.0

    @property
    def verdict(self) -> str:
        """In a word or two."""
        return {True: "passes", False: "fails", None: "cannot be told"}[self.passed]


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
