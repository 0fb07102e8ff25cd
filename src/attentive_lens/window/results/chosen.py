"""The images behind a figure: all in a sheet or one by one, and what can be decided about them."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import dataclass
from functools import partial

from PyQt6.QtCore import Qt, pyqtSignal
from PyQt6.QtGui import QKeyEvent
from PyQt6.QtWidgets import QHBoxLayout, QStackedWidget, QWidget

from attentive_lens.core.numbering import place_of
from attentive_lens.scoring.answers import Answer
from attentive_lens.window import look
from attentive_lens.window.parts.basics import button, label, vertical, view_button
from attentive_lens.window.parts.decisions import Decisions
from attentive_lens.window.parts.sheet import ContactSheet, Group
from attentive_lens.window.results.one_by_one import OneByOne
from attentive_lens.window.session import Session

SIDE = 78
"""Pixels of a picture: four stand side by side."""


@dataclass(frozen=True)
class Part:
    """Answers under a heading, with what stands under each picture; images that were not all asked have numbers."""

    heading: str
    answers: tuple[Answer, ...]
    captions: tuple[str, ...] = ()
    numbers: tuple[int, ...] = ()

    @property
    def places(self) -> tuple[int, ...]:
        """Of its images."""
        return tuple(place_of(number) for number in self.numbers or (answer.image for answer in self.answers))

    @classmethod
    def by_confidence(cls, heading: str, answers: Iterable[Answer], others: Sequence[str] | None = None) -> Part:
        """The surest first, with how sure; and with the class said where ``others`` names the classes."""
        order = sorted(answers, key=lambda a: (-a.probability, a.image))
        return cls(heading, tuple(order), tuple(caption(a, others) for a in order))


def caption(answer: Answer, names: Sequence[str] | None = None) -> str:
    """How sure an answer was, where that is known, and the class said if the classes are named.

    Of two classes the one said is plain from the heading, and «not spiny» would not stand below a picture.
    """
    sure = f"{answer.probability:.2f}" if answer.probability == answer.probability else ""
    return sure if names is None or (len(names) == 2 and sure) else f"{sure} {names[answer.predicted]}".strip()


class ChosenImages(QWidget):
    """A sheet with a title, the same images one by one, and the buttons that decide about those selected.

    Signals
    -------
    opened
        Place of an image that is to be explained.
    changed
        Another image is at hand.
    all_wrong_asked
        Every wrong image is to be shown.
    """

    opened = pyqtSignal(int)
    changed = pyqtSignal()
    all_wrong_asked = pyqtSignal()

    def __init__(self, session: Session) -> None:
        super().__init__()
        self.session = session
        self.parts: tuple[Part, ...] = ()
        self.names: tuple[str, ...] = ()
        layout = vertical(self, spacing=8)
        self.title = label(size=look.LARGE, strong=True, name="cell title")
        self.title.setWordWrap(True)
        layout.addWidget(self.title)
        head = QHBoxLayout()
        tips = {"Sheet": "All of them.", "One by one": "One at a time, with the answers of all classes (Space)."}
        self.ways = {}
        for place, (words, tip) in enumerate(tips.items()):
            self.ways[words] = view_button(words, words.lower() + " of images", tip, partial(self.open_way, place))
            head.addWidget(self.ways[words])
        head.addStretch()
        request = self.all_wrong_asked.emit
        self.all_wrong = button("All wrong ones", "all wrong", "Show every wrong image, by true class.", request)
        head.addWidget(self.all_wrong)
        self.head = head
        layout.addLayout(head)
        self.sheet = ContactSheet("cell images", SIDE)
        self.sheet.opened.connect(self.opened)
        self.sheet.selected.connect(self._selected)
        self.steps = OneByOne(session)
        self.steps.opened.connect(self.opened)
        self.steps.moved.connect(self.sheet.select)
        self.shown = QStackedWidget()
        self.shown.addWidget(self.sheet)
        self.shown.addWidget(self.steps)
        layout.addWidget(self.shown, 1)
        tip = "Enter or a double click explains an image. The figure under it: how sure the answer was."
        self.sheet.setToolTip(tip)
        self.decisions = Decisions(session, 4, " of chosen")
        layout.addWidget(self.decisions)
        self.ways["Sheet"].setChecked(True)

    @property
    def current(self) -> int | None:
        """Place of the image at hand."""
        return self.sheet.current

    def open_way(self, place: int) -> None:
        """The sheet, or one image at a time."""
        self.shown.setCurrentIndex(place)
        for k, each in enumerate(self.ways.values()):
            each.setChecked(k == place)
        if place:
            self._show_steps()
            self.steps.setFocus()
        else:
            self.sheet.setFocus()

    def show_parts(self, title: str, parts: Sequence[Part], names: Sequence[str], select_all: bool = False) -> None:
        """Other images; ``names`` of the classes by number. All are selected if so wanted."""
        self.title.setText(title)
        self.parts, self.names = tuple(parts), tuple(names)
        answered = all(answer.predicted >= 0 for part in parts for answer in part.answers)
        for each in self.ways.values():
            each.setVisible(answered)
        if not answered and self.shown.currentIndex():
            self.open_way(0)
        groups = tuple(Group(p.heading, "", p.places, p.captions) for p in parts)
        self.sheet.show_groups(self.session.images.pixels, groups)
        if select_all:
            self.sheet.select_all()
        self._selected()
        if self.shown.currentIndex():
            self._show_steps()

    def _show_steps(self) -> None:
        every = [answer for part in self.parts for answer in part.answers]
        self.steps.show_answers(every, self.names, self.sheet.current)

    def _selected(self) -> None:
        sheet = self.sheet
        chosen = tuple(sorted(sheet.selection)) or ((sheet.current,) if sheet.current is not None else ())
        self.decisions.show_images(chosen)
        self.changed.emit()

    def keyPressEvent(self, event: QKeyEvent | None) -> None:
        """Space changes between sheet and one by one; the keys on the buttons decide."""
        if event is not None and event.key() == Qt.Key.Key_Space:
            self.open_way(1 - self.shown.currentIndex())
        elif event is not None and not self.decisions.take_key(event):
            super().keyPressEvent(event)
