"""Which colour is which class, in lines that wrap."""

from __future__ import annotations

from PyQt6.QtCore import QRectF, QSize, Qt
from PyQt6.QtGui import QColor, QFontMetricsF, QPainter, QPaintEvent, QResizeEvent
from PyQt6.QtWidgets import QSizePolicy, QWidget

from attentive_lens.desk.map_colours import CLASS_COLOURS, class_colour
from attentive_lens.window import look
from attentive_lens.window.words import shortened

LINE, MARK, GAP = 20, 10, 18


class ClassKey(QWidget):
    """A mark and a name a class; of more classes than colours, none: hovering tells them."""

    def __init__(self) -> None:
        super().__init__()
        self.setObjectName("class key")
        self.setAccessibleName("colours of the classes")
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Fixed)
        self.names: tuple[str, ...] = ()
        self.show_classes(())

    def show_classes(self, names: tuple[str, ...]) -> None:
        """Others."""
        self.names = names if len(names) <= len(CLASS_COLOURS) else ()
        self._fit()
        self.update()

    def _places(self) -> list[QRectF]:
        """Where each class stands."""
        metrics, x, y = QFontMetricsF(look.font(look.SMALL)), 0.0, 0.0
        places = []
        for name in self.names:
            wide = min(float(self.width()), MARK + 6 + metrics.horizontalAdvance(name) + GAP)
            if x and x + wide - GAP > self.width():
                x, y = 0.0, y + LINE
            places.append(QRectF(x, y, wide, LINE))
            x += wide
        return places

    def _fit(self) -> None:
        places = self._places()
        self.setFixedHeight(int(places[-1].bottom()) if places else 0)

    def resizeEvent(self, event: QResizeEvent | None) -> None:
        """Wrap anew."""
        self._fit()

    def sizeHint(self) -> QSize:
        """Its lines."""
        return QSize(200, self.height())

    def paintEvent(self, event: QPaintEvent | None) -> None:
        """Mark and name."""
        painter = QPainter(self)
        painter.setFont(look.font(look.SMALL))
        for number, (name, place) in enumerate(zip(self.names, self._places(), strict=True)):
            colour = QColor(class_colour(number))
            colour = colour.lighter(135) if look.theme is look.DARK else colour
            painter.fillRect(QRectF(place.left(), place.top() + (LINE - MARK) / 2, MARK, MARK), colour)
            painter.setPen(look.theme.colour("ink"))
            room = place.adjusted(MARK + 6, 0, -GAP, 0)
            measure = painter.fontMetrics().horizontalAdvance
            words = shortened([name], int(room.width()) + 2, measure, self.names)[0]
            painter.drawText(room.adjusted(0, 0, GAP, 0), Qt.AlignmentFlag.AlignVCenter, words)
