"""A plot in our look: a title, a note beside it, two axes with a grid, and what is drawn between them.

Lengths along the axes are the data's; whoever draws says which role of the theme a thing has, never a colour. The mouse
is the widget's own: what is drawn takes no part in it. Another theme or size draws everything anew.
"""

from __future__ import annotations

import math
import sys
from collections.abc import Sequence

import numpy as np
from numpy.typing import ArrayLike, NDArray
from PyQt6.QtCore import QEvent, QPointF, QRect, QRectF, QSize, Qt
from PyQt6.QtGui import QPaintEvent, QPen, QResizeEvent
from PyQt6.QtWidgets import QGraphicsRectItem, QGraphicsSimpleTextItem, QSizePolicy, QWidget

from attentive_lens.window import look
from attentive_lens.window.parts.basics import OneLine, label
from attentive_lens.window.words import thousands

_hook = sys.excepthook
import pyqtgraph as pg  # noqa: E402

sys.excepthook = _hook  # the library puts its own there, which hides ours

pg.setConfigOptions(antialias=True, background=None)

LEFT, RIGHT, TOP, BOTTOM = 48, 12, 30, 26
"""Pixels around the area of a plot: figures, nothing, title, figures."""
STYLES = {"line": Qt.PenStyle.SolidLine, "dashed": Qt.PenStyle.DashLine, "dotted": Qt.PenStyle.DotLine}
OVER = 20
"""Pixels above the area, at most, in which words at its top find room."""
SHARES = (0.0, 0.5, 1.0)
"""Where an axis of shares has figures."""


class Axis(pg.AxisItem):
    """An axis whose figures are written as the plot says."""

    unit, room = "", 46
    """What its figures are, and the pixels from one to the next, about."""

    def boundingRect(self) -> QRectF:
        """With room for figures that stand at its ends."""
        return QRectF(super().boundingRect().adjusted(-24, -16, 24, 16))

    def tickSpacing(self, low: float, high: float, size: float) -> list[tuple[float, float]]:
        """One level of figures, at steps of 1, 2 or 5 and zeros."""
        rough = (high - low) / max(2.0, size / self.room)
        power = 10.0 ** math.floor(math.log10(rough))
        return [(next(power * factor for factor in (1, 2, 5, 10) if power * factor >= rough * 0.999), 0.0)]

    def logTickValues(self, low: float, high: float, size: float, ticks: object) -> list[tuple[None, list[float]]]:
        """Powers of ten, and their 2 and 5 where there are few."""
        powers = [float(power) for power in range(math.ceil(low - 1e-9), math.floor(high + 1e-9) + 1)]
        if len(powers) > 3:
            return [(None, powers)]
        every = [power + math.log10(f) for power in range(math.floor(low), math.ceil(high) + 1) for f in (1, 2, 5)]
        return [(None, [value for value in every if low <= value <= high])]

    def tickStrings(self, values: Sequence[float], scale: float, spacing: float) -> list[str]:
        """Shares as hundredths, others as short as they are."""
        if self.scale != 1:  # what is counted along it
            return [thousands(round(value * self.scale)) for value in values]
        return [figure(10.0**value if self.logMode else value, self.unit) for value in values]


class Plot(QWidget):
    """A plot; whoever derives from it draws in `draw`.

    Parameters
    ----------
    title : str
        Written above.
    name : str
        For tests.
    edges : (int, int, int, int)
        Pixels at the left, right, top and bottom of what is drawn.
    square : bool
        Both axes are equally long.
    clips : bool
        What lies beyond the axes is not drawn.
    """

    def __init__(
        self,
        title: str,
        name: str,
        edges: tuple[int, int, int, int] = (LEFT, RIGHT, TOP, BOTTOM),
        square: bool = False,
        clips: bool = False,
    ) -> None:
        super().__init__()
        self.setObjectName(name)
        self.setAccessibleName(title or name)
        self.setMouseTracking(True)
        self.setMinimumSize(QSize(180, 140))
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Expanding)
        self.edges, self.square = edges, square
        self._log, self._stale = "", True
        self._title, self._note = label(title, strong=True), OneLine("", "faint", look.SMALL)
        self._view = pg.GraphicsView(parent=self, background=None)
        self._view.setAttribute(Qt.WidgetAttribute.WA_TransparentForMouseEvents)
        self._view.setFocusPolicy(Qt.FocusPolicy.NoFocus)
        port = self._view.viewport()
        if port is not None:
            port.setFocusPolicy(Qt.FocusPolicy.NoFocus)
        self._view.lower()
        self._across, self._up = Axis("bottom"), Axis("left")
        self._box = pg.ViewBox(enableMenu=False, enableMouse=False)  # a plot item would bring six menus of its own
        self._box.disableAutoRange()
        self._box.setFlag(self._box.GraphicsItemFlag.ItemClipsChildrenToShape, clips)
        self._room = pg.GraphicsLayout()
        self._room.layout.setSpacing(0)
        for item, place in ((self._up, (0, 0)), (self._box, (0, 1)), (self._across, (1, 1))):
            self._room.addItem(item, *place)
        for axis in (self._up, self._across):
            axis.linkToView(self._box)
            axis.setZValue(-1000)
            axis.setStyle(tickLength=0, tickFont=look.font(look.SMALL), autoExpandTextSpace=False)
            axis.setPen(pg.mkPen(None))
        self._up.setWidth(edges[0])
        self._up.setGrid(255)
        self._across.setHeight(edges[3])
        self._view.setCentralItem(self._room)
        self._words: list[QGraphicsSimpleTextItem | QGraphicsRectItem] = []
        self._range = (0.0, 1.0, 0.0, 1.0)
        for each in (self._title, self._note):
            each.setParent(self)
            each.setAttribute(Qt.WidgetAttribute.WA_TransparentForMouseEvents)

    def draw(self) -> None:
        """Draw everything with the verbs below."""

    def refresh(self) -> None:
        """Draw everything anew, once somebody looks."""
        self._stale = True
        if self.isVisible():
            self._drawn_now()

    def _drawn_now(self) -> None:
        """Draw what is not drawn yet."""
        if not self._stale:
            return
        self._stale = False
        self._box.clear()
        scene = self._view.scene()
        for words in self._words:
            scene.removeItem(words)
        self._words = []
        for axis in (self._up, self._across):
            axis.setTextPen(look.theme.colour("faint"))
            axis.setTickPen(look.theme.colour("line"))
        self.draw()

    def resizeEvent(self, event: QResizeEvent | None) -> None:
        """Use the room there is."""
        area, over = self.area(), min(OVER, self.edges[2])
        self._room.layout.setContentsMargins(
            0, over, self.width() - area.right(), self.height() - area.bottom() - self.edges[3]
        )
        self._view.setGeometry(QRect(0, self.edges[2] - over, self.width(), self.height() - self.edges[2] + over))
        self._room.layout.activate()
        self._title.adjustSize()
        self._title.move(2, 2)
        left = self._title.sizeHint().width() + 14
        self._note.setGeometry(left, 3, max(0, self.width() - left), self._note.sizeHint().height())
        self.refresh()

    def paintEvent(self, event: QPaintEvent | None) -> None:
        """Seen for the first time."""
        self._drawn_now()

    def changeEvent(self, event: QEvent | None) -> None:
        """Take the colours of another theme."""
        super().changeEvent(event)
        if event is not None and event.type() == QEvent.Type.StyleChange:
            self.refresh()

    def set_note(self, note: str) -> None:
        """What stands beside the title."""
        self._note.setText(note)

    def set_range(
        self, across: tuple[float, float], up: tuple[float, float], units: tuple[str, str] = ("", ""), log: str = ""
    ) -> None:
        """The ends of the axes, what their figures are ("%" for shares), and which are logarithmic: "x", "y", "xy"."""
        self._across.setLogMode(x="x" in log, y=False)
        self._up.setLogMode(x=False, y="y" in log)
        self._across.unit, self._up.unit = units
        ends = [
            np.log10(pair) if axis in log else np.asarray(pair, np.float64)
            for axis, pair in zip("xy", (across, up), strict=True)
        ]
        self._log = log
        self._range = (float(ends[0][0]), float(ends[0][1]), float(ends[1][0]), float(ends[1][1]))
        self._box.setRange(xRange=self._range[:2], yRange=self._range[2:], padding=0, disableAutoRange=True)

    def count_across(self, each: int) -> None:
        """Write so many things for each unit along the horizontal axis; 0: the unit itself."""
        self._across.setScale(max(1, each))

    def set_figures(self, axis: str, at: Sequence[tuple[float, str]]) -> None:
        """Other figures at an axis, "x" or "y"."""
        (self._across if axis == "x" else self._up).setTicks([list(at)])

    def area(self) -> QRectF:
        """Where the data are drawn, in pixels of the widget."""
        left, right, top, bottom = self.edges
        wide, high = max(1, self.width() - left - right), max(1, self.height() - top - bottom)
        return QRectF(left, top, min(wide, high), min(wide, high)) if self.square else QRectF(left, top, wide, high)

    def _scaled(self, values: ArrayLike, axis: str) -> NDArray[np.float64]:
        plain: NDArray[np.float64] = np.asarray(values, np.float64)
        if axis not in self._log:
            return plain
        low = self._range[0 if axis == "x" else 2]
        scaled: NDArray[np.float64] = np.log10(np.maximum(plain, 10.0**low))
        return scaled

    def place_across(self, x: float) -> float:
        """Where a value stands across, in pixels of the widget."""
        self._drawn_now()
        area, (low, high, _, _) = self.area(), self._range
        return area.left() + (float(self._scaled(x, "x")) - low) / (high - low) * area.width()

    def place(self, x: float, y: float) -> QPointF:
        """Where a point of the data stands, in pixels of the widget."""
        self._drawn_now()
        area, (_, _, low, high) = self.area(), self._range
        above = (float(self._scaled(y, "y")) - low) / (high - low)
        return QPointF(self.place_across(x), area.bottom() - above * area.height())

    def value(self, place: QPointF) -> tuple[float, float]:
        """The point of the data at a place of the widget, within the axes."""
        self._drawn_now()
        area, (low, high, down, up) = self.area(), self._range
        x = low + min(1.0, max(0.0, (place.x() - area.left()) / area.width())) * (high - low)
        y = down + min(1.0, max(0.0, (area.bottom() - place.y()) / area.height())) * (up - down)
        return 10.0**x if "x" in self._log else x, 10.0**y if "y" in self._log else y

    def line(
        self, points: NDArray[np.float64], role: str, width: float = 2, style: str = "line", alpha: int = 255
    ) -> None:
        """A line through points N×2; where there is one alone, a dot."""
        pen = QPen(look.theme.colour(role, alpha), width, STYLES[style])
        x, y = self._scaled(points[:, 0], "x"), self._scaled(points[:, 1], "y")
        made = pg.PlotCurveItem(x, y, pen=_cosmetic(pen))
        made.setSegmentedLineMode("on" if style == "line" and alpha == 255 else "off")  # much the quicker to paint
        self._box.addItem(made)
        if len(points) == 1:
            self.dots(points, role, 4)

    def dots(self, points: NDArray[np.float64], role: str, size: float, hollow: bool = False) -> None:
        """A dot at each of points N×2, so many pixels across; a hollow one is a ring."""
        colour = look.theme.colour(role)
        pen, brush = (pg.mkPen(colour, width=2), None) if hollow else (None, colour)
        x, y = self._scaled(points[:, 0], "x"), self._scaled(points[:, 1], "y")
        self._box.addItem(pg.ScatterPlotItem(x, y, size=size, pen=pen, brush=brush))

    def bars(self, left: ArrayLike, right: ArrayLike, bottom: ArrayLike, top: ArrayLike, role: str) -> None:
        """Upright bars by their four sides."""
        colour = look.theme.colour(role)
        self._box.addItem(
            pg.BarGraphItem(
                x0=np.asarray(left),
                x1=np.asarray(right),
                y0=np.asarray(bottom),
                y1=np.asarray(top),
                pen=None,
                brush=colour,
            )
        )

    def band(self, low: float, high: float, role: str, alpha: int = 255) -> None:
        """A stretch of the axis across, behind everything."""
        ends = float(self._scaled(low, "x")), float(self._scaled(high, "x"))
        made = pg.LinearRegionItem(ends, movable=False, brush=look.theme.colour(role, alpha), pen=pg.mkPen(None))
        made.setZValue(-10)
        self._box.addItem(made)

    def upright(self, x: float, role: str, style: str = "line", words: str = "") -> None:
        """A line from the foot to the top at a place across; words stand on it at its foot."""
        pen = QPen(look.theme.colour(role), 1, STYLES[style])
        self._box.addItem(pg.InfiniteLine(float(self._scaled(x, "x")), 90, pen=_cosmetic(pen)))
        if words:
            self.words(words, QPointF(self.place_across(x), self.area().bottom() - 11), role, boxed=True)

    def words(self, text: str, at: QPointF, role: str, align: float = 0.5, boxed: bool = False) -> None:
        """Words at a place of the widget, which they stand to the right of (0), around (0.5) or to the left of (1)."""
        item, scene = QGraphicsSimpleTextItem(text), self._view.scene()
        item.setFont(look.font(look.SMALL))
        item.setBrush(look.theme.colour(role))
        size, area = item.boundingRect(), self.area()
        left = at.x() - align * size.width()
        if boxed:
            left = min(max(left, area.left() + 4), area.right() - size.width() - 4)
        item.setPos(left, at.y() - self._view.y() - size.height() / 2)
        if boxed:
            ground = QGraphicsRectItem(item.sceneBoundingRect().adjusted(-4, -1, 4, 1))
            ground.setBrush(look.theme.colour("sheet", 230))
            ground.setPen(QPen(Qt.PenStyle.NoPen))
            scene.addItem(ground)
            self._words.append(ground)
        scene.addItem(item)
        self._words.append(item)


def _cosmetic(pen: QPen) -> QPen:
    """A pen as wide on the screen as it says, whatever the axes."""
    pen.setCosmetic(True)
    return pen


def figure(value: float, unit: str = "", fine: bool = False) -> str:
    """A figure at an axis, or a finer one to read: shares as hundredths, others as short as they are."""
    if unit == "%":
        return f"{value * 100:.1f}\u202f%" if fine else f"{value * 100:.0f}\u202f%"
    if fine:
        close = f"{value:.3f}" if abs(value) >= 0.1 or value == 0 else f"{value:.2g}"
        return f"{value:.0f}".replace("-", "\u2212") if abs(value) >= 1000 else close.replace("-", "\u2212")
    return f"{value:g}".replace("e-0", "e-").replace("-", "\u2212")


SHARE_FIGURES = tuple((share, figure(share, "%")) for share in SHARES)
