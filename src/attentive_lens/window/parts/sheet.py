"""The contact sheet: real images in groups, painted only where they are seen."""

from __future__ import annotations

import math
from dataclasses import dataclass
from functools import cached_property

import numpy as np
from numpy.typing import NDArray
from PyQt6.QtCore import QPoint, QRect, QSize, Qt, pyqtSignal
from PyQt6.QtGui import QKeyEvent, QMouseEvent, QPainter, QPaintEvent, QPen, QPolygon, QResizeEvent
from PyQt6.QtWidgets import QAbstractScrollArea, QFrame

from attentive_lens.images.rows import Pixels
from attentive_lens.window import look
from attentive_lens.window.parts.basics import map_colours, tint_image, to_image
from attentive_lens.window.parts.pointing import points
from attentive_lens.window.parts.proportions import draw_picture
from attentive_lens.window.words import shortened

GAP = 6
MARGIN = 3
"""Left of the first column, so that the frame of a selected image is whole."""
HEADER = 28
CAPTION = 18
NOTE = 160
"""Pixels kept for what stands beside a heading."""


@dataclass(frozen=True)
class Group:
    """Images under one heading: places in the pixel array, and a caption for each if there are any."""

    title: str
    note: str
    places: tuple[int, ...]
    captions: tuple[str, ...] = ()


def _header(group: Group) -> int:
    """Pixels above a group's first row."""
    return HEADER if group.title else MARGIN


class ContactSheet(QAbstractScrollArea):
    """Groups of images that flow with the width; arrows and mouse select, Enter or a double click open.

    One image is the current one; Shift with either extends the selection to it, Ctrl with the mouse adds one.

    Signals
    -------
    selected, opened
        Place of the image in the pixel array.
    """

    selected = pyqtSignal(int)
    opened = pyqtSignal(int)

    def __init__(self, name: str, side: int = 64) -> None:
        super().__init__()
        points(self, lambda at: self._at(at) is not None)
        self.setObjectName(name)
        self.setAccessibleName("contact sheet")
        self.setFrameShape(QFrame.Shape.NoFrame)
        self.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.side = side
        self.pixels: Pixels | None = None
        self.groups: tuple[Group, ...] = ()
        self.current: int | None = None
        self.selection: frozenset[int] = frozenset()
        self.flagged: frozenset[int] = frozenset()
        self.faded: frozenset[int] = frozenset()
        self.maps: dict[int, NDArray[np.float32]] = {}
        self._anchor: int | None = None
        self._titles: tuple[int, list[str]] | None = None
        self._tops: list[int] = []

    def show_groups(self, pixels: Pixels | None, groups: tuple[Group, ...]) -> None:
        """Show other images; the selection is kept as far as it is still there."""
        self.pixels, self.groups, self._titles = pixels, groups, None
        self.__dict__.pop("_places", None)
        if self.selection:
            self.selection = frozenset(place for place in self.selection if place in self._places)
        if self.current is not None and not any(self.current in group.places for group in groups):
            self.current = self._anchor = None
        self._lay_out()

    @cached_property
    def _places(self) -> dict[int, tuple[int, int]]:
        """Group and place in it of every image; of many made only when it is wanted."""
        return {place: (g, k) for g, group in enumerate(self.groups) for k, place in enumerate(group.places)}

    def set_side(self, side: int) -> None:
        """Show the images larger or smaller."""
        self.side = side
        self._lay_out()

    def select(self, place: int, extend: bool = False, add: bool = False) -> None:
        """Make an image the current one and bring it into sight; select it alone, up to it, or also it."""
        order = self._order()
        if extend and self._anchor in self._places and place in self._places:
            first, last = sorted((order.index(self._anchor), order.index(place)))
            self.selection = frozenset(order[first : last + 1])
        else:
            self.selection = self.selection ^ {place} if add else frozenset({place})
            self._anchor = place
        self.current = place
        rectangle = self._rectangle(place)
        if rectangle is not None:
            bar = self.verticalScrollBar()
            if bar is not None and rectangle.top() < bar.value():
                bar.setValue(rectangle.top() - HEADER)
            elif bar is not None and rectangle.bottom() > bar.value() + self._view().height():
                bar.setValue(rectangle.bottom() - self._view().height() + GAP)
        self._view().update()
        self.selected.emit(place)

    def select_all(self) -> None:
        """Select every image shown."""
        self.selection = frozenset(self._places)
        if self.current is None and self._places:
            self.current = self._anchor = next(iter(self._places))
        self._view().update()
        if self.current is not None:
            self.selected.emit(self.current)

    def _order(self) -> list[int]:
        return list(self._places)

    @property
    def columns(self) -> int:
        """Images in a row."""
        return max(1, (self._view().width() - 2 * MARGIN + GAP) // (self.cell.width() + GAP))

    @property
    def cell(self) -> QSize:
        """Pixels of an image: as large as a square of the side, in the images' proportions, no wider than the sheet."""
        rows, columns = self.pixels.shape[1:3] if self.pixels is not None and len(self.pixels) else (1, 1)
        if rows == columns:
            return QSize(self.side, self.side)
        wide = min(round(self.side * math.sqrt(columns / rows)), max(self.side, self._view().width() - 2 * MARGIN))
        return QSize(max(1, wide), max(1, round(wide * rows / columns)))

    def _view(self) -> QFrame:
        port = self.viewport()
        if port is None:
            raise RuntimeError("a scroll area has a viewport")
        return port  # type: ignore[return-value]

    def _row_height(self, group: Group) -> int:
        return self.cell.height() + GAP + (CAPTION if group.captions else 0)

    def _lay_out(self) -> None:
        self._tops, y = [], 0
        for group in self.groups:
            self._tops.append(y)
            rows = -(-len(group.places) // self.columns)
            y += _header(group) + rows * self._row_height(group) + 10
        bar = self.verticalScrollBar()
        if bar is not None:
            bar.setRange(0, max(0, y - self._view().height()))
            bar.setPageStep(self._view().height())
            bar.setSingleStep((self.cell.height() + GAP) // 2)
        self._view().update()

    def resizeEvent(self, event: QResizeEvent | None) -> None:
        """Flow anew."""
        self._lay_out()

    def _rectangle(self, place: int) -> QRect | None:
        if place not in self._places:
            return None
        g, k = self._places[place]
        row, column = divmod(k, self.columns)
        y = self._tops[g] + _header(self.groups[g]) + row * self._row_height(self.groups[g])
        return QRect(QPoint(MARGIN + column * (self.cell.width() + GAP), y), self.cell)

    def _at(self, point: QPoint) -> int | None:
        bar = self.verticalScrollBar()
        y = point.y() + (bar.value() if bar is not None else 0)
        for top, group in zip(self._tops, self.groups, strict=True):
            row, inside = divmod(y - top - _header(group), self._row_height(group))
            column, across = divmod(point.x() - MARGIN, self.cell.width() + GAP)
            k = row * self.columns + column
            if (
                row >= 0
                and column >= 0
                and inside < self.cell.height()
                and across < self.cell.width()
                and column < self.columns
                and k < len(group.places)
            ):
                return group.places[k]
        return None

    def paintEvent(self, event: QPaintEvent | None) -> None:
        """Headings and the images in sight."""
        t = look.theme
        painter = QPainter(self._view())
        painter.setRenderHint(QPainter.RenderHint.SmoothPixmapTransform)
        bar = self.verticalScrollBar()
        scrolled = bar.value() if bar is not None else 0
        height = self._view().height()
        strong, plain = look.font(look.TEXT, True), look.font(look.SMALL)
        for number, (top, group) in enumerate(zip(self._tops, self.groups, strict=True)):
            y = top - scrolled
            step = self._row_height(group)
            rows = -(-len(group.places) // self.columns)
            header = _header(group)
            if y > height or y + header + rows * step < 0:
                continue
            painter.setFont(strong)
            painter.setPen(t.colour("ink"))
            metrics = painter.fontMetrics()
            room, measure = self._view().width() - NOTE, metrics.horizontalAdvance
            if self._titles is None or self._titles[0] != room:
                self._titles = (room, shortened([each.title for each in self.groups], room, measure))
            title = self._titles[1][number]
            painter.drawText(QRect(MARGIN, y, self._view().width(), HEADER - 4), Qt.AlignmentFlag.AlignVCenter, title)
            across = MARGIN + metrics.horizontalAdvance(title) + 10
            painter.setFont(plain)
            painter.setPen(t.colour("faint"))
            painter.drawText(QRect(across, y, 600, HEADER - 4), Qt.AlignmentFlag.AlignVCenter, group.note)
            first = max(0, -(y + header) // step)
            last = min(rows, (height - y - header) // step + 1)
            seen = range(first * self.columns, min(last * self.columns, len(group.places)))
            captions = [group.captions[k] for k in seen] if group.captions else []
            captions = shortened(captions, self.cell.width(), painter.fontMetrics().horizontalAdvance, group.captions)
            for k in seen:
                row, column = divmod(k, self.columns)
                box = QRect(QPoint(MARGIN + column * (self.cell.width() + GAP), y + header + row * step), self.cell)
                self._paint_one(painter, box, group.places[k])
                if captions:
                    under = QRect(box.left(), box.bottom() + 1, self.cell.width(), CAPTION)
                    painter.setPen(t.colour("faint"))
                    painter.drawText(under, Qt.AlignmentFlag.AlignVCenter, captions[k - seen.start])

    def _paint_one(self, painter: QPainter, box: QRect, place: int) -> None:
        t = look.theme
        if self.pixels is None:
            painter.fillRect(box, t.colour("well"))
        else:
            covered = draw_picture(painter, box, to_image(self.pixels[place]))
            if place in self.maps:
                painter.fillRect(covered, t.colour("sheet", 150))
                painter.drawImage(covered, tint_image(map_colours(self.maps[place])))
        if place in self.faded:
            painter.fillRect(box, t.colour("paper", 170))
            painter.setPen(QPen(t.colour("faint"), 1))
            painter.drawLine(box.topLeft(), box.bottomRight())
        if place in self.flagged:
            wide = max(8, self.side // 5)
            corner = QPolygon([box.topRight(), box.topRight() - QPoint(wide, 0), box.topRight() + QPoint(0, wide)])
            painter.setPen(QPen(t.colour("sheet"), 1))
            painter.setBrush(t.colour("ochre_fill"))
            painter.drawPolygon(corner)
            painter.setBrush(Qt.BrushStyle.NoBrush)
        if place in self.selection or place == self.current:
            thick = 3 if place == self.current and self.hasFocus() else 2
            painter.setPen(QPen(t.colour("petrol"), thick))
            painter.drawRect(box.adjusted(-1, -1, 0, 0))

    def mousePressEvent(self, event: QMouseEvent | None) -> None:
        """Select."""
        place = self._at(event.pos()) if event is not None else None
        if event is not None and place is not None:
            held = event.modifiers()
            self.select(
                place,
                bool(held & Qt.KeyboardModifier.ShiftModifier),
                bool(held & Qt.KeyboardModifier.ControlModifier),
            )

    def mouseDoubleClickEvent(self, event: QMouseEvent | None) -> None:
        """Open."""
        place = self._at(event.pos()) if event is not None else None
        if place is not None:
            self.opened.emit(place)

    def keyPressEvent(self, event: QKeyEvent | None) -> None:
        """Arrows select, with Shift as far as they go, Enter opens."""
        order = self._order()
        if event is None or not order:
            return
        if event.key() in (Qt.Key.Key_Return, Qt.Key.Key_Enter) and self.current is not None:
            self.opened.emit(self.current)
            return
        if event.key() == Qt.Key.Key_A and event.modifiers() & Qt.KeyboardModifier.ControlModifier:
            self.select_all()
            return
        steps = {
            Qt.Key.Key_Left: -1,
            Qt.Key.Key_Right: 1,
            Qt.Key.Key_Up: -self.columns,
            Qt.Key.Key_Down: self.columns,
            Qt.Key.Key_Home: -len(order),
            Qt.Key.Key_End: len(order),
        }
        step = steps.get(Qt.Key(event.key()))
        if step is None:
            super().keyPressEvent(event)
            return
        at = order.index(self.current) + step if self.current in self._places else 0
        extend = bool(event.modifiers() & Qt.KeyboardModifier.ShiftModifier)
        self.select(order[min(max(at, 0), len(order) - 1)], extend)
