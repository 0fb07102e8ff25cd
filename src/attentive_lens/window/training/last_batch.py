"""Images of the last batch as they pass, as the network saw them, with what it said and what is true."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

from PyQt6.QtCore import QEvent, QRectF, QSize, Qt
from PyQt6.QtGui import QHelpEvent, QImage, QPainter, QPaintEvent, QPen
from PyQt6.QtWidgets import QFrame, QSizePolicy, QToolTip, QWidget

from attentive_lens.window import look
from attentive_lens.window.parts.basics import label, to_image, vertical
from attentive_lens.window.parts.proportions import draw_picture

SIDE, GAP, LINE = 72, 12, 16
"""Pixels: of a picture, between two, and of a line below."""


class LastBatchView(QFrame):
    """One row of pictures, as many as fit, and how many of those shown are right."""

    def __init__(self) -> None:
        super().__init__()
        self.setObjectName("last batch view")
        inside = vertical(self, spacing=6, margins=(0, 8, 0, 0))
        self.says = label(role="faint", size=look.SMALL, name="last batch says")
        inside.addWidget(self.says)
        self.row = _Row()
        inside.addWidget(self.row)
        self.hide()

    def show_batch(self, batch: Any, classes: Sequence[str]) -> None:
        """A batch from `desk.open_runs.OpenRuns.last_batch`; None hides the row."""
        self.setVisible(batch is not None and len(batch.images) > 0)
        if batch is None:
            return
        names = [list(classes), [f"class {k}" for k in range(10_000)]][not classes]

        def word(number: int) -> str:
            return names[number] if number < len(names) else f"class {number + 1}"

        cells = [
            (to_image(pixels), word(int(predicted)), word(int(wanted)), int(number))
            for pixels, predicted, wanted, number in zip(
                batch.images, batch.predicted, batch.wanted, batch.numbers, strict=True
            )
        ]
        right = sum(predicted == wanted for _, predicted, wanted, _ in cells)
        self.says.setText(
            f"Passing now, as the network sees them: epoch {batch.epoch}, step {batch.step};"
            f" {right} of {len(cells)} right"
        )
        self.row.show_cells(cells)


class _Row(QWidget):
    """Pictures with the class said under each, and the true one under a wrong answer."""

    def __init__(self) -> None:
        super().__init__()
        self.setObjectName("last batch")
        self.setAccessibleName("images of the last batch")
        self.setFixedHeight(SIDE + 2 * LINE + 6)
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Fixed)
        self.cells: list[tuple[QImage, str, str, int]] = []

    def show_cells(self, cells: list[tuple[QImage, str, str, int]]) -> None:
        """Others."""
        self.cells = cells
        self.update()

    def sizeHint(self) -> QSize:
        """Six pictures."""
        return QSize(6 * (SIDE + GAP), self.height())

    def _columns(self) -> int:
        return max(1, (self.width() + GAP) // (SIDE + GAP))

    def event(self, event: QEvent | None) -> bool:
        """A picture's number and both its classes, where the mouse rests."""
        if isinstance(event, QHelpEvent):
            place = int(event.pos().x() // (SIDE + GAP))
            if place < min(len(self.cells), self._columns()):
                _, predicted, wanted, number = self.cells[place]
                QToolTip.showText(event.globalPos(), f"image {number}: said «{predicted}», true «{wanted}»", self)
                return True
        return super().event(event)

    def paintEvent(self, event: QPaintEvent | None) -> None:
        """From left to right."""
        t, painter = look.theme, QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.SmoothPixmapTransform)
        painter.setFont(look.font(look.SMALL))
        metrics = painter.fontMetrics()
        for k, (picture, predicted, wanted, _) in enumerate(self.cells[: self._columns()]):
            left, is_right = k * (SIDE + GAP), predicted == wanted
            box = QRectF(left + 1, 1, SIDE - 2, SIDE - 2)
            draw_picture(painter, box, picture)
            painter.setPen(QPen(t.colour("line" if is_right else "vermilion"), 1 if is_right else 2))
            painter.drawRect(box)
            lines = [(predicted, "ink" if is_right else "vermilion")] + ([] if is_right else [(wanted, "faint")])
            for line, (words, role) in enumerate(lines):
                painter.setPen(t.colour(role))
                place = QRectF(left, SIDE + 4 + line * LINE, SIDE + GAP - 4, LINE)
                shown = metrics.elidedText(words, Qt.TextElideMode.ElideRight, SIDE + GAP - 4)
                painter.drawText(place, Qt.AlignmentFlag.AlignLeft, shown)
