"""Pictures with captions that flow with the width: what a method, a channel or a class looks like."""

from __future__ import annotations

import math
from dataclasses import dataclass

from PyQt6.QtCore import QEvent, QPoint, QRect, Qt, pyqtSignal
from PyQt6.QtGui import QHelpEvent, QImage, QKeyEvent, QMouseEvent, QPainter, QPaintEvent, QPen, QResizeEvent
from PyQt6.QtWidgets import QAbstractScrollArea, QFrame, QToolTip, QWidget

from attentive_lens.window import look
from attentive_lens.window.parts.pointing import points
from attentive_lens.window.parts.proportions import draw_picture

GAP, MARGIN, CAPTION = 8, 3, 18


@dataclass(frozen=True, eq=False)
class Tile:
    """What is shown under one caption.

    Attributes
    ----------
    pictures : tuple of QImage
        One above the other; all tiles have as many.
    caption : str
        Below them.
    tip : str
        When the mouse rests.
    role : str
        Token of the caption's colour.
    sharp : bool
        Whether pixels stay seen when it is enlarged.
    """

    pictures: tuple[QImage, ...]
    caption: str = ""
    tip: str = ""
    role: str = "faint"
    sharp: bool = False


def laid_over(picture: QImage, map_: QImage, strength: float = 1.0) -> QImage:
    """An image paled, and a map over it; ``strength`` 0–1 of both."""
    out = picture.convertToFormat(QImage.Format.Format_RGB32)
    painter = QPainter(out)
    painter.fillRect(out.rect(), look.theme.colour("sheet", round(150 * strength)))
    painter.setOpacity(strength)
    painter.setRenderHint(QPainter.RenderHint.SmoothPixmapTransform)
    painter.drawImage(out.rect(), map_)
    painter.end()
    return out


def enlarged(picture: QImage, side: int) -> QImage:
    """A picture whose longer side has at least so many pixels, smoothly, to lay something finer over."""
    side = max(side, picture.width(), picture.height())
    keep, smooth = Qt.AspectRatioMode.KeepAspectRatio, Qt.TransformationMode.SmoothTransformation
    return picture.scaled(side, side, keep, smooth)


class Tiles(QAbstractScrollArea):
    """Tiles side by side; a click, the arrows with Enter choose one. Only those in sight are painted.

    Parameters
    ----------
    name, shown : str
        Its own, and what it is for those who cannot see it.
    side, most : int
        Pixels of a picture's side at least, and at most: as large as lets all be seen at once, or as fill the width.

    Signals
    -------
    chosen
        Number of the tile that was clicked, or on which Enter was pressed.
    """

    chosen = pyqtSignal(int)

    def __init__(self, name: str, shown: str, side: int = 96, most: int = 0) -> None:
        super().__init__()
        points(self, lambda at: self.at(at) is not None)
        self.setObjectName(name)
        self.setAccessibleName(shown)
        self.setFrameShape(QFrame.Shape.NoFrame)
        self.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.side = self._least = side
        self._most = max(side, most)
        self.tiles: tuple[Tile, ...] = ()
        self.current: int | None = None
        self.marked: int | None = None

    def show_tiles(self, tiles: tuple[Tile, ...], marked: int | None = None) -> None:
        """Others; ``marked`` is the one in use, framed."""
        self.tiles, self.marked = tiles, marked
        if self.current is not None and self.current >= len(tiles):
            self.current = None
        self.setAccessibleDescription("; ".join(tile.caption for tile in tiles[:60]))
        self._lay_out()

    @property
    def columns(self) -> int:
        """Tiles in a row."""
        return max(1, self._room() // (self.side + GAP))

    def _room(self) -> int:
        return self._view().width() - 2 * MARGIN + GAP

    @property
    def step(self) -> int:
        """Pixels from one row of tiles to the next."""
        return self._step(self.side)

    def _step(self, side: int) -> int:
        tall = max((len(tile.pictures) for tile in self.tiles), default=1)
        captions = CAPTION if any(tile.caption for tile in self.tiles) else 0
        return tall * (self._high(side) + 2) + captions + GAP

    def _high(self, side: int) -> int:
        """Pixels of a picture's height: less than the side where all are wider than they are high."""
        pictures = [picture for tile in self.tiles for picture in tile.pictures if not picture.isNull()]
        return math.ceil(side * max([min(1.0, each.height() / each.width()) for each in pictures], default=1.0))

    def _fitting(self) -> int:
        """The largest side, from the least to the most, at which all are seen; else one that fills the width."""
        side = self._least
        for columns in range(1, self._room() // (self._least + GAP) + 1):
            side = max(self._least, min(self._most, self._room() // columns - GAP))
            rows = -(-len(self.tiles) // columns)
            if 2 * MARGIN + rows * self._step(side) - GAP <= self._view().height():
                break
        return side

    def box(self, number: int) -> QRect:
        """Where a tile's first picture is, in the viewport."""
        row, column = divmod(number, self.columns)
        top = MARGIN + row * self.step - self._scrolled()
        return QRect(MARGIN + column * (self.side + GAP), top, self.side, self._high(self.side))

    def _view(self) -> QWidget:
        port = self.viewport()
        if port is None:
            raise RuntimeError("a scroll area has a viewport")
        return port

    def _scrolled(self) -> int:
        bar = self.verticalScrollBar()
        return bar.value() if bar is not None else 0

    def _lay_out(self) -> None:
        self.side = self._fitting()
        rows = -(-len(self.tiles) // self.columns)
        bar = self.verticalScrollBar()
        if bar is not None:
            bar.setRange(0, max(0, 2 * MARGIN + rows * self.step - GAP - self._view().height()))
            bar.setPageStep(self._view().height())
            bar.setSingleStep(self.step // 2)
        self._view().update()

    def resizeEvent(self, event: QResizeEvent | None) -> None:
        """Flow anew."""
        self._lay_out()

    def paintEvent(self, event: QPaintEvent | None) -> None:
        """Those in sight."""
        t, painter = look.theme, QPainter(self._view())
        painter.setFont(look.font(look.SMALL))
        height, columns = self._view().height(), self.columns
        first = max(0, self._scrolled() // self.step) * columns
        for number in range(first, len(self.tiles)):
            box, tile = self.box(number), self.tiles[number]
            if box.top() > height:
                break
            painter.setRenderHint(QPainter.RenderHint.SmoothPixmapTransform, not tile.sharp)
            for k, picture in enumerate(tile.pictures):
                place = box.translated(0, k * (box.height() + 2))
                draw_picture(painter, place, picture)
                painter.setPen(QPen(t.colour("line"), 1))
                painter.drawRect(place.adjusted(0, 0, -1, -1))
            whole = box.adjusted(0, 0, 0, (len(tile.pictures) - 1) * (box.height() + 2))
            if number in (self.current, self.marked):
                thick = 3 if number == self.current and self.hasFocus() else 2
                painter.setPen(QPen(t.colour("petrol"), thick))
                painter.drawRect(whole.adjusted(-1, -1, 0, 0))
            painter.setPen(t.colour(tile.role))
            under = QRect(whole.left(), whole.bottom() + 2, self.side + GAP - 2, CAPTION)
            words = painter.fontMetrics().elidedText(tile.caption, Qt.TextElideMode.ElideRight, under.width())
            painter.drawText(under, Qt.AlignmentFlag.AlignVCenter, words)

    def at(self, point: QPoint) -> int | None:
        """The tile there, or None."""
        for number in range(len(self.tiles)):
            box = self.box(number)
            if box.adjusted(0, 0, 0, self.step - box.height() - GAP).contains(point):
                return number
        return None

    def viewportEvent(self, event: QEvent | None) -> bool:
        """What a tile says of itself when the mouse rests."""
        if isinstance(event, QHelpEvent):
            number = self.at(event.pos())
            QToolTip.showText(event.globalPos(), self.tiles[number].tip if number is not None else "", self)
            return True
        return super().viewportEvent(event)

    def mousePressEvent(self, event: QMouseEvent | None) -> None:
        """Choose."""
        number = self.at(event.pos()) if event is not None else None
        if number is not None:
            self.current = number
            self._view().update()
            self.chosen.emit(number)

    def keyPressEvent(self, event: QKeyEvent | None) -> None:
        """Arrows go from one to the next, Enter chooses."""
        if event is None or not self.tiles:
            return
        steps = {
            Qt.Key.Key_Left: -1,
            Qt.Key.Key_Right: 1,
            Qt.Key.Key_Up: -self.columns,
            Qt.Key.Key_Down: self.columns,
            Qt.Key.Key_Home: -len(self.tiles),
            Qt.Key.Key_End: len(self.tiles),
        }
        step = steps.get(Qt.Key(event.key()))
        if event.key() in (Qt.Key.Key_Return, Qt.Key.Key_Enter) and self.current is not None:
            self.chosen.emit(self.current)
        elif step is not None:
            at = 0 if self.current is None else self.current + step
            self.current = min(max(at, 0), len(self.tiles) - 1)
            box, bar = self.box(self.current), self.verticalScrollBar()
            if bar is not None and box.top() < 0:
                bar.setValue(bar.value() + box.top() - MARGIN)
            elif bar is not None and box.top() + self.step > self._view().height():
                bar.setValue(bar.value() + box.top() + self.step - self._view().height())
            self._view().update()
        else:
            super().keyPressEvent(event)
