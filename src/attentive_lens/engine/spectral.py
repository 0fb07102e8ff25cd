"""Weights used divided by their largest singular value, so that a discriminator cannot become steep (Miyato 2018)."""

from __future__ import annotations

from collections.abc import Collection, Iterator, Mapping
from contextlib import contextmanager
from dataclasses import dataclass, field

import numpy as np

from attentive_lens.core.random import random_generator
from attentive_lens.engine.arrays import Array, Weights

MARK = "/spectral "
"""How a checkpoint calls a vector: this, the node, a bar, and the array."""
LEAST = 1e-12
"""Norm below which nothing is divided by it."""


@dataclass
class SpectralNormalisation:
    """Of some nodes' kernels and matrices, each laid out as a matrix whose columns are filters or units.

    Attributes
    ----------
    vectors : dict
        (node, array) → the right singular vector as far as it was found; one round of power iteration a step.
    """

    nodes: Collection[str]
    seed: int
    vectors: dict[tuple[str, str], Array] = field(default_factory=dict)

    @contextmanager
    def applied(self, weights: Weights, step: bool) -> Iterator[dict[tuple[str, str], tuple[float, Array, Array]]]:
        """Put the weights divided in the place of the weights, for as long as it is open.

        Parameters
        ----------
        weights : dict
            Changed in place, and as before when it is closed.
        step : bool
            Whether the vectors move on by a round (algorithm 1).

        Yields
        ------
        dict
            (node, array) → singular value, left and right singular vectors; see `gradients`.
        """
        values, before = {}, {}
        for node in self.nodes:
            for name, array in weights.get(node, {}).items():
                if array.ndim > 1:
                    values[node, name] = self._largest(node, name, array, step)
                    before[node, name] = array
        try:
            for (node, name), (value, _, _) in values.items():
                weights[node][name] = before[node, name] / before[node, name].dtype.type(value)
            yield values
        finally:
            for (node, name), array in before.items():
                weights[node][name] = array

    def _largest(self, node: str, name: str, array: Array, step: bool) -> tuple[float, Array, Array]:
        """Singular value and vectors by one round from where the last one ended."""
        matrix = array.reshape(-1, array.shape[-1])
        right = self.vectors.get((node, name))
        if right is None:
            rng = random_generator(self.seed, f"singular vector of {node} {name}")
            right = _unit(rng.standard_normal(matrix.shape[1]).astype(array.dtype))
        left = _unit(matrix @ right)
        onward = _unit(matrix.T @ left)
        if step:
            self.vectors[node, name] = onward
        return max(LEAST, float(left @ matrix @ onward)), left, onward

    @staticmethod
    def gradients(
        gradients: Weights, weights: Weights, values: dict[tuple[str, str], tuple[float, Array, Array]]
    ) -> None:
        """Turn gradients by the divided weights into those by the weights, in place: (G − ⟨G, W⟩ u vᵀ) / σ (eq. 12).

        The weights are those divided, W.
        """
        for (node, name), (value, left, right) in values.items():
            grad = gradients.get(node, {}).get(name)
            if grad is None:
                continue
            along = np.vdot(grad, weights[node][name])
            grad -= (along * np.outer(left, right)).reshape(grad.shape)
            grad /= grad.dtype.type(value)

    def memory(self) -> dict[str, Array]:
        """The vectors for a checkpoint; `restore` takes them."""
        return {f"{MARK}{node}|{name}": vector for (node, name), vector in self.vectors.items()}

    def restore(self, memory: Mapping[str, Array]) -> None:
        """As `memory` gave them."""
        for key, vector in memory.items():
            if key.startswith(MARK):
                node, _, name = key.removeprefix(MARK).rpartition("|")
                self.vectors[node, name] = vector.copy()


def _unit(vector: Array) -> Array:
    return np.asarray(vector / max(LEAST, float(np.linalg.norm(vector))), vector.dtype)
