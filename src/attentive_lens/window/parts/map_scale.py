"""What the colours of maps stand for, in a line."""

from __future__ import annotations

import numpy as np
from PyQt6.QtCore import QRectF, QSize, Qt
from PyQt6.QtGui import QFontMetrics, QPainter, QPaintEvent, QPen
from PyQt6.QtWidgets import QSizePolicy, QWidget

from attentive_lens.window import look
from attentive_lens.window.parts.basics import map_colours, tint_image

BAR, TALL, GAP = 56, 16, 4
"""Pixels of the colours, of the line, and between colours and figures."""


class MapScale(QWidget):
    """The colours from the weakest to the strongest value, a figure at each end.

    Attributes
    ----------
    top : float
        Value drawn strongest, of a signed map also its negative; 0 shows nothing.
    signed : bool
        Whether values below 0 are drawn.
    """

    def __init__(self, name: str) -> None:
        super().__init__()
        self.setObjectName(name)
        self.top, self.signed = 0.0, False
        self.setSizePolicy(QSizePolicy.Policy.Fixed, QSizePolicy.Policy.Fixed)
        self.setToolTip("What the map's colours stand for: values from none, or its least, to its greatest.")

    def show_scale(self, top: float, signed: bool) -> None:
        """Of another map."""
        self.top, self.signed = top, signed
        self.setAccessibleName(f"colours from {' to '.join(self.ends)}")
        self.updateGeometry()
        self.update()

    @property
    def ends(self) -> tuple[str, str]:
        """The figures at both ends."""
        return (f"\u2212{self.top:.2g}" if self.signed else "0", f"{self.top:.2g}")

    def _widths(self) -> tuple[int, int]:
        metrics = QFontMetrics(look.font(look.SMALL))
        low, high = (metrics.horizontalAdvance(words) + 1 for words in self.ends)
        return low, high

    def sizeHint(self) -> QSize:
        """Colours and figures."""
        return QSize(sum(self._widths()) + BAR + 2 * GAP if self.top > 0 else 0, TALL)

    def minimumSizeHint(self) -> QSize:
        """All of it."""
        return self.sizeHint()

    def paintEvent(self, event: QPaintEvent | None) -> None:
        """Figure, colours, figure."""
        if self.top <= 0:
            return
        t, painter, (low, _) = look.theme, QPainter(self), self._widths()
        values = np.linspace(-1 if self.signed else 0, 1, 64, dtype=np.float32)[None, :]
        bar = QRectF(low + GAP, 4, BAR, 8)
        painter.fillRect(bar, t.colour("sheet"))
        painter.drawImage(bar, tint_image(map_colours(values, self.signed, 1.0)))
        painter.setPen(QPen(t.colour("line"), 1))
        painter.drawRect(bar)
        painter.setFont(look.font(look.SMALL))
        painter.setPen(t.colour("faint"))
        side = Qt.AlignmentFlag.AlignVCenter
        painter.drawText(QRectF(0, 0, low, TALL), side, self.ends[0])
        painter.drawText(QRectF(bar.right() + GAP, 0, self.width() - bar.right() - GAP, TALL), side, self.ends[1])
