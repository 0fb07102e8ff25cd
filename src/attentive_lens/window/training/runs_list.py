"""The runs at the left of the stage: each with its number, how it stands, and a small curve."""

from __future__ import annotations

from collections.abc import Mapping

import numpy as np
from numpy.typing import NDArray
from PyQt6.QtCore import QPointF, QRectF, QSize, Qt, pyqtSignal
from PyQt6.QtGui import QPainter, QPaintEvent, QPen, QPolygonF

from attentive_lens.desk.training.runs import RunView
from attentive_lens.window import look
from attentive_lens.window.parts.row_list import RowList
from attentive_lens.window.words import main_figure

ROW, EDGE, LEFT = 48, 3, 10
"""Pixels of a row, of the mark of the one in view, and before its words."""
CURVE = QSize(44, 24)
"""Of the small curve."""
POINTS = 60
"""Of the small curve at most."""


class RunsList(RowList):
    """A row a run, the latest first; a click or the arrow keys put one in view.

    Signals
    -------
    chosen
        Number of a run.
    """

    chosen = pyqtSignal(int)

    def __init__(self) -> None:
        self.views: tuple[RunView, ...] = ()
        self.current: int | None = None
        super().__init__("runs list", "runs", ROW)

    def show_runs(self, views: Mapping[int, RunView], current: int | None) -> None:
        """As they stand now."""
        self.views = tuple(views[number] for number in sorted(views, reverse=True))
        self.current = current
        self.setAccessibleDescription("; ".join(f"run {view.number}, {standing(view)}" for view in self.views))
        self.fit()

    def count(self) -> int:
        """Runs."""
        return len(self.views)

    def place_in_view(self) -> int | None:
        """Of the run in view."""
        return next((k for k, view in enumerate(self.views) if view.number == self.current), None)

    def choose(self, place: int) -> None:
        """Say which run is to be in view."""
        self.chosen.emit(self.views[place].number)

    def tip(self, place: int) -> str:
        """Its name and how it stands."""
        view = self.views[place]
        return f"run {view.number} · {view.name} · {standing(view)}"

    def paintEvent(self, event: QPaintEvent | None) -> None:
        """Those in sight."""
        if event is None:
            return
        t, painter = look.theme, QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        first, last = event.rect().top() // ROW, event.rect().bottom() // ROW + 1
        for place in range(first, min(last, len(self.views))):
            view, box = self.views[place], QRectF(self.row(place))
            chosen = view.number == self.current
            if chosen:
                painter.fillRect(box, t.colour("sheet"))
                painter.fillRect(QRectF(0, box.top(), EDGE, ROW), t.colour("petrol"))
            painter.setFont(look.font(look.TEXT, chosen))
            painter.setPen(t.colour("ink"))
            side = Qt.AlignmentFlag.AlignVCenter
            painter.drawText(QRectF(LEFT, box.top() + 5, box.width() - LEFT, 18), side, f"run {view.number}")
            painter.setFont(look.font(look.SMALL))
            painter.setPen(t.colour("faint"))
            room = box.width() - LEFT - CURVE.width() - 10
            words = painter.fontMetrics().elidedText(standing(view), Qt.TextElideMode.ElideRight, int(room))
            painter.drawText(QRectF(LEFT, box.top() + 24, room, 18), side, words)
            curve = QRectF(box.right() - CURVE.width() - 6, box.top() + 12, CURVE.width(), CURVE.height())
            self._paint_curve(painter, view, curve)
        self.paint_focus(painter)

    def _paint_curve(self, painter: QPainter, view: RunView, box: QRectF) -> None:
        points = small_curve(view)
        painter.setPen(QPen(look.theme.colour("line"), 1))
        painter.drawLine(box.bottomLeft(), box.bottomRight())
        if len(points) > 1:
            painter.setPen(QPen(look.theme.colour("petrol"), 1.4))
            places = [
                QPointF(box.left() + x * box.width(), box.bottom() - y * box.height()) for x, y in points.tolist()
            ]
            painter.drawPolyline(QPolygonF(places))


def standing(view: RunView) -> str:
    """How a run stands, in a word or two: its best accuracy, or what it does."""
    best = view.best
    right = main_figure(best.validation.main_in_words) if best is not None and best.validation is not None else ""
    if view.state == "done" and right:
        return right
    state = "paused" if view.paused else view.state
    return f"{right} {state}".strip()


def small_curve(view: RunView) -> NDArray[np.float64]:
    """The validation set's main figure over the planned epochs, N×2 in 0–1, from its least to its greatest value."""
    known = [(epoch.epoch, epoch.validation.main) for epoch in view.epochs if epoch.validation is not None]
    if len(known) > POINTS:
        known = [known[int(k)] for k in np.linspace(0, len(known) - 1, POINTS)]
    points = np.array(known, np.float64).reshape(-1, 2)
    if len(points):
        points[:, 0] /= max(view.planned, points[-1, 0], 1)
        low, high = points[:, 1].min(), points[:, 1].max()
        points[:, 1] = (points[:, 1] - low) / ((high - low) or 1.0)
    return points
