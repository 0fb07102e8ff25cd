"""The drawing of a confusion matrix: cells in their tints, names at the edges, zoom."""

from __future__ import annotations

from collections.abc import Sequence
from math import ceil

import numpy as np
from numpy.typing import NDArray
from PyQt6.QtCore import QPoint, QPointF, QRectF, Qt
from PyQt6.QtGui import (
    QFontMetricsF,
    QImage,
    QPainter,
    QPaintEvent,
    QPen,
    QResizeEvent,
    QWheelEvent,
)
from PyQt6.QtWidgets import QAbstractScrollArea, QFrame, QWidget

from attentive_lens.window import look
from attentive_lens.window.parts.basics import rgb, to_image
from attentive_lens.window.parts.matrix_places import (
    ACROSS,
    HEAD,
    LEAST_CELL,
    LINE,
    MOST_HEAD,
    MOST_NAMES,
    MOST_TALL,
    MOST_WIDE,
    NAMES,
    RATE,
    Places,
    named,
    seen,
    shade,
)
from attentive_lens.window.words import percent, shortened

ZOOM = 1.25
MOST_CELL = 60.0
"""Widest cell that zooming in gives."""


class MatrixDrawing(QAbstractScrollArea):
    """Counts, shaded by their part of the true class; right answers petrol, wrong ones vermilion.

    It fits its card; Ctrl with the wheel zooms. Names stay at the edges.
    """

    def __init__(self) -> None:
        super().__init__()
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setFrameShape(QFrame.Shape.NoFrame)
        self._port().setMouseTracking(True)
        self.setMinimumSize(360, 300)
        self.classes: list[str] = []
        self.counts: NDArray[np.int64] = np.zeros((0, 0), np.int64)
        self.down, self.across = "true", "said"
        """What rows and columns are."""
        self.all_right: bool | None = None
        """Whether all cells stand for what is right, or all for mistakes; None where the diagonal alone is right."""
        self.shares = ""
        """Cells show their part of the "row" or of the "column", or counts."""
        self.current: tuple[int, int] | None = None
        self.area: tuple[int, int, int, int] | None = None
        """First and last row, first and last column, of what is chosen; the current cell is a corner of it."""
        self.over: tuple[int, int] | None = None
        self.zoom = 1.0
        self._rows = self._columns = np.zeros(0, np.int64)
        self._longest = 0.0
        self._whole: QImage | None = None
        self._painted_in = look.theme

    def _port(self) -> QWidget:
        port = self.viewport()
        if port is None:
            raise RuntimeError("a scroll area has a viewport")
        return port

    def show_counts(
        self, classes: Sequence[str], counts: NDArray[np.int64], of: NDArray[np.int64] | None = None
    ) -> None:
        """Show another matrix K×K, its rows parts of ``of`` K or of their sums; what is chosen is kept if it exists."""
        if len(classes) != len(self.classes):
            self.zoom = 1.0
        self.classes, self.counts, self.over, self._whole = list(classes), counts, None, None
        self._rows, self._columns = counts.sum(axis=1) if of is None else of, counts.sum(axis=0)
        if self.area is not None and max(self.area) >= len(classes):
            self.current = self.area = None
        metrics = QFontMetricsF(look.font(look.SMALL))
        self._longest = max((metrics.horizontalAdvance(name) for name in classes), default=0.0)
        self._fit_bars()

    def redraw(self) -> None:
        """Draw it anew: what its cells show is another."""
        self._whole = None
        self._port().update()

    def places(self) -> Places:
        """Where things are, by the size of the card and the zoom."""
        n = max(1, len(self.classes))
        left = min(MOST_NAMES, max(NAMES, self._longest + 20))
        fit = (self._port().width() - left - RATE) / n
        wide = max(0.1, min(MOST_WIDE, fit)) * self.zoom
        along = wide < ACROSS
        top = min(MOST_HEAD, self._longest + 26) if along else HEAD
        tall = max(0.1, min(MOST_TALL, (self._port().height() - top - 4) / n)) * self.zoom
        x, y = self.horizontalScrollBar(), self.verticalScrollBar()
        return Places(left - (x.value() if x else 0), top - (y.value() if y else 0), wide, tall, along)

    def box(self, true: int, predicted: int) -> QRectF:
        """Where a cell is in the viewport."""
        p = self.places()
        return QRectF(p.left + predicted * p.wide, p.top + true * p.tall, p.wide, p.tall)

    def _edges(self) -> tuple[float, float]:
        """Where the names at the left and the head end."""
        p, x, y = self.places(), self.horizontalScrollBar(), self.verticalScrollBar()
        return p.left + (x.value() if x else 0), p.top + (y.value() if y else 0)

    def _fit_bars(self) -> None:
        p, n, (left, top) = self.places(), len(self.classes), self._edges()
        sizes = (
            (self.horizontalScrollBar(), p.wide * n, self._port().width() - left - RATE),
            (self.verticalScrollBar(), p.tall * n, self._port().height() - top - 4),
        )
        for bar, whole, room in sizes:
            if bar is not None:
                bar.setRange(0, max(0, ceil(whole - room - 1)) if self.zoom > 1 else 0)
                bar.setPageStep(max(1, int(room)))
                bar.setSingleStep(max(1, int(p.wide)))
        self._port().update()

    def resizeEvent(self, event: QResizeEvent | None) -> None:
        """Fit the new size."""
        super().resizeEvent(event)
        self._fit_bars()

    def paintEvent(self, event: QPaintEvent | None) -> None:
        """Cells, then the names at the edges and the part answered rightly at the right."""
        if not self.classes:
            return
        painter = QPainter(self._port())
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        p, (left, top) = self.places(), self._edges()
        n = len(self.classes)
        end = min(p.left + n * p.wide, self._port().width() - RATE)
        inside = QRectF(left, top, end - left, self._port().height() - top)
        rows = seen(inside.top() - p.top, inside.bottom() - p.top, p.tall, n)
        columns = seen(inside.left() - p.left, inside.right() - p.left, p.wide, n)
        painter.save()
        painter.setClipRect(inside.adjusted(-1, -1, 1, 0))
        if min(p.wide, p.tall) < LEAST_CELL:
            self._paint_whole(painter, QRectF(p.left, p.top, n * p.wide, n * p.tall))
        else:
            for true in rows:
                for predicted in columns:
                    self._paint_cell(painter, true, predicted)
        if self.area is not None:
            top_row, last_row, left_column, last_column = self.area
            painter.setBrush(Qt.BrushStyle.NoBrush)
            painter.setPen(QPen(look.theme.colour("ink"), 2))
            painter.drawRoundedRect(self.box(top_row, left_column).united(self.box(last_row, last_column)), 3, 3)
        painter.restore()
        painter.setFont(look.font(look.SMALL))
        painter.setPen(look.theme.colour("faint"))
        painter.drawText(QRectF(left, 0, 200, 18), Qt.AlignmentFlag.AlignVCenter, self.across)
        side = Qt.AlignmentFlag.AlignVCenter | Qt.AlignmentFlag.AlignRight
        painter.drawText(QRectF(0, top - 20, left - 12, 18), side, self.down)
        if self.all_right is None:
            painter.drawText(QRectF(end + 4, top - 22, RATE - 8, 20), side, "right")
        self._paint_rows(painter, p, rows, left, top, end)
        self._paint_columns(painter, p, columns, left, top, end)

    def _paint_rows(self, painter: QPainter, p: Places, rows: range, left: float, top: float, end: float) -> None:
        """Names at the left and rates at the right: every k-th where they would touch, and that under the mouse."""
        side = Qt.AlignmentFlag.AlignVCenter | Qt.AlignmentFlag.AlignRight
        chosen = named(rows, p.tall, self.over[0] if self.over else None)
        names = self._short(chosen, left - 16)
        for true, name in zip(chosen, names, strict=True):
            middle = p.top + (true + 0.5) * p.tall
            if not top <= middle <= self._port().height():
                continue
            self._choose_pen(painter, self.over is not None and self.over[0] == true)
            line = QRectF(0, middle - LINE / 2, left - 12, LINE)
            painter.drawText(line, side, name)
            if self.all_right is not None:
                continue
            rate = percent(self.counts[true, true] / self._rows[true]) if self._rows[true] else "–"
            painter.drawText(QRectF(end + 4, line.top(), RATE - 8, LINE), side, rate)

    def _paint_columns(self, painter: QPainter, p: Places, columns: range, left: float, top: float, end: float) -> None:
        """Names above: across where there is room, else along the columns."""
        chosen = named(columns, p.wide, self.over[1] if self.over else None) if p.along else list(columns)
        names = self._short(chosen, top - 26 if p.along else p.wide - 6)
        for predicted, name in zip(chosen, names, strict=True):
            middle = p.left + (predicted + 0.5) * p.wide
            if not left <= middle <= end:
                continue
            self._choose_pen(painter, self.over is not None and self.over[1] == predicted)
            if not p.along:
                box = QRectF(middle - p.wide / 2, top - 24, p.wide, 20)
                painter.drawText(box, Qt.AlignmentFlag.AlignCenter, name)
                continue
            painter.save()
            painter.translate(QPointF(middle, top - 6))
            painter.rotate(-90)
            painter.drawText(QRectF(0, -LINE / 2, top, LINE), Qt.AlignmentFlag.AlignVCenter, name)
            painter.restore()

    def _short(self, chosen: list[int], room: float) -> list[str]:
        measure = QFontMetricsF(look.font(look.SMALL)).horizontalAdvance
        return shortened([self.classes[k] for k in chosen], room, measure, self.classes)

    @staticmethod
    def _choose_pen(painter: QPainter, strong: bool) -> None:
        painter.setFont(look.font(look.SMALL, strong))
        painter.setPen(look.theme.colour("ink"))

    def _paint_whole(self, painter: QPainter, box: QRectF) -> None:
        """All cells in their shades, as one picture of a pixel a cell."""
        if self._whole is None or self._painted_in is not look.theme:
            self._painted_in = look.theme
            self._whole = to_image(self._tints())
        painter.setRenderHint(QPainter.RenderHint.SmoothPixmapTransform, box.width() < self._whole.width())
        painter.drawImage(box, self._whole)

    def _part(self, true: int, predicted: int) -> float:
        """A cell's part of its row, or of its column where these are shown."""
        of = self._columns[predicted] if self.shares == "column" else self._rows[true]
        return float(self.counts[true, predicted] / max(1, of))

    def _tints(self) -> NDArray[np.uint8]:
        """A pixel a cell in its tint, K×K×3: few of many cells hold images."""
        sheet, well = rgb("sheet"), rgb("well")
        tints = np.empty((*self.counts.shape, 3), np.uint8)
        tints[:] = (sheet + (well - sheet) * (110 / 255)).astype(np.uint8)
        true, predicted = np.nonzero(self.counts)
        of = self._columns[predicted] if self.shares == "column" else self._rows[true]
        part = (self.counts[true, predicted] / np.maximum(1, of)).astype(np.float32)
        right = true == predicted if self.all_right is None else np.full(len(true), self.all_right)
        strong = np.where(right, shade(part, True), shade(part, False))[:, None] / 255
        colours = np.where(right[:, None], rgb("petrol"), rgb("vermilion"))
        tints[true, predicted] = (sheet + (colours - sheet) * strong).astype(np.uint8)
        return tints

    def _paint_cell(self, painter: QPainter, true: int, predicted: int) -> None:
        """A cell's shade and, where there is room, its number."""
        t = look.theme
        count, part = int(self.counts[true, predicted]), self._part(true, predicted)
        cell = self.box(true, predicted)
        gap = 1 if cell.width() >= 12 else 0.5 if cell.width() >= 6 else 0
        box = cell.adjusted(gap, gap, -gap, -gap)
        if count == 0:
            painter.fillRect(box, t.colour("well", 110))
            return
        right = true == predicted if self.all_right is None else self.all_right
        strength = round(float(shade(np.float32(part), right)))
        ground = look.blended("petrol" if right else "vermilion", strength)
        painter.setPen(Qt.PenStyle.NoPen)
        painter.setBrush(ground)
        painter.drawRoundedRect(box, 2, 2)
        if box.width() >= 20 and box.height() >= 12:
            painter.setFont(look.font(look.TEXT if box.height() > 22 else look.SMALL))
            painter.setPen(look.readable_on(ground))
            words = f"{part * 100:.0f}" if self.shares else str(count)
            painter.drawText(box, Qt.AlignmentFlag.AlignCenter, words)

    def zoom_by(self, factor: float, at: QPointF | None = None) -> None:
        """Zoom, the point ``at`` staying where it is; never smaller than the card or larger than is of use."""
        p, (left, top) = self.places(), self._edges()
        at = at or QPointF(self._port().rect().center())
        column, row = (at.x() - p.left) / p.wide, (at.y() - p.top) / p.tall
        most = max(1.0, MOST_CELL * self.zoom / p.wide)
        self.zoom = min(most, max(1.0, self.zoom * factor))
        self._fit_bars()
        p = self.places()
        (left, top), x, y = self._edges(), self.horizontalScrollBar(), self.verticalScrollBar()
        if x is not None and y is not None:
            x.setValue(round(left + column * p.wide - at.x()))
            y.setValue(round(top + row * p.tall - at.y()))
        self._port().update()

    def cell_at(self, point: QPoint) -> tuple[int, int] | None:
        """True and said class of the cell at a point of the viewport."""
        p, (left, top) = self.places(), self._edges()
        predicted, true = int((point.x() - p.left) // p.wide), int((point.y() - p.top) // p.tall)
        n = len(self.classes)
        seen = left <= point.x() <= self._port().width() - RATE and point.y() >= top
        return (true, predicted) if seen and 0 <= predicted < n and 0 <= true < n else None

    def wheelEvent(self, event: QWheelEvent | None) -> None:
        """With Ctrl: zoom where the mouse is."""
        if event is not None and event.modifiers() & Qt.KeyboardModifier.ControlModifier:
            self.zoom_by(ZOOM ** (event.angleDelta().y() / 120), event.position())
            event.accept()
        else:
            super().wheelEvent(event)
