"""The stages' signs, drawn with a pen on a 24×24 grid."""

from __future__ import annotations

from collections.abc import Callable

from PyQt6.QtCore import QPointF, QRectF, Qt
from PyQt6.QtGui import QColor, QPainter, QPainterPath, QPen

Glyph = Callable[[QPainter, QColor], None]


def _grains(p: QPainter, colour: QColor) -> None:
    """A tray of pictures, one of them a grain."""
    for x, y in ((2.5, 2.5), (13.5, 2.5), (2.5, 13.5)):
        p.drawRoundedRect(QRectF(x, y, 8, 8), 1.5, 1.5)
    p.drawEllipse(QPointF(17.5, 17.5), 4.2, 4.2)


def _rail(p: QPainter, colour: QColor) -> None:
    """Plates on a rail."""
    p.drawLine(QPointF(1, 12), QPointF(23, 12))
    for x, half in ((4, 9), (10, 6.5), (15.5, 4.5), (20, 3)):
        p.save()
        p.setBrush(QColor(colour.red(), colour.green(), colour.blue(), 40))
        p.drawRect(QRectF(x - 1.5, 12 - half, 3, 2 * half))
        p.restore()


def _curve(p: QPainter, colour: QColor) -> None:
    """A falling loss."""
    path = QPainterPath(QPointF(3, 3))
    path.cubicTo(QPointF(6, 16), QPointF(11, 18), QPointF(21, 18.5))
    p.drawPath(path)
    pen = p.pen()
    pen.setStyle(Qt.PenStyle.DotLine)
    p.setPen(pen)
    path = QPainterPath(QPointF(5, 3))
    path.cubicTo(QPointF(8, 12), QPointF(13, 12.5), QPointF(21, 12))
    p.drawPath(path)


def _matrix(p: QPainter, colour: QColor) -> None:
    """A matrix with a strong diagonal."""
    for k in range(4):
        p.drawLine(QPointF(3, 3 + 6 * k), QPointF(21, 3 + 6 * k))
        p.drawLine(QPointF(3 + 6 * k, 3), QPointF(3 + 6 * k, 21))
    for k in range(3):
        p.fillRect(QRectF(4.5 + 6 * k, 4.5 + 6 * k, 3, 3), colour)


def _lens(p: QPainter, colour: QColor) -> None:
    """A lens over a point."""
    p.drawEllipse(QPointF(12, 12), 9, 9)
    p.setBrush(colour)
    p.drawEllipse(QPointF(12, 12), 2.6, 2.6)


def _shelf(p: QPainter, colour: QColor) -> None:
    """Boxes on two boards."""
    for board in (11, 22):
        p.drawLine(QPointF(1.5, board), QPointF(22.5, board))
    for x, y, wide, tall in ((4, 4, 4, 7), (10.5, 2, 4, 9), (5, 14, 7, 8), (15, 16, 4.5, 6)):
        p.drawRect(QRectF(x, y, wide, tall))


GLYPHS: dict[str, Glyph] = {
    "images": _grains,
    "network": _rail,
    "training": _curve,
    "results": _matrix,
    "explain": _lens,
    "shelf": _shelf,
}


def draw_glyph(painter: QPainter, name: str, x: float, y: float, colour: QColor) -> None:
    """Draw a sign with its upper left corner at (x, y)."""
    painter.save()
    painter.setRenderHint(QPainter.RenderHint.Antialiasing)
    painter.translate(x, y)
    pen = QPen(colour, 1.5)
    pen.setCapStyle(Qt.PenCapStyle.RoundCap)
    painter.setPen(pen)
    painter.setBrush(Qt.BrushStyle.NoBrush)
    GLYPHS[name](painter, colour)
    painter.restore()
