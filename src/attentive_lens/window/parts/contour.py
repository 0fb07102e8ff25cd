"""The line about the pixels that are inside: of an object whose outline is known, drawn over its image."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray
from PyQt6.QtCore import QPointF, QRectF, Qt
from PyQt6.QtGui import QPainter, QPainterPath, QPen

from attentive_lens.window import look


def contour(inside: NDArray[np.bool_]) -> QPainterPath:
    """Edges between pixels that are inside and those that are not, in parts of the image's sides, 0–1."""
    path = QPainterPath()
    height, width = inside.shape
    framed = np.pad(inside, 1)
    for across in (True, False):
        turned = framed if across else framed.T
        rows, columns = np.nonzero(turned[1:, 1:-1] != turned[:-1, 1:-1])
        # Edges that follow each other on a line are drawn as one.
        starts = np.flatnonzero((np.diff(rows, prepend=-1) != 0) | (np.diff(columns, prepend=-2) != 1))
        ends = np.append(starts, len(rows))[1:] - 1
        for first, last in zip(starts.tolist(), ends.tolist(), strict=True):
            line, begin, end = int(rows[first]), int(columns[first]), int(columns[last]) + 1
            points = ((begin, line), (end, line)) if across else ((line, begin), (line, end))
            (left, top), (right, bottom) = points
            path.moveTo(left / width, top / height)
            path.lineTo(right / width, bottom / height)
    return path


def draw_contour(painter: QPainter, path: QPainterPath, area: QRectF) -> None:
    """Over an image that fills an area: a dark line on a light one, to be seen on any ground."""
    painter.save()
    painter.setRenderHint(QPainter.RenderHint.Antialiasing)
    painter.translate(QPointF(area.x(), area.y()))
    painter.scale(area.width(), area.height())
    painter.setBrush(Qt.BrushStyle.NoBrush)
    for role, width in (("sheet", 3.0), ("ink", 1.2)):
        pen = QPen(look.theme.colour(role), width)
        pen.setCosmetic(True)
        pen.setCapStyle(Qt.PenCapStyle.SquareCap)
        painter.setPen(pen)
        painter.drawPath(path)
    painter.restore()
