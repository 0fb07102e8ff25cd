"""Small things every page uses: labels, panels, pictures from arrays."""

from __future__ import annotations

import textwrap
from collections.abc import Callable, Sequence
from typing import Any

import numpy as np
from numpy.typing import NDArray
from PyQt6.QtCore import QEvent, QSize, Qt
from PyQt6.QtGui import QHelpEvent, QImage, QPainter, QPaintEvent, QPalette
from PyQt6.QtWidgets import (
    QComboBox,
    QFrame,
    QHBoxLayout,
    QLabel,
    QPushButton,
    QSizePolicy,
    QStyle,
    QStyleOption,
    QStyleOptionComboBox,
    QToolTip,
    QVBoxLayout,
    QWidget,
)

from attentive_lens.desk.map_colours import coloured, in_colour
from attentive_lens.images.pixel_format import PixelArray
from attentive_lens.window import look

Margins = tuple[int, int, int, int]
"""Left, top, right, bottom, in pixels."""
TIP = 90
"""Letters in a line of a tip."""


def vertical(of: QWidget | None = None, spacing: int = 4, margins: Margins = (0, 0, 0, 0)) -> QVBoxLayout:
    """A layout from top to bottom, of a widget or for another layout."""
    layout = QVBoxLayout() if of is None else QVBoxLayout(of)
    layout.setContentsMargins(*margins)
    layout.setSpacing(spacing)
    return layout


def horizontal(of: QWidget | None = None, spacing: int = 8, margins: Margins = (0, 0, 0, 0)) -> QHBoxLayout:
    """A layout from left to right, of a widget or for another layout."""
    layout = QHBoxLayout() if of is None else QHBoxLayout(of)
    layout.setContentsMargins(*margins)
    layout.setSpacing(spacing)
    return layout


WIDEST, LEAST = 220, 132
"""Pixels: of a list of long names at most, and where there is little room."""


class Chooser(QComboBox):
    """A list as wide as its longest word, to a limit; a choice with too little room ends in an ellipsis."""

    def __init__(self) -> None:
        super().__init__()
        self.setSizeAdjustPolicy(QComboBox.SizeAdjustPolicy.AdjustToContents)

    def sizeHint(self) -> QSize:
        """All of its words, or as much of them as a name may take."""
        return super().sizeHint().boundedTo(QSize(WIDEST, WIDEST))

    def minimumSizeHint(self) -> QSize:
        """Its words if they are short, or as much of them as tells a name."""
        return super().minimumSizeHint().boundedTo(QSize(LEAST, LEAST))

    def initStyleOption(self, option: QStyleOptionComboBox | None) -> None:
        """What is drawn."""
        super().initStyleOption(option)
        style = self.style()
        if option is not None and style is not None:
            control, field = QStyle.ComplexControl.CC_ComboBox, QStyle.SubControl.SC_ComboBoxEditField
            room = style.subControlRect(control, option, field, self).width()
            option.currentText = self.fontMetrics().elidedText(self.currentText(), Qt.TextElideMode.ElideRight, room)


def in_lines(tip: str) -> str:
    """A long tip in lines that fit beside the mouse; what is plain text is not wrapped otherwise."""
    return "\n".join(textwrap.fill(line, TIP) for line in tip.split("\n"))


def chooser(name: str, words: str, tip: str = "", items: Sequence[str] = ()) -> QComboBox:
    """A list to choose from, with a name for tests and one for those who cannot see it."""
    box = Chooser()
    box.setObjectName(name)
    box.setAccessibleName(words)
    box.setToolTip(in_lines(tip))
    box.setFont(look.font())
    box.addItems(items)
    return box


def label(text: str = "", role: str = "", size: int = look.TEXT, strong: bool = False, name: str = "") -> QLabel:
    """A label in one of our sizes; ``role`` colours it: faint, good, bad, warn."""
    widget = QLabel(text)
    widget.setFont(look.font(size, strong))
    widget.setTextFormat(Qt.TextFormat.PlainText)
    if role:
        widget.setProperty("role", role)
    if name:
        widget.setObjectName(name)
    return widget


class OneLine(QLabel):
    """A sentence in what room there is: drawn with an ellipsis, or not at all where it does not fit whole.

    Its text is the whole sentence, which is its tooltip too where it is cut.
    """

    def __init__(self, name: str, role: str = "", size: int = look.TEXT, whole: bool = False) -> None:
        super().__init__()
        self.whole = whole
        self.setObjectName(name)
        self.setFont(look.font(size))
        self.setTextFormat(Qt.TextFormat.PlainText)
        self.setSizePolicy(QSizePolicy.Policy.Ignored, QSizePolicy.Policy.Preferred)
        if role:
            self.setProperty("role", role)

    def minimumSizeHint(self) -> QSize:
        """Any width will do."""
        return QSize(0, super().minimumSizeHint().height())

    def shown(self) -> str:
        """What of it is drawn."""
        words = self.fontMetrics().elidedText(self.text(), Qt.TextElideMode.ElideRight, self.contentsRect().width())
        return "" if self.whole and words != self.text() else words

    def paintEvent(self, event: QPaintEvent | None) -> None:
        """As much as fits."""
        option, style, words = QStyleOption(), self.style(), self.shown()
        option.initFrom(self)
        if style is not None:
            side, role = int(self.alignment()), QPalette.ColorRole.WindowText
            style.drawItemText(QPainter(self), self.contentsRect(), side, option.palette, self.isEnabled(), words, role)

    def event(self, event: QEvent | None) -> bool:
        """The whole sentence, when the mouse rests on one that is cut."""
        if isinstance(event, QHelpEvent) and self.shown() != self.text() and not self.toolTip():
            QToolTip.showText(event.globalPos(), self.text(), self)
            return True
        return super().event(event)


def set_role(widget: QWidget, role: str) -> None:
    """Recolour a label."""
    if widget.property("role") != role:
        widget.setProperty("role", role)
        style = widget.style()
        if style is not None:
            style.unpolish(widget)
            style.polish(widget)


def retire(widget: QWidget) -> None:
    """Take a widget off the screen for good, also from within its own signal: it goes when that has ended."""
    for each in (widget, *widget.findChildren(QWidget)):
        each.setObjectName("")
    widget.hide()
    widget.deleteLater()


def panel(title: str = "", name: str = "") -> tuple[QFrame, QVBoxLayout]:
    """A sheet with a title, and the layout to fill."""
    frame = QFrame()
    frame.setProperty("role", "panel")
    if name:
        frame.setObjectName(name)
    layout = QVBoxLayout(frame)
    layout.setContentsMargins(16, 12, 16, 12)
    layout.setSpacing(8)
    if title:
        layout.addWidget(label(title, strong=True))
    return frame, layout


def button(text: str, name: str, tip: str, clicked: Callable[[], Any], checkable: bool = False) -> QPushButton:
    """A button with a name for tests, a tooltip, and what it does."""
    widget = QPushButton(text)
    widget.setObjectName(name)
    widget.setToolTip(in_lines(tip))
    widget.setAccessibleName(text)
    widget.setCheckable(checkable)
    widget.setFont(look.font())
    widget.clicked.connect(lambda _=False: clicked())
    return widget


def view_button(text: str, name: str, tip: str, clicked: Callable[[], Any]) -> QPushButton:
    """A word that chooses a view; the chosen one is underlined."""
    widget = button(text, name, tip, clicked, checkable=True)
    widget.setProperty("role", "view")
    return widget


def filter_button(text: str, name: str, tip: str, clicked: Callable[[], Any]) -> QPushButton:
    """A chip that shows or hides; tinted while it is on."""
    widget = button(text, name, tip, clicked, checkable=True)
    widget.setProperty("role", "filter")
    return widget


def to_image(pixels: PixelArray) -> QImage:
    """A QImage of its own from an image H×W×C, as the workspace's images are shown."""
    shown = np.ascontiguousarray(in_colour(pixels))
    height, width = shown.shape[:2]
    return QImage(shown.tobytes(), width, height, 3 * width, QImage.Format.Format_RGB888).copy()


def tint_image(colours: NDArray[np.uint8]) -> QImage:
    """A QImage of its own from transparent colours H×W×4 uint8 (RGBA)."""
    colours = np.ascontiguousarray(colours)
    height, width = colours.shape[:2]
    return QImage(colours.tobytes(), width, height, 4 * width, QImage.Format.Format_RGBA8888).copy()


def rgb(role: str) -> NDArray[np.float32]:
    """A token's red, green and blue, 0–255."""
    colour = look.theme.colour(role)
    return np.array([colour.red(), colour.green(), colour.blue()], np.float32)


def map_colours(map_: NDArray[np.float32], signed: bool = False, top: float | None = None) -> NDArray[np.uint8]:
    """A map in the theme's colours, transparent, H×W×4; ``top`` is shown at full strength."""
    return coloured(map_, (rgb("ochre_fill"), rgb("vermilion"), rgb("petrol")), signed, top)


def ink_on_paper(map_: NDArray[np.floating[Any]]) -> NDArray[np.uint8]:
    """A feature map, H×W×3: its least value paper, its greatest ink; a constant one is paper."""
    low, high = float(map_.min()), float(map_.max())
    level = ((map_ - low) / ((high - low) or 1.0))[:, :, None]
    paper = rgb("sheet")
    return (paper + (rgb("ink") - paper) * level).astype(np.uint8)
