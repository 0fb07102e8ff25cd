"""Filters: what the channels of a layer look for, by the training patches that excite each most."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray
from PyQt6.QtCore import QEvent, QRect, QSize, Qt, pyqtSignal
from PyQt6.QtGui import QHelpEvent, QMouseEvent, QPainter, QPaintEvent
from PyQt6.QtWidgets import QHBoxLayout, QScrollArea, QSizePolicy, QToolTip, QWidget

from attentive_lens.desk.requests.explaining import Explanation
from attentive_lens.desk.requests.inspecting import Layer, LayerSeen
from attentive_lens.window import look
from attentive_lens.window.explaining.panel import Panel
from attentive_lens.window.parts.basics import button, chooser, label, to_image, vertical
from attentive_lens.window.session import Session

PATCH, GAP, NAMES = 48, 4, 84
BAR, MOST_BARS, WORDS = 8, 12, 190
"""Pixels of a bar of activity, classes that have one, and pixels kept for words and gaps."""
DEAD = 1e-6
"""Greatest output below which a channel is told to be dead: no training image excites it."""


class ChannelRows(QWidget):
    """A row a channel: its number, the image drawn to excite it, its patches, and what it speaks for.

    Signals
    -------
    opened
        Number of the training image that a patch is from.
    """

    opened = pyqtSignal(int)

    def __init__(self) -> None:
        super().__init__()
        self.setObjectName("channel rows")
        self.setAccessibleName("channels and the patches that excite them")
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Fixed)
        self.seen: LayerSeen | None = None
        self.order: list[int] = []

    def show_layer(self, seen: LayerSeen | None, by_class: int | None = None) -> None:
        """Another layer; by a class its strongest speakers come first, else those that speak most for any."""
        self.seen = seen
        self.order = []
        if seen is not None:
            strength = np.abs(seen.speaks).max(axis=0) if by_class is None else seen.speaks[by_class]
            self.order = np.argsort(-strength, kind="stable").tolist()
        self.setFixedHeight(max(1, len(self.order)) * (PATCH + GAP))
        self.update()

    def sizeHint(self) -> QSize:
        """A row each."""
        return QSize(400, self.height())

    @property
    def shown_patches(self) -> int:
        """So many as leave room for the words."""
        if self.seen is None:
            return 0
        room = self.width() - NAMES - PATCH - self._bars() - WORDS
        return max(1, min(int(self.seen.patches.shape[1]), room // (PATCH + GAP)))

    def _left(self, patch: int) -> int:
        return NAMES + (PATCH + GAP) * patch

    def paintEvent(self, event: QPaintEvent | None) -> None:
        """Only the rows in sight."""
        seen = self.seen
        if seen is None or event is None:
            return
        t, painter = look.theme, QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.SmoothPixmapTransform, False)
        painter.setFont(look.font(look.SMALL))
        first, last = event.rect().top() // (PATCH + GAP), event.rect().bottom() // (PATCH + GAP) + 1
        dead, unused = dead_channels(seen), unused_channels(seen)
        patches = self.shown_patches
        for row in range(first, min(last, len(self.order))):
            channel, y = self.order[row], row * (PATCH + GAP)
            painter.setPen(t.colour("ink"))
            side = Qt.AlignmentFlag.AlignVCenter
            painter.drawText(QRect(0, y, NAMES - 8, PATCH), side, f"channel {channel}")
            for k in range(patches):
                painter.drawImage(QRect(self._left(k), y, PATCH, PATCH), to_image(_rgb(seen.patches[channel, k])))
            drawn = self._left(patches) + 8
            if channel in seen.synthetic_channels:
                made = seen.synthetic[seen.synthetic_channels.index(channel)]
                painter.drawImage(QRect(drawn, y, PATCH, PATCH), to_image(_rgb(made)))
            self._paint_activity(painter, channel, drawn + PATCH + 10, y)
            idle = channel in dead or channel in unused
            words = "dead: no training image excites it" if channel in dead else spoken(seen, channel)
            if channel in unused:
                words = "never used: no class's score hangs on it"
            painter.setPen(t.colour("vermilion" if idle else "faint"))
            left = drawn + PATCH + 10 + self._bars() + 10
            painter.drawText(
                QRect(left, y, max(60, self.width() - left - 4), PATCH), side | Qt.TextFlag.TextWordWrap, words
            )

    def _bars(self) -> int:
        """Pixels that the bars of activity take."""
        return min(len(self.seen.classes), MOST_BARS) * BAR if self.seen is not None else 0

    def _paint_activity(self, painter: QPainter, channel: int, left: int, top: int) -> None:
        """A bar a class: how active the channel is on average, the most active class's as tall as the row."""
        if self.seen is None:
            return
        means = np.nan_to_num(np.abs(self.seen.activity[:MOST_BARS, channel]))
        tallest = float(means.max(initial=0.0)) or 1.0
        painter.setPen(Qt.PenStyle.NoPen)
        for k, value in enumerate(means.tolist()):
            tall = round(value / tallest * (PATCH - 8))
            most = value == tallest
            painter.setBrush(look.theme.colour("petrol" if most else "line"))
            painter.drawRect(left + k * BAR, top + PATCH - 4 - tall, BAR - 2, max(1, tall))
        painter.setBrush(Qt.BrushStyle.NoBrush)

    def event(self, event: QEvent | None) -> bool:
        """Tell how active the channel under the mouse is by class."""
        if isinstance(event, QHelpEvent) and self.seen is not None:
            row = event.pos().y() // (PATCH + GAP)
            if 0 <= row < len(self.order):
                QToolTip.showText(event.globalPos(), activity_in_words(self.seen, self.order[row]), self)
                return True
        return super().event(event)

    def mousePressEvent(self, event: QMouseEvent | None) -> None:
        """Open the image that a patch is from."""
        if event is None or self.seen is None:
            return
        row, patch = event.pos().y() // (PATCH + GAP), (event.pos().x() - NAMES) // (PATCH + GAP)
        if 0 <= row < len(self.order) and 0 <= patch < self.shown_patches and event.pos().x() >= NAMES:
            numbers = self.seen.images[self.order[row]]
            if patch < len(numbers):
                self.opened.emit(numbers[patch])


class FiltersPanel(Panel):
    """A layer, its channels, and an order by what they speak for.

    Signals
    -------
    opened
        Number of an image that is to be explained.
    """

    title = "Filters"
    tip = "What the channels of a layer look for in all training images"

    def __init__(self, session: Session) -> None:
        super().__init__(session)
        self._run: int | None = None
        inside = vertical(self, spacing=6)
        row = QHBoxLayout()
        row.addWidget(label("of", "faint"))
        tip = "The layer whose channels are shown; only those with feature maps."
        self.layer = chooser("filters layer", "filters layer", tip)
        tip = "Those that speak most for a class first: what they add to its score, on average."
        self.order = chooser("filters order", "filters order", tip)
        self.layer.activated.connect(lambda _: self._ask())
        self.order.activated.connect(lambda _: self._show())
        row.addWidget(self.layer)
        row.addWidget(label("first those for", "faint"))
        row.addWidget(self.order)
        self.says = label(role="faint", size=look.SMALL, name="filters say")
        row.addWidget(self.says, 1)
        tip = "All training images are looked through: of many it takes a while."
        self.look = button("Find what they look for", "find filters", tip, self._ask)
        row.addWidget(self.look)
        inside.addLayout(row)
        self.rows = ChannelRows()
        self.rows.opened.connect(self.opened)
        scroll = QScrollArea()
        scroll.setWidgetResizable(True)
        scroll.setWidget(self.rows)
        inside.addWidget(scroll, 1)

    def show_explanation(self, explanation: Explanation) -> None:
        """Of another run other layers; the image does not matter, and no answer is void for it."""
        run = explanation.subject.run
        if run == self._run:
            return
        known = self.session.runs.facts()
        if known is None:
            return
        self._run = run
        network, facts = known
        maps = [fact.name for fact in facts if len(fact.shape) == 3]
        before = self.layer.currentText()
        self.layer.clear()
        names = {node.name for node in network.nodes}
        self.layer.addItems([name for name in maps if name in names])
        self.layer.setCurrentIndex(max(0, self.layer.findText(before)))
        self.order.clear()
        self.order.addItem("any class", None)
        for number, name in enumerate(self.session.runs.classes()):
            self.order.addItem(name, number)
        self.rows.show_layer(None)
        self.says.setText("")
        self.look.show()

    def forget(self) -> None:
        """Patches of images that have other contents now do not stand."""
        self._run, self._awaited = None, {}
        self.rows.show_layer(None)
        self.says.setText("")
        self.look.show()

    def _ask(self) -> None:
        if self._run is None or not self.layer.currentText():
            return
        request = Layer(self.session.place, self._run, self.layer.currentText())
        if not self.awaits(request, "filters of layer"):
            self.says.setText("Looking through the training images …")
            self.ask(request, self._take, self.says.setText, priority=3, scope="filters of layer")

    def _take(self, seen: LayerSeen) -> None:
        self.look.hide()
        self.rows.seen = seen
        self._show()

    def _show(self) -> None:
        seen = self.rows.seen
        if seen is None:
            return
        name = self.order.currentText()
        self.rows.show_layer(seen, seen.classes.index(name) if name in seen.classes else None)
        dead, unused, twins = dead_channels(seen), unused_channels(seen), duplicates(seen)
        words = [f"{seen.patches.shape[0]} channels"]
        if dead:
            words.append(f"{len(dead)} dead")
        if unused:
            words.append(f"{len(unused)} never used")
        if twins:
            words.append(f"{len(twins)} nearly the same as another: {', '.join(f'{a} and {b}' for a, b in twins[:3])}")
        self.says.setText(" · ".join(words))


def dead_channels(seen: LayerSeen) -> set[int]:
    """Channels that no training image excites."""
    return {k for k, values in enumerate(seen.values) if max(values, default=0.0) <= DEAD}


def unused_channels(seen: LayerSeen, least: float = 1e-3) -> set[int]:
    """Channels that are active and yet add to no class: less than a thousandth of what the strongest adds."""
    strength = np.abs(seen.speaks).max(axis=0)
    idle = np.flatnonzero(strength <= least * float(strength.max(initial=0.0)))
    return set(idle.tolist()) - dead_channels(seen)


def activity_in_words(seen: LayerSeen, channel: int) -> str:
    """How active a channel is on images of each class, the most active first."""
    column = np.nan_to_num(seen.activity[:, channel])
    order = np.argsort(-np.abs(column), kind="stable")[:MOST_BARS].tolist()
    means = ", ".join(f"{seen.classes[k]} {column[k]:.3g}" for k in order)
    return f"channel {channel}: mean output by class {means}; above zero in {seen.used[channel]:.0%} of the images"


def duplicates(seen: LayerSeen, least: float = 0.98) -> list[tuple[int, int]]:
    """Pairs of channels whose kernels point the same way: their cosine is at least so much."""
    kernel = seen.weights.get("kernel")
    if kernel is None or kernel.ndim != 4:
        return []
    rows = kernel.reshape(-1, kernel.shape[-1]).T.astype(np.float64)
    rows = rows / np.maximum(np.linalg.norm(rows, axis=1, keepdims=True), 1e-12)
    alike = np.triu(rows @ rows.T, 1) >= least
    return [(int(a), int(b)) for a, b in zip(*np.nonzero(alike), strict=True)]


def spoken(seen: LayerSeen, channel: int) -> str:
    """The classes that a channel speaks for and against most."""
    column = seen.speaks[:, channel]
    order = np.argsort(-np.abs(column), kind="stable")[:2].tolist()
    return ", ".join(f"{seen.classes[k]} {column[k]:+.2f}" for k in order).replace("-", "\u2212")


def _rgb(pixels: NDArray[np.uint8]) -> NDArray[np.uint8]:
    return np.repeat(pixels, 3, axis=2) if pixels.shape[2] == 1 else pixels
