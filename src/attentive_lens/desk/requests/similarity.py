"""The request that says what training changed in every layer."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from typing import ClassVar

from attentive_lens.core.telling import Rows
from attentive_lens.desk.requests.base import Request


@dataclass(frozen=True)
class LayerChange:
    """What training changed in a layer with weights.

    Attributes
    ----------
    layer : str
        Its name.
    from_base : bool
        Whether it was taken over.
    similarity : float or None
        Centred kernel alignment of what it gave before training and gives now: 1 the same, about 0 nothing in common.
        None where it gives the same for all images.
    unrelated : float or None
        The same with a network of other random weights, which has seen nothing.
    moved : float
        Norm of the change of its weights over the norm they had.
    filters : tuple of int
        Of its filters or units those that changed most, the most changed first.
    changes : tuple of float
        By how much, likewise.
    """

    layer: str
    from_base: bool
    similarity: float | None
    unrelated: float | None
    moved: float
    filters: tuple[int, ...]
    changes: tuple[float, ...]

    def words(self) -> str:
        """In a sentence."""
        whose = "in the base" if self.from_base else "before training"
        if self.moved == 0:
            still = "Its weights are those of the base" if self.from_base else "Its weights are as they began"
            alike = f"; what it gives is {self.similarity:.2f} alike" if self.similarity is not None else ""
            return f"{still}{alike}."
        alike = f"What it gives is {self.similarity:.2f} alike to what it gave {whose}" if self.similarity else ""
        beside = f" (random weights: {self.unrelated:.2f})" if self.unrelated is not None and alike else ""
        moved = f"its weights moved by {self.moved:.0%} of their size"
        most = f", most in filters {', '.join(map(str, self.filters[:3]))}" if len(self.filters) > 1 else ""
        sentence = f"{alike}{beside}; {moved}{most}." if alike else f"{moved}{most}."
        return f"{sentence[0].upper()}{sentence[1:]}"


@dataclass(frozen=True)
class LayersCompared:
    """What training changed, layer by layer, as seen by some images.

    Attributes
    ----------
    run : int
        Whose best model it is.
    begun_from : str
        What it was built on, in words; empty where its weights were drawn at random.
    images : int
        That were asked about.
    layers : tuple of LayerChange
        Those with weights, in their order.
    """

    run: int
    begun_from: str
    images: int
    layers: tuple[LayerChange, ...]

    def words(self) -> Iterator[str | Rows]:
        """A line a layer."""
        rows = []
        for layer in self.layers:
            figures = [f"{each:.2f}" if each is not None else "–" for each in (layer.similarity, layer.unrelated)]
            most = ", ".join(f"{k} ({by:.0%})" for k, by in zip(layer.filters[:3], layer.changes[:3], strict=True))
            rows.append((layer.layer, "base" if layer.from_base else "new", *figures, f"{layer.moved:.1%}", most))
        yield Rows(("layer", "weights from", "similarity", "of random", "moved", "filters changed most"), tuple(rows))
        before = f"as {self.begun_from} has it" if self.begun_from else "with the weights it began from"
        yield (
            f"Similarity: of what a layer gives for {self.images} images now and {before} (centred kernel alignment):"
            " 1 the same, 0 nothing in common; beside it that of random weights."
        )


@dataclass(frozen=True)
class CompareLayers(Request[LayersCompared]):
    """Say what training changed in every layer: how alike its outputs are to before, which filters changed most."""

    result: ClassVar[type[object]] = LayersCompared
    task: ClassVar[str] = "similarity.compare_layers"
    doing: ClassVar[str] = "comparing the layers"
    workspace: str
    run: int
