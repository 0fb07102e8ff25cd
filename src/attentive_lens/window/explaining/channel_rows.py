"""The channels of a layer, a row each: kernel, image drawn to excite it, patches, activity by class."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray
from PyQt6.QtCore import QEvent, QPoint, QRect, QSize, Qt, pyqtSignal
from PyQt6.QtGui import QHelpEvent, QImage, QMouseEvent, QPainter, QPaintEvent
from PyQt6.QtWidgets import QSizePolicy, QToolTip, QWidget

from attentive_lens.core.telling import signed
from attentive_lens.desk.requests.inspecting import LayerSeen
from attentive_lens.window import look
from attentive_lens.window.parts.basics import map_colours, rgb, to_image
from attentive_lens.window.parts.pointing import points
from attentive_lens.window.parts.proportions import draw_picture

PATCH, GAP, HEAD = 48, 4, 18
"""Pixels of a picture, between two, and of the line above them."""
STEP = HEAD + PATCH + 2 * GAP
"""Pixels from one row to the next."""
BAR, MOST_BARS = 7, 12
"""Pixels of a bar of activity, and classes that have one."""
INPUTS = 2
"""Input channels along a side of a kernel's picture: the strongest ones."""
DEAD = 1e-6
"""Greatest output below which a channel is called dead: no training image excites it."""


class ChannelRows(QWidget):
    """A row a channel: its kernel, the image drawn to excite it, its patches, and what it speaks for.

    Attributes
    ----------
    layer : str
        Whose channels these are.
    kernel : ndarray, H×W×I×C, or None
        Its weights.
    seen : LayerSeen or None
        What excites them.

    Signals
    -------
    opened
        Number of the training image that a patch is from.
    walked
        Numbers of the images whose patches excite a channel, whose kernel or drawn image was clicked.
    """

    opened = pyqtSignal(int)
    walked = pyqtSignal(list)

    def __init__(self) -> None:
        super().__init__()
        points(self, lambda at: self.seen is not None and 0 <= at.y() // STEP < len(self.order))
        self.setObjectName("channel rows")
        self.setAccessibleName("channels, their kernels and the patches that excite them")
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Fixed)
        self.layer = ""
        self.kernel: NDArray[np.float32] | None = None
        self.seen: LayerSeen | None = None
        self.order: list[int] = []
        self.drawn: list[QImage] = []
        self._of_image = False

    def show_layer(self, layer: str) -> None:
        """Another layer, of which nothing is known yet."""
        self.layer, self.kernel, self.seen, self.order, self.drawn = layer, None, None, [], []
        self._fit()

    def show_kernels(self, kernel: NDArray[np.float32], of_image: bool) -> None:
        """Its weights, H×W×I×C; ``of_image`` where their inputs are the image's own channels."""
        self.kernel, self._of_image = kernel, of_image
        if not self.order:
            self.order = list(range(kernel.shape[-1]))
        self.draw_kernels()
        self._fit()

    def draw_kernels(self) -> None:
        """In the colours of the theme."""
        if self.kernel is not None:
            kernels = np.moveaxis(self.kernel, -1, 0)
            self.drawn = [to_image(kernel_picture(each, self._of_image)) for each in kernels]
            self.update()

    def show_seen(self, seen: LayerSeen, by_class: int | None = None) -> None:
        """What excites them; by a class its strongest speakers come first, else those that speak most for any."""
        self.seen = seen
        strength = np.abs(seen.speaks).max(axis=0) if by_class is None else seen.speaks[by_class]
        self.order = np.argsort(-strength, kind="stable").tolist()
        self._fit()

    def _fit(self) -> None:
        self.setFixedHeight(max(1, len(self.order)) * STEP)
        self.update()

    def sizeHint(self) -> QSize:
        """A row each."""
        return QSize(300, self.height())

    @property
    def shown_patches(self) -> int:
        """So many as leave room for the bars."""
        if self.seen is None:
            return 0
        room = self.width() - self._left(0) - self._bars() - 2 * GAP
        return max(1, min(int(self.seen.patches.shape[1]), room // (PATCH + GAP)))

    def _left(self, patch: int) -> int:
        """Where a patch begins: behind the kernel, if there is one, and the drawn image."""
        return (PATCH + GAP) * (patch + 1 + bool(self.drawn)) + GAP

    def _bars(self) -> int:
        """Pixels that the bars of activity take."""
        return min(len(self.seen.classes), MOST_BARS) * BAR if self.seen is not None else 0

    def paintEvent(self, event: QPaintEvent | None) -> None:
        """Only the rows in sight."""
        if event is None:
            return
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.SmoothPixmapTransform, False)
        painter.setFont(look.font(look.SMALL))
        dead = dead_channels(self.seen) if self.seen is not None else set()
        unused = unused_channels(self.seen) if self.seen is not None else set()
        first, last = event.rect().top() // STEP, event.rect().bottom() // STEP + 1
        for row in range(first, min(last, len(self.order))):
            channel, y = self.order[row], row * STEP
            idle = "dead: no training image excites it" if channel in dead else ""
            idle = idle or ("never used: no class's score depends on it" if channel in unused else "")
            painter.setPen(look.theme.colour("vermilion" if idle else "faint"))
            words = idle or (spoken(self.seen, channel) if self.seen is not None else "")
            line = f"channel {channel}{' · ' if words else ''}{words}"
            shown = painter.fontMetrics().elidedText(line, Qt.TextElideMode.ElideRight, self.width())
            painter.drawText(QRect(0, y, self.width(), HEAD), Qt.AlignmentFlag.AlignVCenter, shown)
            self._paint_pictures(painter, channel, y + HEAD)

    def _paint_pictures(self, painter: QPainter, channel: int, top: int) -> None:
        seen = self.seen
        if self.drawn:
            draw_picture(painter, QRect(0, top, PATCH, PATCH), self.drawn[channel])
        if seen is None:
            return
        if channel in seen.synthetic_channels:
            made = seen.synthetic[seen.synthetic_channels.index(channel)]
            draw_picture(painter, QRect(self._left(-1) - GAP, top, PATCH, PATCH), to_image(_rgb(made)))
        patches = self.shown_patches
        for k in range(patches):
            draw_picture(painter, QRect(self._left(k), top, PATCH, PATCH), to_image(_rgb(seen.patches[channel, k])))
        self._paint_activity(painter, channel, self._left(patches) + GAP, top)

    def _paint_activity(self, painter: QPainter, channel: int, left: int, top: int) -> None:
        """A bar a class: how active the channel is on average, the most active class's as tall as the row."""
        if self.seen is None:
            return
        means = np.nan_to_num(np.abs(self.seen.activity[:MOST_BARS, channel]))
        tallest = float(means.max(initial=0.0)) or 1.0
        painter.setPen(Qt.PenStyle.NoPen)
        for k, value in enumerate(means.tolist()):
            tall = round(value / tallest * (PATCH - 8))
            painter.setBrush(look.theme.colour("petrol" if value == tallest else "line"))
            painter.drawRect(left + k * BAR, top + PATCH - 4 - tall, BAR - 2, max(1, tall))
        painter.setBrush(Qt.BrushStyle.NoBrush)

    def event(self, event: QEvent | None) -> bool:
        """Say what the picture under the mouse is."""
        if isinstance(event, QHelpEvent):
            row = event.pos().y() // STEP
            if 0 <= row < len(self.order):
                QToolTip.showText(event.globalPos(), self.words_at(event.pos()), self)
                return True
        return super().event(event)

    def words_at(self, at: QPoint) -> str:
        """What stands at a point of a row."""
        channel, x = self.order[at.y() // STEP], at.x()
        if self.kernel is not None and x < PATCH:
            return kernel_words(self.kernel[..., channel], channel, self._of_image)
        if self.seen is None:
            return f"channel {channel}"
        if x < self._left(0) - GAP:
            return f"An image drawn to excite channel {channel}; click: the images that excite it most."
        return activity_in_words(self.seen, channel)

    def mousePressEvent(self, event: QMouseEvent | None) -> None:
        """Open the image that a patch is from; of a kernel or a drawn image walk through all of them."""
        if event is None or self.seen is None:
            return
        row, patch = event.pos().y() // STEP, (event.pos().x() - self._left(0)) // (PATCH + GAP)
        if not 0 <= row < len(self.order):
            return
        numbers = self.seen.images[self.order[row]]
        if event.pos().x() < self._left(0):
            self.walked.emit(list(dict.fromkeys(numbers)))
        elif patch < min(self.shown_patches, len(numbers)):
            self.opened.emit(numbers[patch])


def kernel_picture(kernel: NDArray[np.float32], of_image: bool) -> NDArray[np.uint8]:
    """A channel's kernel as a picture, uint8 with three channels.

    Parameters
    ----------
    kernel : ndarray, H×W×I
        Its weights.
    of_image : bool
        Whether they look at the image's own channels.

    Returns
    -------
    ndarray
        Where it looks at three colours, these: grey is 0, the greatest absolute weight full strength. Else its
        strongest input channels, by norm, in a square with a line between two: petrol below 0, vermilion above.
    """
    height, width, inputs = kernel.shape
    top = float(np.abs(kernel).max()) or 1.0
    if of_image and inputs == 3:
        return np.asarray(np.clip(127.5 + 127.5 * kernel / top, 0, 255), np.uint8)
    side = min(INPUTS, inputs)
    gap = 1 if side > 1 else 0
    picture = np.empty((side * (height + gap) - gap, side * (width + gap) - gap, 3), np.uint8)
    picture[:] = rgb("line")
    for place, number in enumerate(strongest_inputs(kernel, side * side)):
        row, column = place // side * (height + gap), place % side * (width + gap)
        tint = map_colours(np.ascontiguousarray(kernel[:, :, number]), True, top).astype(np.float32)
        ground = rgb("sheet")
        mixed = ground + (tint[:, :, :3] - ground) * (tint[:, :, 3:] / 255)
        picture[row : row + height, column : column + width] = mixed.astype(np.uint8)
    return picture


def strongest_inputs(kernel: NDArray[np.float32], count: int) -> list[int]:
    """Input channels of a kernel H×W×I whose weights have the greatest norm, the strongest first."""
    norms = np.square(kernel.astype(np.float64)).sum(axis=(0, 1))
    return [int(number) for number in np.argsort(-norms, kind="stable")[:count]]


def kernel_words(kernel: NDArray[np.float32], channel: int, of_image: bool) -> str:
    """What a kernel's picture shows."""
    height, width, inputs = kernel.shape
    what = f"kernel of channel {channel}, {height}×{width} of {inputs} inputs"
    ends = f"{float(kernel.min()):.3g} to {float(kernel.max()):.3g}".replace("-", "\u2212")
    if of_image and inputs == 3:
        return f"{what}: {ends}, in the image's colours; grey is 0"
    strongest = ", ".join(str(number) for number in strongest_inputs(kernel, INPUTS * INPUTS))
    return f"{what}: {ends}; the strongest inputs: {strongest}"


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


def spoken(seen: LayerSeen, channel: int) -> str:
    """The classes that a channel speaks for and against most."""
    column = seen.speaks[:, channel]
    order = np.argsort(-np.abs(column), kind="stable")[:2].tolist()
    return ", ".join(f"{seen.classes[k]} {signed(column[k], '.2f')}" for k in order)


def _rgb(pixels: NDArray[np.uint8]) -> NDArray[np.uint8]:
    return np.repeat(pixels, 3, axis=2) if pixels.shape[2] == 1 else pixels
