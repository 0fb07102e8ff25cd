"""How a layer's values are distributed over the training images, and where this image's lie."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray
from PyQt6.QtCore import QPointF, QSize
from PyQt6.QtWidgets import QSizePolicy

from attentive_lens.desk.requests.activity import LayerActive
from attentive_lens.window.parts.plot import Plot
from attentive_lens.window.words import percent

TALL, UNDER = 64, 16


class DistributionChart(Plot):
    """Bars for the training images, a line for this image; the root of each share, so that rare values are seen."""

    def __init__(self) -> None:
        super().__init__("", "layer distribution", (0, 0, 0, UNDER))
        self.setAccessibleName("distribution of the layer's values")
        self.setToolTip(
            "Bars: values in training images. Line: in this image. Square-root heights, so that rare values show."
        )
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Fixed)
        self.setMinimumSize(QSize(100, TALL + UNDER))
        self.setFixedHeight(TALL + UNDER)
        self.seen: LayerActive | None = None
        self.own: NDArray[np.int64] | None = None

    def show_values(self, seen: LayerActive | None, values: NDArray[np.float32] | None) -> None:
        """A layer's distribution, and all its values for this image."""
        self.seen = seen
        self.own = None
        if seen is not None and values is not None:
            inside = np.clip(values.reshape(-1), seen.edges[0], seen.edges[-1])
            self.own = np.histogram(inside, seen.edges)[0]
        self.setAccessibleDescription(in_words(seen, values))
        self.refresh()

    def draw(self) -> None:
        """Bars, line and the ends of the range."""
        for axis in "xy":
            self.set_figures(axis, ())
        if self.seen is None:
            return
        edges = np.asarray(self.seen.edges, np.float64)
        shares = np.sqrt(self.seen.counts / max(1, int(self.seen.counts.sum())))
        own = np.zeros(len(shares)) if self.own is None else np.sqrt(self.own / max(1, int(self.own.sum())))
        self.set_range((edges[0], edges[-1]), (0.0, max(float(shares.max()), float(own.max()), 1e-9)))
        gap = (edges[-1] - edges[0]) / max(1.0, self.area().width())
        self.bars(edges[:-1], np.maximum(edges[1:] - gap, edges[:-1] + gap / 2), np.zeros(len(shares)), shares, "line")
        if self.own is not None:
            self.line(np.stack([(edges[:-1] + edges[1:]) / 2, own], axis=1), "petrol", 1.5)
        for x, value, align in ((0.0, edges[0], 0.0), (float(self.width()), edges[-1], 1.0)):
            self.words(f"{value:.3g}", QPointF(x, TALL + UNDER / 2), "faint", align)


def in_words(seen: LayerActive | None, values: NDArray[np.float32] | None) -> str:
    """How much of this image lies beyond what training images give."""
    if seen is None or values is None:
        return ""
    beyond = float(((values < seen.edges[0]) | (values > seen.edges[-1])).mean())
    return f"{percent(beyond)} of this image's values lie beyond where {percent(0.99)} of the training images' lie"
