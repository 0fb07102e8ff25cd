"""The confusion matrix: rows true, columns said; a cell is a door to its images."""

from __future__ import annotations

from PyQt6.QtCore import QEvent, QPoint, QRectF, Qt, pyqtSignal
from PyQt6.QtGui import QFontMetrics, QHelpEvent, QKeyEvent, QMouseEvent, QPainter, QPaintEvent, QPen
from PyQt6.QtWidgets import QSizePolicy, QToolTip, QWidget

from attentive_lens.window import look
from attentive_lens.window.words import percent

NAMES, HEAD, RATE = 84, 46, 76
MOST_NAMES = 190
"""Widest column of names; longer ones are cut, and whole in the tooltip."""
NUMBERED = 60
"""Most classes whose cells are kept large enough for a number."""


class ConfusionMatrix(QWidget):
    """Counts, shaded by their part of the true class; right answers petrol, wrong ones vermilion.

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
        self.setMouseTracking(True)
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Expanding)
        self.setMinimumSize(360, 300)
        self.classes: list[str] = []
        self.counts: list[list[int]] = []
        self.current: tuple[int, int] | None = None
        self.names = NAMES

    def show_counts(self, classes: list[str], counts: list[list[int]]) -> None:
        """Show another matrix; the current cell is kept if it exists."""
        self.classes, self.counts = classes, counts
        if self.current is not None and max(self.current) >= len(classes):
            self.current = None
        metrics = QFontMetrics(look.font(look.SMALL))
        longest = max((metrics.horizontalAdvance(name) for name in classes), default=0)
        self.names = min(MOST_NAMES, max(NAMES, longest + 20))
        least = 18 if len(classes) <= NUMBERED else 8
        self.setMinimumSize(self.names + RATE + least * len(classes), HEAD + least * len(classes) + 8)
        self.update()

    def _cell(self) -> tuple[float, float]:
        n = max(1, len(self.classes))
        wide = min(110.0, (self.width() - self.names - RATE) / n)
        tall = min(92.0, (self.height() - HEAD - 4) / n)
        return wide, tall

    def box(self, true: int, said: int) -> QRectF:
        """Where a cell is."""
        wide, tall = self._cell()
        return QRectF(self.names + said * wide, HEAD + true * tall, wide, tall)

    def paintEvent(self, event: QPaintEvent | None) -> None:
        """Names, cells, and the part answered rightly at the right."""
        if not self.classes:
            return
        t = look.theme
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        wide, tall = self._cell()
        small = look.font(look.SMALL)
        painter.setFont(small)
        painter.setPen(t.colour("faint"))
        painter.drawText(QRectF(self.names, 0, 200, 18), Qt.AlignmentFlag.AlignVCenter, "said")
        painter.drawText(QRectF(0, HEAD - 22, self.names - 12, 18), Qt.AlignmentFlag.AlignRight, "true")
        middle = Qt.AlignmentFlag.AlignCenter
        side = Qt.AlignmentFlag.AlignVCenter | Qt.AlignmentFlag.AlignRight
        shown = event.rect() if event is not None else self.rect()
        first_row, last_row = self._seen(shown.top() - HEAD, shown.bottom() - HEAD, tall)
        first_column, last_column = self._seen(shown.left() - self.names, shown.right() - self.names, wide)
        metrics = painter.fontMetrics()
        painter.setPen(t.colour("ink"))
        for k in range(first_column, last_column) if wide >= 24 else ():
            words = metrics.elidedText(self.classes[k], Qt.TextElideMode.ElideMiddle, int(wide) - 6)
            painter.drawText(QRectF(self.names + k * wide, HEAD - 24, wide, 20), middle, words)
        for true in range(first_row, last_row):
            row = self.counts[true]
            total = sum(row)
            for said in range(first_column, last_column):
                self._paint_cell(painter, true, said, total)
            if tall < 12:
                continue
            painter.setFont(small)
            painter.setPen(t.colour("ink"))
            words = metrics.elidedText(self.classes[true], Qt.TextElideMode.ElideMiddle, self.names - 16)
            painter.drawText(QRectF(0, HEAD + true * tall, self.names - 12, tall), side, words)
            right = QRectF(self.names + len(row) * wide + 4, HEAD + true * tall, RATE - 8, tall)
            painter.drawText(right, side, percent(row[true] / total) if total else "–")
        if self.current is not None and self.counts:
            painter.setBrush(Qt.BrushStyle.NoBrush)
            painter.setPen(QPen(t.colour("ink"), 2))
            painter.drawRoundedRect(self.box(*self.current), 3, 3)
        painter.setFont(small)
        painter.setPen(t.colour("faint"))
        end = QRectF(self.names + len(self.classes) * wide + 4, HEAD - 24, RATE - 8, 20)
        painter.drawText(end, side, "right")

    def _seen(self, near: float, far: float, size: float) -> tuple[int, int]:
        """First cell in sight and the one after the last."""
        last = min(len(self.classes), int(far // size) + 1)
        return max(0, int(near // size)), max(0, last)

    def _paint_cell(self, painter: QPainter, true: int, said: int, total: int) -> None:
        """A cell's shade and, where there is room, its number."""
        t = look.theme
        count = self.counts[true][said]
        cell = self.box(true, said)
        gap = 1 if cell.width() >= 12 else 0.5
        box = cell.adjusted(gap, gap, -gap, -gap)
        painter.setPen(Qt.PenStyle.NoPen)
        painter.setBrush(t.colour("well"))
        if count == 0:
            painter.fillRect(box, t.colour("well", 110))
            return
        part = count / total
        shade = round(25 + 215 * (part if true == said else min(1.0, part * 2.2)))
        painter.setBrush(t.colour("sheet"))
        painter.drawRoundedRect(box, 2, 2)
        painter.setBrush(t.colour("petrol" if true == said else "vermilion", shade))
        painter.drawRoundedRect(box, 2, 2)
        if box.width() >= 20 and box.height() >= 12:
            painter.setFont(look.font(look.TEXT if box.height() > 22 else look.SMALL))
            painter.setPen(t.colour("on_petrol" if shade > 205 else "ink"))
            painter.drawText(box, Qt.AlignmentFlag.AlignCenter, str(count))

    def choose(self, true: int, said: int) -> None:
        """Choose a cell."""
        self.current = (true, said)
        self.update()
        self.chosen.emit(true, said)

    def _at(self, point: QPoint) -> tuple[int, int] | None:
        wide, tall = self._cell()
        said, true = int((point.x() - self.names) // wide), int((point.y() - HEAD) // tall)
        inside = 0 <= said < len(self.classes) and 0 <= true < len(self.classes)
        return (true, said) if inside else None

    def mousePressEvent(self, event: QMouseEvent | None) -> None:
        """Choose the cell."""
        cell = self._at(event.pos()) if event is not None else None
        if cell is not None:
            self.choose(*cell)

    def mouseMoveEvent(self, event: QMouseEvent | None) -> None:
        """A hand over cells."""
        if event is not None:
            over = self._at(event.pos()) is not None
            self.setCursor(Qt.CursorShape.PointingHandCursor if over else Qt.CursorShape.ArrowCursor)

    def event(self, event: QEvent | None) -> bool:
        """A tooltip in words over each cell."""
        if isinstance(event, QHelpEvent):
            cell = self._at(event.pos())
            if cell is not None:
                true, said = cell
                count = self.counts[true][said]
                words = f"{count} of «{self.classes[true]}» said to be «{self.classes[said]}»"
                QToolTip.showText(event.globalPos(), words, self)
            return True
        return super().event(event)

    def keyPressEvent(self, event: QKeyEvent | None) -> None:
        """Arrows move from cell to cell."""
        moves = {
            Qt.Key.Key_Up: (-1, 0),
            Qt.Key.Key_Down: (1, 0),
            Qt.Key.Key_Left: (0, -1),
            Qt.Key.Key_Right: (0, 1),
        }
        move = moves.get(Qt.Key(event.key())) if event is not None else None
        if move is None or not self.classes:
            super().keyPressEvent(event)
            return
        true, said = self.current or (0, 0)
        last = len(self.classes) - 1
        self.choose(min(max(true + move[0], 0), last), min(max(said + move[1], 0), last))
