"""Pictures in their own proportions, whatever box they are drawn in."""

from __future__ import annotations

from PyQt6.QtCore import QRect, QRectF, QSizeF, Qt
from PyQt6.QtGui import QImage, QPainter, QPixmap


def fitted(box: QRect | QRectF, picture: QImage | QPixmap) -> QRectF:
    """The largest place in a box, in its middle, that has a picture's proportions: the box itself for a square one."""
    whole = QRectF(box)
    size = QSizeF(picture.size()).scaled(whole.size(), Qt.AspectRatioMode.KeepAspectRatio)
    left, top = (whole.width() - size.width()) / 2, (whole.height() - size.height()) / 2
    return QRectF(whole.left() + left, whole.top() + top, size.width(), size.height())


def draw_picture(painter: QPainter, box: QRect | QRectF, picture: QImage) -> QRectF:
    """Draw a picture in a box, in its proportions; where it is."""
    place = fitted(box, picture)
    painter.drawImage(place, picture)
    return place
