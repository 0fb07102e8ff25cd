"""How a layer's values are distributed over the training images, and where this image's lie."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray
from PyQt6.QtCore import QPointF, QRectF, QSize, Qt
from PyQt6.QtGui import QPainter, QPaintEvent, QPen, QPolygonF
from PyQt6.QtWidgets import QSizePolicy, QWidget

from attentive_lens.desk.requests.activity import LayerActive
from attentive_lens.window import look
from attentive_lens.window.words import percent

TALL, UNDER = 64, 16


class DistributionChart(QWidget):
    """Bars for the training images, a line for this image; the root of each share, so that rare values are seen."""

    def __init__(self) -> None:
        super().__init__()
        self.setObjectName("layer distribution")
        self.setAccessibleName("distribution of the layer's values")
        self.setToolTip(
            "Bars: values in training images. Line: in this image. Heights are roots of shares, so that rare values"
            " are seen."
        )
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Fixed)
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
        self.update()

    def sizeHint(self) -> QSize:
        """As tall as it is."""
        return QSize(200, TALL + UNDER)

    def paintEvent(self, event: QPaintEvent | None) -> None:
        """Bars, line and the ends of the range."""
        if self.seen is None:
            return
        t, painter = look.theme, QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        shares = np.sqrt(self.seen.counts / max(1, int(self.seen.counts.sum())))
        own = np.zeros(len(shares)) if self.own is None else np.sqrt(self.own / max(1, int(self.own.sum())))
        top = max(float(shares.max()), float(own.max()), 1e-9)
        wide = self.width() / len(shares)
        painter.setPen(Qt.PenStyle.NoPen)
        painter.setBrush(t.colour("line"))
        for k, share in enumerate(shares.tolist()):
            tall = share / top * TALL
            painter.drawRect(QRectF(k * wide, TALL - tall, max(1.0, wide - 1), tall))
        if self.own is not None:
            line = [QPointF((k + 0.5) * wide, TALL - share / top * TALL) for k, share in enumerate(own.tolist())]
            painter.setPen(QPen(t.colour("petrol"), 1.5))
            painter.setBrush(Qt.BrushStyle.NoBrush)
            painter.drawPolyline(QPolygonF(line))
        painter.setFont(look.font(look.SMALL))
        painter.setPen(t.colour("faint"))
        under = QRectF(0, TALL + 1, self.width(), UNDER)
        painter.drawText(under, Qt.AlignmentFlag.AlignLeft, f"{self.seen.edges[0]:.3g}")
        painter.drawText(under, Qt.AlignmentFlag.AlignRight, f"{self.seen.edges[-1]:.3g}")


def in_words(seen: LayerActive | None, values: NDArray[np.float32] | None) -> str:
    """How much of this image lies beyond what training images give."""
    if seen is None or values is None:
        return ""
    beyond = float(((values < seen.edges[0]) | (values > seen.edges[-1])).mean())
    return f"{percent(beyond)} of this image's values lie beyond where {percent(0.99)} of the training images' lie"
