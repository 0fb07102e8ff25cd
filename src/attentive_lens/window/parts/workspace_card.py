"""A workspace on the first page: some of its images, its size, its best score, and what goes on in it."""

from __future__ import annotations

from pathlib import Path

from PyQt6.QtCore import QRectF, QSize, Qt
from PyQt6.QtGui import QEnterEvent, QFontMetrics, QPainter, QPaintEvent, QPen
from PyQt6.QtWidgets import QAbstractButton

from attentive_lens.desk.cards import PICTURES, Card
from attentive_lens.window import look
from attentive_lens.window.parts.basics import to_image
from attentive_lens.window.words import counted, percent, thousands

WIDTH, HEIGHT, MARGIN, GAP = 316, 148, 12, 6
SIDE = (WIDTH - 2 * MARGIN - (PICTURES - 1) * GAP) // PICTURES


class WorkspaceCard(QAbstractButton):
    """Opens its workspace."""

    def __init__(self, card: Card) -> None:
        super().__init__()
        self.card = card
        self.setObjectName(f"recent {card.folder.name}")
        self.setAccessibleName("; ".join([card.name, *self._facts()]))
        self.setToolTip(card.error or str(card.folder))
        self.setFixedSize(WIDTH, HEIGHT)
        self.setCursor(Qt.CursorShape.PointingHandCursor)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)

    def sizeHint(self) -> QSize:
        """One size for all."""
        return QSize(WIDTH, HEIGHT)

    def enterEvent(self, event: QEnterEvent | None) -> None:
        """Its edge shows that it can be clicked."""
        super().enterEvent(event)
        self.update()

    def _facts(self) -> list[str]:
        """Its size, and what its runs came to."""
        card = self.card
        if card.error:
            return ["It cannot be read.", "Open it to see why."]
        kinds = counted(card.labels, "label", "labels") if card.labels else counted(card.classes, "class", "classes")
        size = f"{thousands(card.images)} images of {kinds}"
        if not card.runs:
            return [size, "no run yet"]
        best = f" · best {percent(card.best)} on validation images" if card.best is not None else ""
        return [size, f"{counted(card.runs, 'run', 'runs')}{best}"]

    def paintEvent(self, event: QPaintEvent | None) -> None:
        """A sheet with its name, images and figures."""
        t, card = look.theme, self.card
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        live = self.underMouse() or self.hasFocus() or self.isDown()
        painter.setBrush(t.colour("sheet"))
        painter.setPen(QPen(t.colour("petrol" if live else "line"), 1))
        painter.drawRoundedRect(QRectF(self.rect()).adjusted(0.5, 0.5, -0.5, -0.5), look.RADIUS, look.RADIUS)
        wide = WIDTH - 2 * MARGIN
        now = "training" if card.training else "open" if card.open else ""
        painter.setFont(look.font(look.SMALL, True))
        painter.setPen(t.colour("petrol"))
        middle = Qt.AlignmentFlag.AlignVCenter
        painter.drawText(QRectF(MARGIN, 9, wide, 20), middle | Qt.AlignmentFlag.AlignRight, now)
        room = wide - (QFontMetrics(painter.font()).horizontalAdvance(now) + 10 if now else 0)
        self._write(painter, card.name, 9, look.LARGE, "ink", room, True)
        self._write(painter, _short_path(card.folder.parent), 29, look.SMALL, "faint", wide, False)
        top = 54
        for k in range(PICTURES):
            box = QRectF(MARGIN + k * (SIDE + GAP), top, SIDE, SIDE - 10)
            if k >= len(card.pictures):
                painter.fillRect(box, t.colour("well"))
                continue
            picture = to_image(card.pictures[k])
            cut = picture.height() * 5 / SIDE
            painter.setRenderHint(QPainter.RenderHint.SmoothPixmapTransform)
            painter.drawImage(box, picture, QRectF(0, cut, picture.width(), picture.height() - 2 * cut))
        for k, words in enumerate(self._facts()):
            role = "vermilion" if card.error else "ink" if k == 0 else "faint"
            self._write(painter, words, top + SIDE - 6 + 17 * k, look.SMALL, role, wide, False)

    @staticmethod
    def _write(painter: QPainter, words: str, top: float, size: int, role: str, wide: int, strong: bool) -> None:
        painter.setFont(look.font(size, strong))
        painter.setPen(look.theme.colour(role))
        words = painter.fontMetrics().elidedText(words, Qt.TextElideMode.ElideMiddle, wide)
        painter.drawText(QRectF(MARGIN, top, wide, 20), Qt.AlignmentFlag.AlignVCenter, words)


def _short_path(folder: Path) -> str:
    """A folder, the user's own as ~."""
    home = Path.home()
    return str(Path("~") / folder.relative_to(home)) if folder.is_relative_to(home) else str(folder)
