"""What a class has in common: its mean image, how far its images are from it, and some of them."""

from __future__ import annotations

import numpy as np
from PyQt6.QtCore import QRectF, QSize, Qt
from PyQt6.QtGui import QFontMetrics, QPainter, QPaintEvent
from PyQt6.QtWidgets import QScrollArea, QSizePolicy, QWidget

from attentive_lens.desk.requests.images import Averages, ClassAverages
from attentive_lens.images.pixel_format import PixelArray
from attentive_lens.window import look
from attentive_lens.window.parts.basics import label, to_image, vertical
from attentive_lens.window.parts.proportions import draw_picture
from attentive_lens.window.session import Session
from attentive_lens.window.words import shortened, thousands

NAME, SIDE, GAP, HEAD = 150, 88, 8, 26


class ClassRows(QWidget):
    """A row a class: mean, deviation, and training images as far as there is room."""

    def __init__(self, session: Session) -> None:
        super().__init__()
        self.setObjectName("class averages")
        self.setAccessibleName("mean image and deviation of each class")
        self.session = session
        self.mean: PixelArray | None = None
        self.deviation: PixelArray | None = None
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Fixed)

    def show_averages(self, mean: PixelArray, deviation: PixelArray) -> None:
        """K×H×W×3 uint8 each."""
        self.mean, self.deviation = mean, deviation
        self.setFixedHeight(HEAD + len(mean) * (SIDE + GAP))
        self.update()

    def sizeHint(self) -> QSize:
        """As high as its classes need."""
        return QSize(600, self.height())

    def paintEvent(self, event: QPaintEvent | None) -> None:
        """Rows in sight."""
        if self.mean is None or self.deviation is None or event is None:
            return
        t, collection = look.theme, self.session.images.collection
        painter = QPainter(self)
        painter.setFont(look.font(look.SMALL))
        painter.setPen(t.colour("faint"))
        for k, word in enumerate(("mean", "deviation", "some of them")):
            painter.drawText(NAME + k * (SIDE + GAP), 14, word)
        shown = max(0, (self.width() - NAME) // (SIDE + GAP) - 2)
        metrics = QFontMetrics(look.font(look.TEXT, True))
        names = shortened(collection.kinds, NAME - 12, metrics.horizontalAdvance)
        for label_ in range(len(collection.kinds)):
            top = HEAD + label_ * (SIDE + GAP)
            if top > event.rect().bottom() or top + SIDE < event.rect().top():
                continue
            painter.setFont(look.font(look.TEXT, True))
            painter.setPen(t.colour("ink"))
            painter.drawText(QRectF(0, top, NAME, 20), Qt.AlignmentFlag.AlignVCenter, names[label_])
            painter.setFont(look.font(look.SMALL))
            painter.setPen(t.colour("faint"))
            count = f"{thousands(collection.count_of_kind('training', label_))} training images"
            painter.drawText(QRectF(0, top + 20, NAME, 18), Qt.AlignmentFlag.AlignVCenter, count)
            pictures = [self.mean[label_], self.deviation[label_], *self._some(label_, shown)]
            for k, picture in enumerate(pictures):
                draw_picture(painter, QRectF(NAME + k * (SIDE + GAP), top, SIDE, SIDE), to_image(picture))

    def _some(self, label_: int, count: int) -> list[PixelArray]:
        if self.session.images.pixels is None:
            return []
        collection = self.session.images.collection
        members = [k for k in np.flatnonzero(collection.of_kind(label_)).tolist() if collection.sets[k] == "training"]
        return [self.session.images.pixels[k] for k in members[:: max(1, len(members) // max(1, count))][:count]]


class AveragesView(QWidget):
    """The rows of all classes."""

    def __init__(self, session: Session) -> None:
        super().__init__()
        self.session = session
        down = vertical(self, spacing=8)
        down.addWidget(label("What the training images of a class have in common", size=look.LARGE, strong=True))
        hint = label(
            "A sharp spot in a mean, or a dark one in a deviation, lies in the same place in most images: a mark,"
            " perhaps. Deviations are shown twice as strong.",
            "faint",
        )
        hint.setWordWrap(True)
        down.addWidget(hint)
        self.rows = ClassRows(session)
        scroll = QScrollArea()
        scroll.setWidgetResizable(True)
        scroll.setWidget(self.rows)
        down.addWidget(scroll, 1)
        session.images_changed.connect(self._changed)

    def _changed(self) -> None:
        if self.isVisible():
            self.refresh()

    def refresh(self) -> None:
        """Have the classes averaged."""
        self.session.ask(ClassAverages(self.session.place), self._take, priority=2, scope="class averages")

    def _take(self, averages: Averages) -> None:
        self.rows.show_averages(averages.mean, averages.std)
