"""What the program is for, in one picture: the way from images to a proven repair, and round again."""

from __future__ import annotations

from PyQt6.QtCore import QPointF, QRectF, QSize, Qt
from PyQt6.QtGui import QPainter, QPainterPath, QPaintEvent, QPen, QPolygonF
from PyQt6.QtWidgets import QWidget

from attentive_lens.window import look

STEPS = (
    ("look", "at the images", 0),
    ("train", "a network", 3),
    ("find", "its mistakes", 2),
    ("explain", "one of them", 1),
    ("act", "on the cause", 0),
)
"""Word, what it is done to, and how many plates stand behind the first."""
STEP, HEIGHT = 168, 148
GLASS_WIDE, GLASS_TALL, SLANT = 34.0, 40.0, 10.0


class Loop(QWidget):
    """Five steps from left to right; the last leads back to training, which proves it."""

    def __init__(self) -> None:
        super().__init__()
        self.setObjectName("loop")
        steps = ", ".join(f"{word} {about}" for word, about, _ in STEPS)
        self.setAccessibleName(f"{steps}, and train again to prove it")
        self.setFixedSize(self.sizeHint())

    def sizeHint(self) -> QSize:
        """As wide as its steps."""
        return QSize(STEP * len(STEPS), HEIGHT)

    def paintEvent(self, event: QPaintEvent | None) -> None:
        """Plates of glass, the words below, arrows between, and the way back."""
        t = look.theme
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        for k, (word, about, behind) in enumerate(STEPS):
            middle = QPointF(STEP * (k + 0.5), 34)
            for j in range(behind, -1, -1):
                self._paint_plate(painter, middle + QPointF(8.0 * j - 4.0 * behind, -2.0 * j), j == 0, word)
            painter.setFont(look.font(look.TEXT, True))
            painter.setPen(t.colour("ink"))
            box = QRectF(STEP * k, 66, STEP, 20)
            painter.drawText(box, Qt.AlignmentFlag.AlignCenter, word)
            painter.setFont(look.font(look.SMALL))
            painter.setPen(t.colour("faint"))
            painter.drawText(box.translated(0, 18), Qt.AlignmentFlag.AlignCenter, about)
            if k + 1 < len(STEPS):
                self._paint_arrow(painter, QPointF(STEP * (k + 1) - 34, 34), QPointF(STEP * (k + 1) + 34, 34))
        begin, end = QPointF(STEP * 4.5, 106), QPointF(STEP * 1.5, 106)
        path = QPainterPath(begin)
        path.cubicTo(begin + QPointF(0, 34), end + QPointF(0, 34), end)
        painter.setBrush(Qt.BrushStyle.NoBrush)
        painter.setPen(QPen(t.colour("petrol"), 1.6))
        painter.drawPath(path)
        painter.setBrush(t.colour("petrol"))
        painter.drawPolygon(QPolygonF([end, end + QPointF(4.5, 9), end + QPointF(-4.5, 9)]))
        words = "train again, and prove it mended"
        painter.setFont(look.font(look.SMALL))
        room = painter.fontMetrics().horizontalAdvance(words) + 16
        box = QRectF(STEP * 3 - room / 2, 122, room, 20)
        painter.fillRect(box, t.colour("paper"))
        painter.setPen(t.colour("petrol"))
        painter.drawText(box, Qt.AlignmentFlag.AlignCenter, words)

    @staticmethod
    def _paint_plate(painter: QPainter, middle: QPointF, front: bool, word: str) -> None:
        t = look.theme
        w, h, s = GLASS_WIDE / 2, GLASS_TALL / 2, SLANT / 2
        corners = (QPointF(-w, -h + s), QPointF(w, -h - s), QPointF(w, h - s), QPointF(-w, h + s))
        fill = {"find": "vermilion", "explain": "ochre_fill", "act": "petrol"}.get(word, "sheet")
        painter.setPen(QPen(t.colour("ink"), 1.1))
        painter.setBrush(t.colour("sheet"))
        painter.drawPolygon(QPolygonF([middle + c for c in corners]))
        if not front:
            return
        painter.setPen(Qt.PenStyle.NoPen)
        painter.setBrush(t.colour(fill if fill != "sheet" else "ink", 190 if fill != "sheet" else 60))
        painter.drawEllipse(middle + QPointF(-1, 1), 8.0, 9.0)

    @staticmethod
    def _paint_arrow(painter: QPainter, begin: QPointF, end: QPointF) -> None:
        colour = look.theme.colour("faint")
        painter.setPen(QPen(colour, 1.2))
        painter.drawLine(begin, end)
        painter.setBrush(colour)
        painter.drawPolygon(QPolygonF([end, end + QPointF(-8, -4), end + QPointF(-8, 4)]))
