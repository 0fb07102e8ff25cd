"""How a measure is spread over the images, with two handles that keep those between them."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray
from PyQt6.QtCore import QRectF, pyqtSignal
from PyQt6.QtGui import QPainter, QPaintEvent
from PyQt6.QtWidgets import QWidget

from attentive_lens.desk.images.browsing import MEASURES, histogram
from attentive_lens.window import look
from attentive_lens.window.parts.basics import chooser, retire, vertical
from attentive_lens.window.parts.range import FIGURE, RangeSlider

HEIGHT = 56
MEANINGS = {
    "pixels": "Shorter side of the file, in pixels.",
    "brightness": "Mean brightness, 0 black to 1 white.",
    "contrast": "Deviation of brightness within the image, 0 to 0.5.",
    "sharpness": "Detail one to two pixels wide at the input size, as a part of the contrast.",
}


class _Histogram(QWidget):
    def __init__(self) -> None:
        super().__init__()
        self.setObjectName("histogram")
        self.setFixedHeight(HEIGHT)
        self.counts: NDArray[np.int64] = np.zeros(1, np.int64)
        self.chosen_range = (0.0, 1.0)

    def show_counts(self, counts: NDArray[np.int64], chosen_range: tuple[float, float]) -> None:
        """Bars; ``chosen_range`` is the part between the handles, 0–1 of the width."""
        self.counts, self.chosen_range = counts, chosen_range
        self.setAccessibleName(f"distribution of {int(counts.sum())} images")
        self.update()

    def paintEvent(self, event: QPaintEvent | None) -> None:
        """Bars on the slider's track; those outside the handles are faint."""
        t = look.theme
        painter = QPainter(self)
        wide = (self.width() - 2 * FIGURE) / len(self.counts)
        most = max(1, int(self.counts.max()))
        for k, count in enumerate(self.counts.tolist()):
            high = (self.height() - 2) * (count / most) ** 0.5
            middle = (k + 0.5) / len(self.counts)
            inside = self.chosen_range[0] <= middle <= self.chosen_range[1]
            box = QRectF(FIGURE + k * wide, self.height() - high, max(1.0, wide - 1), high)
            painter.fillRect(box, t.colour("petrol" if inside else "line"))
        painter.fillRect(QRectF(FIGURE, self.height() - 1, self.width() - 2 * FIGURE, 1), t.colour("line"))


class Distribution(QWidget):
    """A measure to choose, its distribution (square-root scale), and the range to keep.

    Signals
    -------
    changed
        The range was moved, or another measure chosen.
    """

    changed = pyqtSignal()

    def __init__(self) -> None:
        super().__init__()
        self.layout_ = vertical(self, spacing=2)
        self.chooser = chooser("measure", "measure", items=MEASURES)
        self.chooser.setCurrentText("brightness")
        self.chooser.textActivated.connect(lambda _: self._choose())
        self.bars = _Histogram()
        self.slider = RangeSlider("measure range", 0, 1, (0, 1))
        self.layout_.addWidget(self.chooser)
        self.layout_.addSpacing(6)
        self.layout_.addWidget(self.bars)
        self.layout_.addWidget(self.slider)
        self.measures: dict[str, NDArray[np.float32]] = {}

    @property
    def within(self) -> dict[str, tuple[float, float]]:
        """The range to keep, by measure; empty if it keeps everything."""
        low, high = self.slider.values
        name = self.chooser.currentText()
        if name not in self.measures or (low <= self.slider.low and high >= self.slider.high):
            return {}
        return {name: (low, high)}

    def clear(self) -> None:
        """Keep everything again."""
        self._fill()

    def show_measures(self, measures: dict[str, NDArray[np.float32]]) -> None:
        """Others; the range starts anew."""
        self.measures = measures
        self._fill()

    def _choose(self) -> None:
        self._fill()
        self.changed.emit()

    def _fill(self) -> None:
        name = self.chooser.currentText()
        self.chooser.setToolTip(MEANINGS[name])
        counts, low, high = histogram(self.measures.get(name, np.zeros(0, np.float32)))
        self.layout_.removeWidget(self.slider)
        retire(self.slider)
        self.slider = RangeSlider("measure range", low, high, (low, high))
        self.slider.setAccessibleName(f"range of {name}")
        self.slider.setToolTip(f"{MEANINGS[name]} Only images between the handles are shown.")
        self.slider.setEnabled(name in self.measures)
        self.slider.moved.connect(lambda: self._moved(counts))
        self.layout_.addWidget(self.slider)
        self.bars.show_counts(counts, (0.0, 1.0))

    def _moved(self, counts: NDArray[np.int64]) -> None:
        span = self.slider.high - self.slider.low
        low, high = ((value - self.slider.low) / span for value in self.slider.values)
        self.bars.show_counts(counts, (low, high))
        self.changed.emit()
