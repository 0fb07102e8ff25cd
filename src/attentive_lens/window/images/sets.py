"""How the images are split: three bars for each class, its validation images, and what decides them."""

from __future__ import annotations

from PyQt6.QtCore import QEvent, QPoint, QRectF, QSize, Qt
from PyQt6.QtGui import QFontMetricsF, QHelpEvent, QPainter, QPaintEvent, QPen
from PyQt6.QtWidgets import QScrollArea, QSizePolicy, QToolTip, QWidget

from attentive_lens.desk.images.collection import Collection
from attentive_lens.desk.training.cautions import caution_of_torn_groups
from attentive_lens.errors import LensError
from attentive_lens.images.rows import Pixels
from attentive_lens.plan.split import Split
from attentive_lens.window import look
from attentive_lens.window.images.classes_box import ClassesBox
from attentive_lens.window.parts.basics import horizontal, label, panel, to_image, vertical
from attentive_lens.window.parts.form import Form
from attentive_lens.window.parts.proportions import draw_picture
from attentive_lens.window.session import Session
from attentive_lens.window.words import counted, shortened, thousands

SET, BAR, FIGURE, ROW = 74, 96, 58, 18
HEAD, GAP, BETWEEN = 22, 6, 14
SIDE = 3 * ROW + 8
"""Of a thumbnail, in pixels."""
CLASS = HEAD + SIDE + BETWEEN
"""Height of a class."""
PICTURES = SET + BAR + FIGURE + 16
"""Where the thumbnails begin."""
BARS = (("training", "petrol"), ("validation", "ochre_fill"), ("test", "ink"))

SETTINGS = tuple(name for name in Split.specs() if name != "left_out")
"""Settings in the form; classes are left out one by one beside it."""


class SetBars(QWidget):
    """Three bars a class, on one scale for all, and its validation images: first those that the last change moved."""

    def __init__(self) -> None:
        super().__init__()
        self.setObjectName("set bars")
        self.collection: Collection | None = None
        self.pixels: Pixels | None = None
        self.moved: frozenset[int] = frozenset()
        self._places: list[list[int]] = []
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Fixed)

    def show_sets(self, collection: Collection, pixels: Pixels | None) -> None:
        """Another collection, or the same split otherwise."""
        before = self.collection
        if before is not None and before.sets != collection.sets:
            same = len(before.sets) == len(collection.sets)
            pairs = zip(before.sets, collection.sets, strict=True) if same else ()
            self.moved = frozenset(k for k, (was, now) in enumerate(pairs) if was != now)
        self.collection, self.pixels = collection, pixels
        self._places = [[] for _ in collection.kinds]
        for k, (row, set_name) in enumerate(zip(collection.rows, collection.sets, strict=True)):
            if set_name == "validation":
                for kind in collection.kinds_of(row.label):
                    self._places[kind].append(k)
        for places in self._places:
            places.sort(key=lambda k: (k not in self.moved, k))
        self.setFixedHeight(len(collection.kinds) * CLASS + 4)
        summary = (
            f"{name}: " + ", ".join(f"{s} {collection.count_of_kind(s, k)}" for s, _ in BARS)
            for k, name in enumerate(collection.kinds)
        )
        self.setAccessibleName("; ".join(summary))
        self.update()

    def shown(self, class_number: int) -> list[int]:
        """Places of the validation images of a class for which there is room."""
        return self._places[class_number][: max(0, (self.width() - PICTURES + GAP) // (SIDE + GAP))]

    def sizeHint(self) -> QSize:
        """As high as its classes need."""
        return QSize(500, self.height())

    def paintEvent(self, event: QPaintEvent | None) -> None:
        """Name, then a bar for each set with its figure, and images."""
        if self.collection is None or event is None:
            return
        t = look.theme
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.SmoothPixmapTransform)
        kinds = range(len(self.collection.kinds))
        most = max(1, *(self.collection.count_of_kind(s, k) for k in kinds for s, _ in BARS))
        strong = look.font(look.TEXT, True)
        names = shortened(self.collection.kinds, self.width() - 8, QFontMetricsF(strong).horizontalAdvance)
        middle, right = Qt.AlignmentFlag.AlignVCenter, Qt.AlignmentFlag.AlignRight
        for k, name in enumerate(names):
            top = k * CLASS
            if top > event.rect().bottom() or top + CLASS < event.rect().top():
                continue
            painter.setFont(strong)
            painter.setPen(t.colour("ink"))
            painter.drawText(QRectF(0, top, self.width(), HEAD), middle, name)
            painter.setFont(look.font(look.SMALL))
            for j, (set_name, role) in enumerate(BARS):
                y = top + HEAD + 2 + j * (ROW + 2)
                count = self.collection.count_of_kind(set_name, k)
                painter.setPen(t.colour("faint"))
                painter.drawText(QRectF(0, y, SET, ROW), middle, set_name)
                painter.fillRect(QRectF(SET, y + 4, BAR, 10), t.colour("well"))
                painter.fillRect(QRectF(SET, y + 4, BAR * count / most, 10), t.colour(role))
                painter.setPen(t.colour("ink"))
                painter.drawText(QRectF(SET + BAR, y, FIGURE, ROW), middle | right, thousands(count))
            self._paint_pictures(painter, k, top + HEAD)

    def _box(self, class_number: int, k: int) -> QRectF:
        return QRectF(PICTURES + k * (SIDE + GAP), class_number * CLASS + HEAD, SIDE, SIDE)

    def _paint_pictures(self, painter: QPainter, class_number: int, top: int) -> None:
        t = look.theme
        for k, place in enumerate(self.shown(class_number)):
            box = self._box(class_number, k)
            if self.pixels is None:
                painter.fillRect(box, t.colour("well"))
                continue
            draw_picture(painter, box, to_image(self.pixels[place]))
            if place in self.moved:
                painter.setBrush(Qt.BrushStyle.NoBrush)
                painter.setPen(QPen(t.colour("petrol"), 3))
                painter.drawRect(box.adjusted(1, 1, -1, -1))

    def place_at(self, point: QPoint) -> int | None:
        """Place of the image at a point."""
        class_number = point.y() // CLASS
        if not 0 <= class_number < len(self._places):
            return None
        for k, place in enumerate(self.shown(class_number)):
            if self._box(class_number, k).contains(point.toPointF()):
                return place
        return None

    def event(self, event: QEvent | None) -> bool:
        """A tooltip over each image: its name, and whether it was moved."""
        if isinstance(event, QHelpEvent) and self.collection is not None:
            place = self.place_at(event.pos())
            if place is not None:
                moved = "\nThe last change moved it to the validation set." if place in self.moved else ""
                QToolTip.showText(event.globalPos(), f"{self.collection.rows[place].name}{moved}", self)
            return True
        return super().event(event)


class SetsView(QWidget):
    """The split's settings beside what they do."""

    def __init__(self, session: Session) -> None:
        super().__init__()
        self.session = session
        across = horizontal(self, spacing=16)
        frame, outer = panel("Split", "split panel")
        frame.setFixedWidth(376)
        body = QWidget()
        inside = vertical(body, spacing=8)
        area = QScrollArea()
        area.setWidgetResizable(True)
        area.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        area.setWidget(body)
        outer.addWidget(area)
        self.form = Form(session.design.plan.split, SETTINGS, self._change)
        inside.addWidget(self.form)
        inside.addSpacing(6)
        self.classes = ClassesBox(session)
        inside.addWidget(self.classes)
        self.notes = label(role="faint", name="split notes")
        self.notes.setWordWrap(True)
        inside.addWidget(self.notes)
        self.warning = label(role="warn", name="split warning")
        self.warning.setWordWrap(True)
        inside.addWidget(self.warning)
        inside.addStretch()
        across.addWidget(frame)
        right = vertical(spacing=4)
        self.title = label(size=look.LARGE, strong=True, name="split title")
        right.addWidget(self.title)
        self.moved = label(role="faint", size=look.SMALL, name="moved images")
        self.moved.setWordWrap(True)
        right.addWidget(self.moved)
        self.bars = SetBars()
        scroll = QScrollArea()
        scroll.setWidgetResizable(True)
        scroll.setWidget(self.bars)
        right.addWidget(scroll, 1)
        across.addLayout(right, 1)
        for changed in (session.split_changed, session.images_changed, session.pixels_ready):
            changed.connect(self.refresh)
        self.refresh()

    def _change(self, split: Split) -> None:
        self.session.design.change_split(split)

    def refresh(self) -> None:
        """Show the split as it is."""
        collection = self.session.images.collection
        self.form.show_value(self.session.design.plan.split)
        self.classes.refresh()
        self.bars.show_sets(collection, self.session.images.pixels)
        summary = [f"{thousands(collection.count(name))} {name}" for name, _ in BARS]
        summary += [
            f"{thousands(collection.count(n))} {n}" for n in ("left out", "excluded", "gone") if collection.count(n)
        ]
        self.title.setText(" · ".join(summary))
        moved = self.bars.moved
        here = sum(collection.sets[k] == "validation" for k in moved)
        self.moved.setText(
            f"The last change moved {counted(len(moved), 'image', 'images')} between sets; those that came to the"
            f" validation set ({thousands(here)}) stand first, framed."
            if moved
            else "Beside the bars: validation images. Those that a change moves there will be framed."
        )
        named_sets = {row.given_set for row in self.session.images.library.rows}
        notes = [
            "The source names a test set; it stays as it is."
            if "test" in named_sets
            else "The source names no test set; «test fraction» draws one.",
            self._kept_together(),
            "The same seed gives the same sets, whatever else is added or excluded.",
        ]
        self.notes.setText("\n\n".join(notes))
        empty = [
            name
            for k, name in enumerate(collection.kinds)
            if collection.count_of_kind("training", k) and not collection.count_of_kind("validation", k)
        ]
        short = f"No validation image of {', '.join(empty[:4])}{' …' if len(empty) > 4 else ''}." if empty else ""
        if collection.count("validation") == 0:
            short = "There is no validation set: training cannot tell its best epoch."
        library, plan = self.session.images.library, self.session.design.plan
        short = short or caution_of_torn_groups(library.groups(plan), collection)
        try:
            library.check_groups(plan)
        except LensError as error:
            short = str(error)
        self.warning.setText(short)

    def _kept_together(self) -> str:
        """Which groups go into one set, and what else could be gone by."""
        library, plan = self.session.images.library, self.session.design.plan
        groups = library.groups(plan)
        if not groups:
            columns = ", ".join(library.columns)
            more = f", and columns are {columns}" if columns else ", and «Take in table …» for patients or days"
            return f"No groups are kept together: «Look for faults» offers it for copies{more}."
        by = {"column": f"by {plan.split.group_column}", "name pattern": "by name"}.get(plan.split.keep_together, "")
        images = counted(len(groups), "image", "images")
        many = counted(len(set(groups.values())), "group", "groups")
        return f"{images} of {many} {by or 'noted as copies'} stay together."
