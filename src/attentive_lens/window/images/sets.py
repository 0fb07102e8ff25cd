"""How the images are split: three bars for each class, and what decides them."""

from __future__ import annotations

from PyQt6.QtCore import QRectF, QSize, Qt
from PyQt6.QtGui import QPainter, QPaintEvent
from PyQt6.QtWidgets import QHBoxLayout, QScrollArea, QSizePolicy, QVBoxLayout, QWidget

from attentive_lens.desk.collection import Collection
from attentive_lens.plan.split import Split
from attentive_lens.window import look
from attentive_lens.window.parts.basics import label, panel
from attentive_lens.window.parts.form import Form
from attentive_lens.window.session import Session
from attentive_lens.window.words import thousands

NAME, FIGURE, ROW = 190, 64, 20
BARS = (("training", "petrol"), ("validation", "ochre_fill"), ("test", "ink"))


class SetBars(QWidget):
    """Three bars a class, on one scale for all."""

    def __init__(self) -> None:
        super().__init__()
        self.setObjectName("set bars")
        self.found: Collection | None = None
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Fixed)

    def show_sets(self, found: Collection) -> None:
        """Another collection, or the same split otherwise."""
        self.found = found
        self.setFixedHeight(len(found.classes) * (3 * ROW + 14) + 4)
        told = (
            f"{name}: " + ", ".join(f"{s} {found.count(s, k)}" for s, _ in BARS) for k, name in enumerate(found.classes)
        )
        self.setAccessibleName("; ".join(told))
        self.update()

    def sizeHint(self) -> QSize:
        """As high as its classes need."""
        return QSize(500, self.height())

    def paintEvent(self, event: QPaintEvent | None) -> None:
        """Name, then a bar for each set with its figure."""
        if self.found is None or event is None:
            return
        t = look.theme
        painter = QPainter(self)
        wide = self.width() - NAME - FIGURE - 90
        most = max(1, *(self.found.count(s, k) for k in range(len(self.found.classes)) for s, _ in BARS))
        for k, name in enumerate(self.found.classes):
            top = k * (3 * ROW + 14)
            if top > event.rect().bottom() or top + 3 * ROW < event.rect().top():
                continue
            painter.setFont(look.font(look.TEXT, True))
            painter.setPen(t.colour("ink"))
            words = painter.fontMetrics().elidedText(name, Qt.TextElideMode.ElideMiddle, NAME - 12)
            painter.drawText(QRectF(0, top, NAME, ROW), Qt.AlignmentFlag.AlignVCenter, words)
            painter.setFont(look.font(look.SMALL))
            for j, (set_name, role) in enumerate(BARS):
                y = top + j * ROW
                count = self.found.count(set_name, k)
                painter.setPen(t.colour("faint"))
                painter.drawText(QRectF(NAME, y, 84, ROW), Qt.AlignmentFlag.AlignVCenter, set_name)
                groove = QRectF(NAME + 86, y + 5, wide, 10)
                painter.fillRect(groove, t.colour("well"))
                painter.fillRect(QRectF(groove.left(), groove.top(), wide * count / most, 10), t.colour(role))
                painter.setPen(t.colour("ink"))
                right = QRectF(self.width() - FIGURE, y, FIGURE - 8, ROW)
                painter.drawText(right, Qt.AlignmentFlag.AlignVCenter | Qt.AlignmentFlag.AlignRight, thousands(count))


class SetsView(QWidget):
    """The split's settings beside what they do."""

    def __init__(self, session: Session) -> None:
        super().__init__()
        self.session = session
        across = QHBoxLayout(self)
        across.setContentsMargins(0, 0, 0, 0)
        across.setSpacing(16)
        frame, inside = panel("Split", "split panel")
        frame.setFixedWidth(420)
        self.form = Form(session.design.plan.split, tuple(Split.specs()), self._change)
        inside.addWidget(self.form)
        self.notes = label(role="faint", name="split notes")
        self.notes.setWordWrap(True)
        inside.addWidget(self.notes)
        self.warning = label(role="warn", name="split warning")
        self.warning.setWordWrap(True)
        inside.addWidget(self.warning)
        inside.addStretch()
        across.addWidget(frame)
        right = QVBoxLayout()
        self.title = label(size=look.LARGE, strong=True, name="split title")
        right.addWidget(self.title)
        self.bars = SetBars()
        scroll = QScrollArea()
        scroll.setWidgetResizable(True)
        scroll.setWidget(self.bars)
        right.addWidget(scroll, 1)
        across.addLayout(right, 1)
        for changed in (session.plan_changed, session.images_changed):
            changed.connect(self.refresh)
        self.refresh()

    def _change(self, split: Split) -> None:
        self.session.design.change_split(split)

    def refresh(self) -> None:
        """Show the split as it is."""
        found = self.session.images.collection
        self.form.show_value(self.session.design.plan.split)
        self.bars.show_sets(found)
        told = [f"{thousands(found.count(name))} {name}" for name, _ in BARS]
        told += [f"{thousands(found.count(n))} {n}" for n in ("left out", "excluded", "gone") if found.count(n)]
        self.title.setText(" · ".join(told))
        given = {row.given_set for row in self.session.images.library.rows}
        copies = len(self.session.images.library.copies)
        notes = [
            "The source names a test set; it stays as it is."
            if "test" in given
            else "The source names no test set; «test fraction» draws one.",
            f"{copies} images are known to be copies and stay together."
            if copies
            else "No copies are known yet: «Look for faults» finds them.",
            "The same seed deals the same images whatever else is added or excluded.",
        ]
        self.notes.setText("\n\n".join(notes))
        empty = [name for k, name in enumerate(found.classes) if found.count("validation", k) == 0 < found.totals[k]]
        short = f"No validation image of {', '.join(empty[:4])}{' …' if len(empty) > 4 else ''}." if empty else ""
        if found.count("validation") == 0:
            short = "There is no validation set: training cannot tell its best epoch."
        self.warning.setText(short)
