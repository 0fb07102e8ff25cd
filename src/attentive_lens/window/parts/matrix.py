"""The confusion matrix: rows true, columns said; a cell is a door to its images."""

from __future__ import annotations

from dataclasses import dataclass
from math import ceil

import numpy as np
from numpy.typing import NDArray
from PyQt6.QtCore import QEvent, QPoint, QPointF, QRectF, Qt, pyqtSignal
from PyQt6.QtGui import (
    QFontMetricsF,
    QHelpEvent,
    QImage,
    QKeyEvent,
    QMouseEvent,
    QPainter,
    QPaintEvent,
    QPen,
    QResizeEvent,
    QWheelEvent,
)
from PyQt6.QtWidgets import QAbstractScrollArea, QFrame, QToolTip, QWidget

from attentive_lens.window import look
from attentive_lens.window.parts.basics import rgb, to_image
from attentive_lens.window.words import percent, shortened

NAMES, RATE = 84, 76
"""Narrowest column of names, and the column of rates."""
MOST_NAMES = 190
"""Widest column of names; longer ones are shortened, and whole in the tooltip."""
HEAD, MOST_HEAD = 46, 130
"""Height of the head with names across, and most of one with names along the columns."""
ACROSS = 56
"""Narrowest column, in pixels, whose name stands across it."""
LINE = 15
"""Pixels between two names."""
LEAST_CELL = 6.0
"""Cells narrower than this are painted as one picture."""
MOST_WIDE, MOST_TALL = 110.0, 92.0
"""Largest cell that is not zoomed."""
ZOOM = 1.25
MOST_CELL = 60.0
"""Widest cell that zooming in gives."""


@dataclass(frozen=True)
class Places:
    """Where things are in the viewport, in pixels.

    Attributes
    ----------
    left, top
        Where the cells begin.
    wide, tall
        One cell.
    along
        Whether the columns' names stand along them.
    """

    left: float
    top: float
    wide: float
    tall: float
    along: bool


class ConfusionMatrix(QAbstractScrollArea):
    """Counts, shaded by their part of the true class; right answers petrol, wrong ones vermilion.

    It fits its card; Ctrl with the wheel, + and − zoom, 0 fits it again. Names stay at the edges.

    Signals
    -------
    chosen
        True and said class of the cell.
    """

    chosen = pyqtSignal(int, int)

    def __init__(self) -> None:
        super().__init__()
        self.setObjectName("confusion matrix")
        self.setAccessibleName("confusion matrix")
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setFrameShape(QFrame.Shape.NoFrame)
        self._port().setMouseTracking(True)
        self.setMinimumSize(360, 300)
        self.classes: list[str] = []
        self.counts: list[list[int]] = []
        self.current: tuple[int, int] | None = None
        self.over: tuple[int, int] | None = None
        self.zoom = 1.0
        self._longest = 0.0
        self._whole: QImage | None = None
        self._painted_in = look.theme

    def _port(self) -> QWidget:
        port = self.viewport()
        if port is None:
            raise RuntimeError("a scroll area has a viewport")
        return port

    def show_counts(self, classes: list[str], counts: list[list[int]]) -> None:
        """Show another matrix; the current cell is kept if it exists."""
        if len(classes) != len(self.classes):
            self.zoom = 1.0
        self.classes, self.counts, self.over, self._whole = classes, counts, None, None
        if self.current is not None and max(self.current) >= len(classes):
            self.current = None
        metrics = QFontMetricsF(look.font(look.SMALL))
        self._longest = max((metrics.horizontalAdvance(name) for name in classes), default=0.0)
        self._fit_bars()

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

    def box(self, true: int, said: int) -> QRectF:
        """Where a cell is in the viewport."""
        p = self.places()
        return QRectF(p.left + said * p.wide, p.top + true * p.tall, p.wide, p.tall)

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
        for bar, whole, seen in sizes:
            if bar is not None:
                bar.setRange(0, max(0, ceil(whole - seen - 1)) if self.zoom > 1 else 0)
                bar.setPageStep(max(1, int(seen)))
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
        rows = _seen(inside.top() - p.top, inside.bottom() - p.top, p.tall, n)
        columns = _seen(inside.left() - p.left, inside.right() - p.left, p.wide, n)
        painter.save()
        painter.setClipRect(inside.adjusted(-1, -1, 1, 0))
        if min(p.wide, p.tall) < LEAST_CELL:
            self._paint_whole(painter, QRectF(p.left, p.top, n * p.wide, n * p.tall))
        else:
            for true in rows:
                total = sum(self.counts[true])
                for said in columns:
                    self._paint_cell(painter, true, said, total)
        if self.current is not None:
            painter.setBrush(Qt.BrushStyle.NoBrush)
            painter.setPen(QPen(look.theme.colour("ink"), 2))
            painter.drawRoundedRect(self.box(*self.current), 3, 3)
        painter.restore()
        painter.setFont(look.font(look.SMALL))
        painter.setPen(look.theme.colour("faint"))
        painter.drawText(QRectF(left, 0, 200, 18), Qt.AlignmentFlag.AlignVCenter, "said")
        side = Qt.AlignmentFlag.AlignVCenter | Qt.AlignmentFlag.AlignRight
        painter.drawText(QRectF(0, top - 20, left - 12, 18), side, "true")
        painter.drawText(QRectF(end + 4, top - 22, RATE - 8, 20), side, "right")
        self._paint_rows(painter, p, rows, left, top, end)
        self._paint_columns(painter, p, columns, left, top, end)

    def _paint_rows(self, painter: QPainter, p: Places, rows: range, left: float, top: float, end: float) -> None:
        """Names at the left and rates at the right: every k-th where they would touch, and that under the mouse."""
        side = Qt.AlignmentFlag.AlignVCenter | Qt.AlignmentFlag.AlignRight
        chosen = _named(rows, p.tall, self.over[0] if self.over else None)
        names = self._short(chosen, left - 16)
        for true, name in zip(chosen, names, strict=True):
            middle = p.top + (true + 0.5) * p.tall
            if not top <= middle <= self._port().height():
                continue
            self._choose_pen(painter, self.over is not None and self.over[0] == true)
            line = QRectF(0, middle - LINE / 2, left - 12, LINE)
            painter.drawText(line, side, name)
            row = self.counts[true]
            rate = percent(row[true] / sum(row)) if sum(row) else "–"
            painter.drawText(QRectF(end + 4, line.top(), RATE - 8, LINE), side, rate)

    def _paint_columns(self, painter: QPainter, p: Places, columns: range, left: float, top: float, end: float) -> None:
        """Names above: across where there is room, else along the columns."""
        chosen = _named(columns, p.wide, self.over[1] if self.over else None) if p.along else list(columns)
        names = self._short(chosen, top - 26 if p.along else p.wide - 6)
        for said, name in zip(chosen, names, strict=True):
            middle = p.left + (said + 0.5) * p.wide
            if not left <= middle <= end:
                continue
            self._choose_pen(painter, self.over is not None and self.over[1] == said)
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
            counts = np.array(self.counts, np.float32)
            part = counts / np.maximum(1, counts.sum(1, keepdims=True))
            right = np.eye(len(counts), dtype=bool)
            shade = np.where(right, _shade(part, True), _shade(part, False))[..., None] / 255
            well, sheet = rgb("well"), rgb("sheet")
            colours = sheet + (np.where(right[..., None], rgb("petrol"), rgb("vermilion")) - sheet) * shade
            empty = sheet + (well - sheet) * (110 / 255)
            self._whole = to_image(np.where(counts[..., None] > 0, colours, empty).astype(np.uint8))
        painter.setRenderHint(QPainter.RenderHint.SmoothPixmapTransform, box.width() < self._whole.width())
        painter.drawImage(box, self._whole)

    def _paint_cell(self, painter: QPainter, true: int, said: int, total: int) -> None:
        """A cell's shade and, where there is room, its number."""
        t = look.theme
        count = self.counts[true][said]
        cell = self.box(true, said)
        gap = 1 if cell.width() >= 12 else 0.5 if cell.width() >= 6 else 0
        box = cell.adjusted(gap, gap, -gap, -gap)
        if count == 0:
            painter.fillRect(box, t.colour("well", 110))
            return
        shade = round(float(_shade(np.float32(count / total), true == said)))
        ground = look.blended("petrol" if true == said else "vermilion", shade)
        painter.setPen(Qt.PenStyle.NoPen)
        painter.setBrush(ground)
        painter.drawRoundedRect(box, 2, 2)
        if box.width() >= 20 and box.height() >= 12:
            painter.setFont(look.font(look.TEXT if box.height() > 22 else look.SMALL))
            painter.setPen(look.readable_on(ground))
            painter.drawText(box, Qt.AlignmentFlag.AlignCenter, str(count))

    def choose(self, true: int, said: int) -> None:
        """Choose a cell and bring it into sight."""
        self.current = (true, said)
        (left, top), cell = self._edges(), self.box(true, said)
        ends = (
            (self.horizontalScrollBar(), cell.left() - left, cell.right() - self._port().width() + RATE),
            (self.verticalScrollBar(), cell.top() - top, cell.bottom() - self._port().height()),
        )
        for bar, before, after in ends:
            if bar is not None:
                bar.setValue(bar.value() + round(min(0.0, before) + max(0.0, after)))
        self._port().update()
        self.chosen.emit(true, said)

    def choose_none(self) -> None:
        """No cell is chosen."""
        self.current = None
        self._port().update()

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
        said, true = int((point.x() - p.left) // p.wide), int((point.y() - p.top) // p.tall)
        n = len(self.classes)
        seen = left <= point.x() <= self._port().width() - RATE and point.y() >= top
        return (true, said) if seen and 0 <= said < n and 0 <= true < n else None

    def mousePressEvent(self, event: QMouseEvent | None) -> None:
        """Choose the cell."""
        cell = self.cell_at(event.pos()) if event is not None else None
        if cell is not None:
            self.choose(*cell)

    def mouseMoveEvent(self, event: QMouseEvent | None) -> None:
        """A hand over cells, and the names of the cell under it strong at the edges."""
        over = self.cell_at(event.pos()) if event is not None else None
        self._port().setCursor(Qt.CursorShape.ArrowCursor if over is None else Qt.CursorShape.PointingHandCursor)
        if over != self.over:
            self.over = over
            self._port().update()

    def leaveEvent(self, event: QEvent | None) -> None:
        """No cell is under the mouse."""
        self.over = None
        self._port().update()

    def wheelEvent(self, event: QWheelEvent | None) -> None:
        """With Ctrl: zoom where the mouse is."""
        if event is not None and event.modifiers() & Qt.KeyboardModifier.ControlModifier:
            self.zoom_by(ZOOM ** (event.angleDelta().y() / 120), event.position())
            event.accept()
        else:
            super().wheelEvent(event)

    def viewportEvent(self, event: QEvent | None) -> bool:
        """A tooltip in words over each cell."""
        if isinstance(event, QHelpEvent):
            cell = self.cell_at(event.pos())
            if cell is not None:
                true, said = cell
                count = self.counts[true][said]
                words = f"{count} of «{self.classes[true]}» said to be «{self.classes[said]}»"
                QToolTip.showText(event.globalPos(), words, self)
            return True
        return super().viewportEvent(event)

    def keyPressEvent(self, event: QKeyEvent | None) -> None:
        """Arrows move from cell to cell; +, − and 0 zoom."""
        moves = {
            Qt.Key.Key_Up: (-1, 0),
            Qt.Key.Key_Down: (1, 0),
            Qt.Key.Key_Left: (0, -1),
            Qt.Key.Key_Right: (0, 1),
        }
        zooms = {Qt.Key.Key_Plus: ZOOM, Qt.Key.Key_Equal: ZOOM, Qt.Key.Key_Minus: 1 / ZOOM, Qt.Key.Key_0: 0.0}
        key = Qt.Key(event.key()) if event is not None else Qt.Key.Key_unknown
        if self.classes and key in zooms:
            centre = self.box(*self.current).center() if self.current is not None else None
            self.zoom_by(zooms[key], centre)
        elif self.classes and key in moves:
            true, said = self.current or (0, 0)
            last = len(self.classes) - 1
            down, along = moves[key]
            self.choose(min(max(true + down, 0), last), min(max(said + along, 0), last))
        else:
            super().keyPressEvent(event)


def _shade(part: NDArray[np.float32] | np.float32, right: bool) -> NDArray[np.float32]:
    """Opacity 0–255 of a cell by its part of the true class; mistakes, which are fewer, gain faster."""
    return np.asarray(25 + 215 * (part if right else np.minimum(1.0, part * 2.2)), np.float32)


def _seen(near: float, far: float, size: float, n: int) -> range:
    """Cells between two distances from the first."""
    return range(max(0, int(near // size)), max(0, min(n, int(far // size) + 1)))


def _named(cells: range, size: float, over: int | None) -> list[int]:
    """Cells whose names stand at the edge without touching each other; the one under the mouse is always one."""
    every = max(1, ceil(LINE / size))
    chosen = [k for k in cells if k % every == 0]
    if over is None or over not in cells:
        return chosen
    return [*(k for k in chosen if abs(k - over) * size >= LINE), over]
