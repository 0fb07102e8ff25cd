"""A square of shares against shares, 0 to 100 % both ways: calibration, precision by recall, found by falsely said."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray
from PyQt6.QtCore import QEvent, QPointF, QSize
from PyQt6.QtGui import QMouseEvent

from attentive_lens.window.parts.plot import SHARE_FIGURES, Plot

MOST_POINTS = 600
NEAR = 24.0
"""Pixels from the mouse within which a point is told of."""


@dataclass(frozen=True)
class Line:
    """Points N×2 in 0–1, the token of their colour, whether they are joined, and whether dots stand on them.

    ``at`` tells what each point is besides, as its threshold: a number each, and what it is. A line of the role "line"
    is a faint one behind the others, of which the mouse tells nothing.
    """

    points: NDArray[np.float64]
    role: str = "petrol"
    dots: bool = False
    dashed: bool = False
    at: tuple[str, NDArray[np.float64]] | None = None


class UnitSquare(Plot):
    """Lines in a square.

    Parameters
    ----------
    title, across, up, name : str
        What is drawn, what lies along the axes, and its name for tests.
    """

    def __init__(self, title: str, across: str, up: str, name: str) -> None:
        super().__init__(title, name, (44, 20, 30, 40), square=True)
        self.setMinimumSize(QSize(180, 180))
        self.across, self.up = across, up
        self.lines: tuple[Line, ...] = ()
        self.note = ""
        self.over: tuple[int, int] | None = None
        """The line and its point under the mouse."""

    def show_lines(self, lines: Sequence[Line], note: str = "") -> None:
        """Others; the note stands beside the title."""
        self.lines, self.note, self.over = tuple(lines), note, None
        self.refresh()

    def draw(self) -> None:
        """Lines, what lies along the axes, and the point under the mouse."""
        self.set_range((0.0, 1.0), (0.0, 1.0))
        for axis in "xy":
            self.set_figures(axis, SHARE_FIGURES)
        self.set_note(self.in_words() or self.note)
        foot = QPointF(self.area().left(), self.area().bottom() + 29)
        self.words(f"across: {self.across}; up: {self.up}", foot, "faint", align=0.0)
        for line in self.lines:
            points = line.points
            if len(points) > MOST_POINTS:
                points = points[np.linspace(0, len(points) - 1, MOST_POINTS).astype(np.int64)]
            self.line(points, line.role, 1 if line.dashed else 2, "dashed" if line.dashed else "line")
            if line.dots:
                self.dots(points, line.role, 8)
        if self.over is not None:
            self.dots(self.lines[self.over[0]].points[[self.over[1]]], "ink", 10, hollow=True)

    def in_words(self) -> str:
        """The values of the point under the mouse; empty for none."""
        if self.over is None:
            return ""
        line, k = self.lines[self.over[0]], self.over[1]
        x, y = line.points[k]
        words = f"{self.across} {x * 100:.1f}\u202f%, {self.up} {y * 100:.1f}\u202f%"
        return f"{words} at {line.at[0]} {line.at[1][k]:.3f}" if line.at is not None else words

    def mouseMoveEvent(self, event: QMouseEvent | None) -> None:
        """Take the nearest point that is near."""
        if event is None:
            return
        area, best, over = self.area(), NEAR, None
        for number, line in enumerate(self.lines):
            if line.dashed or line.role == "line" or not len(line.points):
                continue
            across = area.left() + line.points[:, 0] * area.width() - event.position().x()
            down = area.bottom() - line.points[:, 1] * area.height() - event.position().y()
            away = np.hypot(across, down)
            if away.min() < best:
                best, over = float(away.min()), (number, int(away.argmin()))
        if over != self.over:
            self.over = over
            self.refresh()

    def leaveEvent(self, event: QEvent | None) -> None:
        """No point is under the mouse."""
        self.over = None
        self.refresh()
