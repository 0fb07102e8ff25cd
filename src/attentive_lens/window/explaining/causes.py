"""Causes: what the mistakes have in common, a row of pictures each, with what can be done about it."""

from __future__ import annotations

from functools import partial

import numpy as np
from PyQt6.QtCore import QPoint, Qt, pyqtSignal
from PyQt6.QtGui import QKeyEvent, QMouseEvent, QResizeEvent
from PyQt6.QtWidgets import (
    QFrame,
    QHBoxLayout,
    QPushButton,
    QScrollArea,
    QSizePolicy,
    QStackedWidget,
    QWidget,
)

from attentive_lens.core.numbering import number_at, place_of
from attentive_lens.desk.requests.causes import Cause, Causes, CausesFound, Remedy
from attentive_lens.desk.requests.explaining import Explanation
from attentive_lens.plan.plan import Plan
from attentive_lens.window import look
from attentive_lens.window.explaining.panel import Panel
from attentive_lens.window.parts.basics import (
    button,
    horizontal,
    label,
    map_colours,
    retire,
    set_role,
    tint_image,
    to_image,
    vertical,
)
from attentive_lens.window.parts.decisions import Decisions
from attentive_lens.window.parts.flow import Flow
from attentive_lens.window.parts.picture import PictureBox, Strip
from attentive_lens.window.parts.pointing import points
from attentive_lens.window.parts.sheet import ContactSheet, Group
from attentive_lens.window.parts.tiles import enlarged, laid_over
from attentive_lens.window.session import Session
from attentive_lens.window.words import percent, thousands

LARGE, PICTURE, MOST = 128, 60, 24
"""Pixels of what the typical map is drawn on, and of a picture; pictures in a row at most."""
EDGES = 44
"""Pixels of a row beside its title."""
LOOKING = "Explaining every mistake …"


class PictureRow(Strip):
    """A group's images, the most typical first.

    Signals
    -------
    opened
        Number of the image that was clicked.
    """

    opened = pyqtSignal(int)

    def __init__(self, name: str, images: tuple[int, ...]) -> None:
        super().__init__(name, PICTURE)
        points(self, lambda at: self.image_at(at) is not None)
        self.images = images
        self.setToolTip("Click an image to explain it.")

    def image_at(self, at: QPoint) -> int | None:
        """The image there."""
        place, inside = divmod(at.x(), self.side + 4)
        columns = max(1, (self.width() + 4) // (self.side + 4))
        return self.images[place] if inside < self.side and place < min(columns, len(self.pictures)) else None

    def mousePressEvent(self, event: QMouseEvent | None) -> None:
        """Open the image."""
        number = self.image_at(event.pos()) if event is not None else None
        if number is not None:
            self.opened.emit(number)


class CauseRow(QFrame):
    """A group: its typical map, size and share, pictures, and remedies.

    Signals
    -------
    chosen
        The row was clicked.
    opened
        Number of an image that is to be explained.
    used
        Place of a remedy that is to be used.
    """

    chosen, opened, used = pyqtSignal(), pyqtSignal(int), pyqtSignal(int)

    def __init__(self, session: Session, number: int, cause: Cause) -> None:
        super().__init__()
        self.cause = cause
        set_role(self, "panel")
        self.setObjectName(f"cause row {number}")
        inside = vertical(self, spacing=4, margins=(8, 6, 8, 8))
        self.words = f"{thousands(len(cause.images))} {cause.short} · {percent(cause.share)} of the mistakes"
        tip = f"{cause.why}. {cause.remedy}."
        self.title = button(self.words, f"cause {number}", tip, self.chosen.emit, True)
        self.title.setSizePolicy(QSizePolicy.Policy.Ignored, QSizePolicy.Policy.Fixed)
        set_role(self.title, "row")
        inside.addWidget(self.title)
        row = horizontal(spacing=4)
        self.typical = PictureBox(f"typical {number}", PICTURE)
        row.addWidget(self.typical, 0, Qt.AlignmentFlag.AlignTop)
        self.pictures = PictureRow(f"cause pictures {number}", cause.images[:MOST])
        self.pictures.opened.connect(self.opened)
        row.addWidget(self.pictures, 1)
        inside.addLayout(row)
        by_count = sorted(cause.predicted.items(), key=lambda pair: -pair[1])
        predicted = ", ".join(f"{name} {count}" for name, count in by_count[:3])
        first = cause.remedies[0] if cause.remedies else None
        forecast = f" · {first.words.lower()}: {_small(first.forecast)}" if first is not None else ""
        words = label(f"said {predicted}{forecast}", "faint", look.SMALL)
        words.setWordWrap(True)
        words.setToolTip(f"{cause.why}.")
        inside.addWidget(words)
        flow = Flow()
        self.remedies: list[QPushButton] = []
        for place, remedy in enumerate(cause.remedies):
            use = button(remedy.words, f"remedy {number} {remedy.kind}", f"{remedy.forecast}.", lambda: None)
            use.clicked.connect(partial(self._use, place))
            flow.addWidget(use)
            self.remedies.append(use)
        inside.addLayout(flow)
        self.draw(session)

    def resizeEvent(self, event: QResizeEvent | None) -> None:
        """A folder's name may be longer than the row."""
        super().resizeEvent(event)
        room = max(60, self.width() - EDGES)
        self.title.setText(self.title.fontMetrics().elidedText(self.words, Qt.TextElideMode.ElideMiddle, room))

    def _use(self, place: int) -> None:
        self.used.emit(place)

    def draw(self, session: Session) -> None:
        """The pictures, and the typical map over the mean of them, in the colours of the theme."""
        pixels = session.images.pixels
        if pixels is None:
            return
        shown = [np.asarray(pixels[place_of(number)]) for number in self.cause.images[:MOST]]
        self.pictures.show_pictures([to_image(each) for each in shown])
        mean = enlarged(to_image((np.mean(shown, axis=0) + 0.5).astype(np.uint8)), LARGE)
        place = self.cause.place
        under = " under their typical map" if place is not None else ""
        self.typical.setToolTip(f"The mean of these images{under}.")
        self.typical.show_image(mean if place is None else laid_over(mean, tint_image(map_colours(place.typical))))


class CausesPanel(Panel):
    """The mistakes in groups, which are looked for when it is opened, and what to do about each."""

    title = "of mistakes"
    tip = "What the mistakes have in common, and what can be done about it"

    def __init__(self, session: Session) -> None:
        super().__init__(session)
        self.groups: tuple[Cause, ...] = ()
        self.current: int | None = None
        self.rows: list[CauseRow] = []
        self._for: tuple[int | None, str] = (None, "")
        outer = vertical(self, spacing=4)
        row = QHBoxLayout()
        self.note = label(role="faint", size=look.SMALL, name="causes note")
        self.note.setWordWrap(True)
        row.addWidget(self.note, 1)
        tip = "Put mistakes that come from the same thing together, and try what can be tried on this model."
        self.ask_button = button("Find common causes", "find causes", tip, self._ask)
        row.addWidget(self.ask_button)
        outer.addLayout(row)
        self.pages = QStackedWidget()
        outer.addWidget(self.pages, 1)
        inside = QWidget()
        self.column = vertical(inside, spacing=6, margins=(0, 0, 4, 0))
        self.column.addStretch()
        scroll = QScrollArea()
        scroll.setWidgetResizable(True)
        scroll.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        scroll.setWidget(inside)
        self.pages.addWidget(scroll)
        self.pages.addWidget(self._make_decisions())
        self._show(())
        session.worked.connect(self._show_progress)

    def _make_decisions(self) -> QWidget:
        """The images of a group, decided about one by one."""
        page = QWidget()
        inside = vertical(page, spacing=4)
        self.sheet = ContactSheet("cause sheet", 72)
        self.sheet.opened.connect(lambda place: self.opened.emit(number_at(place)))
        self.sheet.selected.connect(lambda _: self._select())
        inside.addWidget(self.sheet, 1)
        row = QHBoxLayout()
        self.decisions = Decisions(self.session, 4, " of cause")
        row.addWidget(self.decisions)
        row.addStretch()
        row.addWidget(button("All causes", "all causes", "Back to the groups.", lambda: self.pages.setCurrentIndex(0)))
        inside.addLayout(row)
        return page

    def show_explanation(self, explanation: Explanation) -> None:
        """Of another run or set the groups are forgotten and looked for anew; the image does not matter."""
        self.explanation = explanation
        self.check()
        if self.isVisible() and not self.groups:
            self._ask()

    def check(self) -> None:
        """Forget groups of another run or set."""
        if self._for != (self.session.runs.in_view, self.session.scores.on):
            self.forget()

    def forget(self) -> None:
        """What was found is of other images, or of another run or set."""
        self._for = (self.session.runs.in_view, self.session.scores.on)
        self._awaited = {}
        self._show(())

    def _ask(self) -> None:
        self.check()
        run = self.session.runs.in_view
        if run is None:
            return
        request = Causes(self.session.place, run, self.session.scores.on)
        if not self.awaits(request, "causes"):
            self.ask_button.hide()
            self.note.setText(LOOKING)
            self.ask(request, self._take, self._failed, priority=6, scope="causes")

    def _show_progress(self, doing: str, done: int, total: int) -> None:
        """How far they are."""
        if total and self.note.text().startswith(LOOKING) and self.isVisible():
            self.note.setText(f"{LOOKING} {doing}: {thousands(done)} of {thousands(total)}")

    def _take(self, causes: CausesFound) -> None:
        self._show(causes.groups)

    def _failed(self, sentence: str) -> None:
        self.ask_button.show()
        self.note.setText(sentence)

    def _show(self, groups: tuple[Cause, ...]) -> None:
        self.groups, self.current = groups, None
        for row in self.rows:
            retire(row)
        self.rows = []
        for number, group in enumerate(groups):
            row = CauseRow(self.session, number, group)
            row.chosen.connect(partial(self.choose, number))
            row.opened.connect(partial(self._open, number))
            row.used.connect(partial(self.use, number))
            self.column.insertWidget(number, row)
            self.rows.append(row)
        self.pages.setCurrentIndex(0)
        self.ask_button.hide()
        many = thousands(sum(len(group.images) for group in groups))
        self.note.setText(
            f"{many} mistakes on {self.session.scores.on} in {len(groups)} groups: choose one to walk through it."
            " Training, «What to do next», tries their plans."
            if groups
            else f"What do the mistakes on {self.session.scores.on} share? Each group is tried on the model as it is."
        )

    def restyled(self) -> None:
        """The maps in the colours of the theme."""
        for row in self.rows:
            row.draw(self.session)

    def choose(self, number: int) -> None:
        """Walk through a group, or no longer."""
        self.current = None if self.current == number else number
        for k, row in enumerate(self.rows):
            row.title.setChecked(k == self.current)
        if self.current is None:
            self.note.setText("Choose a group to walk through it.")
            self.walked.emit([])
            return
        group = self.groups[number]
        self.note.setText(f"{group.why}. {group.remedy}.")
        self.walked.emit(list(group.images))

    def _open(self, number: int, image: int) -> None:
        """An image of a group: the group is walked through from there."""
        if self.current != number:
            self.choose(number)
        self.opened.emit(image)

    def use(self, number: int, place: int) -> None:
        """Use a remedy: bring its plan to the Training stage, relabel, or show the images to be decided about."""
        group, remedy = self.groups[number], self.groups[number].remedies[place]
        if self.session.reading_only and remedy.kind in ("merge", "decide"):
            self.session.message.emit("This workspace can only be read: nothing can be decided in it.", True)
            return
        if remedy.kind == "decide":
            captions = self._captions(group)
            places = tuple(place_of(image) for image in group.images)
            self.sheet.show_groups(self.session.images.pixels, (Group(group.short, "", places, captions),))
            self.pages.setCurrentIndex(1)
            self._select()
            return
        self.remedied.emit(remedy.words, list(group.images))
        self._carry_out(remedy)

    def _carry_out(self, remedy: Remedy) -> None:
        collection = self.session.images.collection
        if remedy.plan is not None:
            words = f"{remedy.words[0].lower()}{remedy.words[1:]}"
            self.session.design.change(Plan.read(remedy.plan), words)
            self.session.message.emit(f"In the next run's plan: {words}. Start training to try it.", False)
            self.session.stage_asked.emit("training")
        elif remedy.merges is not None:
            gone, stored = remedy.merges
            label_ = collection.classes.index(gone)
            numbers = [row.number for row in collection.rows if row.label == label_]
            summary = f"made {gone} part of {stored}: relabelled {thousands(len(numbers))} images"
            self.session.images.relabel(summary, numbers, collection.classes.index(stored))
        else:
            self.note.setText(f"{remedy.forecast}. It stands with the cases of these images.")

    def _captions(self, group: Cause) -> tuple[str, ...]:
        collection = self.session.images.collection
        return tuple(collection.classes[collection.rows[place_of(image)].label] for image in group.images)

    def _select(self) -> None:
        self.decisions.show_images(tuple(sorted(self.sheet.selection)))

    def keyPressEvent(self, event: QKeyEvent | None) -> None:
        """The keys that stand on the buttons of decisions; Escape goes back to the groups."""
        if event is None:
            return
        if self.pages.currentIndex() and event.key() == Qt.Key.Key_Escape:
            self.pages.setCurrentIndex(0)
        elif not (self.pages.currentIndex() and self.decisions.take_key(event)):
            super().keyPressEvent(event)


def _small(sentence: str) -> str:
    """A sentence that goes on after a colon."""
    return sentence[:1].lower() + sentence[1:]
