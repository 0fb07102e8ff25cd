"""Browsing: filters above, classes and faults at the left, the sheet or the table, the image at hand at the right."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray
from PyQt6.QtCore import Qt, pyqtSignal
from PyQt6.QtGui import QKeyEvent, QResizeEvent, QShowEvent
from PyQt6.QtWidgets import QLineEdit, QScrollArea, QStackedWidget, QVBoxLayout, QWidget

from attentive_lens.desk.images.browsing import Shown, Wanted, browse
from attentive_lens.desk.training.cautions import classes_by_folder, small_classes
from attentive_lens.window import look
from attentive_lens.window.images.details import Details
from attentive_lens.window.images.distribution import Distribution
from attentive_lens.window.images.filters import FilterBar
from attentive_lens.window.images.findings import Findings, Remedy
from attentive_lens.window.images.table import ImageTable
from attentive_lens.window.parts.bars import ROW, Bar, Bars
from attentive_lens.window.parts.basics import label, panel, vertical
from attentive_lens.window.parts.jump import JumpField
from attentive_lens.window.parts.sheet import ContactSheet, Group
from attentive_lens.window.parts.stage_layout import StageLayout
from attentive_lens.window.session import Session
from attentive_lens.window.words import thousands
from attentive_lens.workspace.corrections import EXCLUDED, GONE

SIDE, LEAST = 240, 236
"""Pixels of the list, and of the image at hand at least."""
MANY, AT_ONCE = 10, 6
"""Classes from which they are found by typing, and those that are seen without scrolling."""
TALL = 560
"""Pixels of the whole from which there is room for them."""


class Browser(QWidget):
    """The collection to look through and decide about.

    Signals
    -------
    opened
        Place of the image to show in full size.
    """

    opened = pyqtSignal(int)

    def __init__(self, session: Session) -> None:
        super().__init__()
        self.session = session
        self.label: int | None = None
        self.shown: list[Shown] = []
        self.listed: list[int] = []
        whole = vertical(self, spacing=10)
        self.jump = JumpField(session, self)
        self.jump.chosen.connect(self.go_to)
        self.filters = FilterBar(self.jump)
        self.filters.changed.connect(self.refresh)
        whole.addWidget(self.filters)
        self.details = Details(session)
        self.details.opened.connect(self._open_current)
        list_, hero = QWidget(), QWidget()
        list_.setLayout(self._make_left())
        hero.setLayout(self._make_middle())
        self.parts = StageLayout(session, "images", hero, self.details, list_, LEAST, LEAST, (0, 0, 0, 0))
        whole.addWidget(self.parts, 1)
        session.pixels_ready.connect(self._refresh_once_seen)
        session.measures_ready.connect(self._show_measures)
        session.images_changed.connect(self._refresh_once_seen)
        session.split_changed.connect(self._refresh_once_seen)
        session.scores_ready.connect(self._refresh_once_seen)
        self._is_old = True
        self._show_measures()

    def _make_left(self) -> QVBoxLayout:
        left = vertical(spacing=10)
        frame, inside = panel("Labels" if self.session.images.collection.several else "Classes", "class panel")
        frame.setFixedWidth(SIDE)
        self.class_bars = Bars("class bars", 96, 48)
        self.class_bars.setToolTip("Images of each class. Click one to see only these, again to see all.")
        self.class_bars.chosen.connect(self._choose_class)
        scroll = self._class_scroll = QScrollArea()
        scroll.setFocusPolicy(Qt.FocusPolicy.NoFocus)  # keys are the bars'
        scroll.setWidgetResizable(True)
        scroll.setWidget(self.class_bars)
        scroll.setMaximumHeight(224)
        self.find_class = QLineEdit()
        self.find_class.setObjectName("find class")
        self.find_class.setAccessibleName("find a class")
        self.find_class.setPlaceholderText("find a class …")
        self.find_class.setToolTip("Part of a name: only those classes are listed; Return chooses the first.")
        self.find_class.setFont(look.font())
        self.find_class.textChanged.connect(lambda _: self._show_classes())
        self.find_class.returnPressed.connect(lambda: self._choose_class(0))
        inside.addWidget(self.find_class)
        inside.addWidget(scroll)
        left.addWidget(frame)
        frame, inside = panel(name="measure panel")
        frame.setFixedWidth(SIDE)
        self.distribution = Distribution()
        self.distribution.changed.connect(self.refresh)
        inside.addWidget(self.distribution)
        left.addWidget(frame)
        self.findings = Findings(self.session)
        self.findings.setFixedWidth(SIDE)
        self.findings.chosen.connect(self.refresh)
        left.addWidget(self.findings, 1)
        return left

    def _make_middle(self) -> QVBoxLayout:
        middle = vertical(spacing=8)
        self.title = label(size=look.LARGE, strong=True, name="images title")
        middle.addWidget(self.title)
        self.warning = label(role="warn", name="images warning")
        self.warning.setWordWrap(True)
        middle.addWidget(self.warning)
        self.remedy = Remedy(self.session)
        middle.addWidget(self.remedy)
        self.sheet = ContactSheet("contact sheet")
        self.sheet.selected.connect(lambda _: self._show_details())
        self.sheet.opened.connect(self.opened)
        self.filters.resized.connect(self.sheet.set_side)
        self.table = ImageTable(self.session)
        self.table.selected.connect(lambda _: self._show_details())
        self.table.opened.connect(self.opened)
        selection = self.table.selectionModel()
        if selection is not None:
            selection.selectionChanged.connect(lambda *_: self._show_details())
        self.views = QStackedWidget()
        self.views.addWidget(self.sheet)
        self.views.addWidget(self.table)
        middle.addWidget(self.views, 1)
        return middle

    def show_table(self, on: bool) -> None:
        """The table in place of the sheet, or the other way round."""
        self.views.setCurrentIndex(int(on))
        self._show_details()

    def choice(self) -> Wanted:
        """What the filters ask for."""
        answers = self.filters.answers.currentText()
        return Wanted(
            self.label,
            self.filters.sets,
            self.filters.flagged.isChecked(),
            answers if answers in ("wrong", "correct") else "",
            self.distribution.within,
            self.filters.order.currentText(),
            self.filters.descending,
        )

    def _refresh_once_seen(self) -> None:
        """Of a large collection it takes a moment, which other stages are not to wait for."""
        self._is_old = True
        if self.isVisible():
            self.refresh()

    def showEvent(self, event: QShowEvent | None) -> None:
        """Catch up with what happened meanwhile."""
        super().showEvent(event)
        if self._is_old:
            self.refresh()

    def refresh(self) -> None:
        """Show the collection as it is filtered."""
        self._is_old = False
        collection = self.session.images.collection
        self._show_classes()
        self.filters.show_counts(collection, self.label)
        self.filters.show_answers(bool(self.session.scores.answers.predicted))
        self.filters.turn.setEnabled(self.filters.order.currentText() in self.session.images.measures)
        self.findings.show_skipped(collection.skipped)
        finding = self.findings.current
        self.remedy.show_finding(finding)
        if finding is not None:
            groups = finding.groups or (finding.images,)
            self.shown = [Shown(finding.kind, "", np.array(group, np.int64) - 1) for group in groups]
        else:
            self.shown = browse(collection, self.choice(), self.session.images.measures, self.session.scores.answers)
        count = sum(len(group.places) for group in self.shown)
        self.title.setText("1 image" if count == 1 else f"{thousands(count)} images")
        self._show_groups()
        warnings = [*small_classes(collection), *classes_by_folder(collection)] if finding is None else []
        self.warning.setText("\n".join(warnings))
        self.warning.setVisible(bool(warnings))
        self._show_details()

    def _show_classes(self) -> None:
        """Those that have in their name what was typed, where there are many."""
        collection = self.session.images.collection
        self.find_class.setVisible(len(collection.kinds) > MANY)
        words, most = self.find_class.text().strip().lower(), max(1, *collection.kind_totals)
        self.listed = [k for k, name in enumerate(collection.kinds) if words in name.lower()]
        bars = [
            Bar(
                collection.kinds[k],
                collection.kind_totals[k] / most,
                thousands(collection.kind_totals[k]),
                "petrol" if k == self.label else "faint",
            )
            for k in self.listed
        ]
        self.class_bars.show_bars(tuple(bars), self.listed.index(self.label) if self.label in self.listed else None)
        self._give_room()

    def _give_room(self) -> None:
        """Classes are seen without scrolling before a long list of what was not read is."""
        at_once = AT_ONCE if self.height() >= TALL else AT_ONCE // 2
        self._class_scroll.setMinimumHeight(ROW * min(len(self.listed), at_once))

    def resizeEvent(self, event: QResizeEvent | None) -> None:
        """Give rows the room there is."""
        super().resizeEvent(event)
        self._give_room()

    def _show_groups(self) -> None:
        collection = self.session.images.collection
        self.sheet.flagged = frozenset(collection.flagged.tolist())
        self.sheet.faded = frozenset(np.flatnonzero(collection.in_sets((EXCLUDED, GONE))).tolist())
        groups = []
        for group in self.shown:
            note = f"{group.note} · {thousands(len(group.places))}".removeprefix(" · ")
            groups.append(Group(group.title, note, tuple(group.places.tolist())))
        self.sheet.show_groups(self.session.images.pixels, tuple(groups))
        if self.sheet.current is None and groups:
            self.sheet.current = groups[0].places[0]
        self.table.show_places(self._places())

    def _places(self) -> NDArray[np.int64]:
        parts = [group.places for group in self.shown]
        return np.concatenate(parts) if parts else np.zeros(0, np.int64)

    def _show_details(self) -> None:
        if self.views.currentWidget() is self.table:
            index = self.table.currentIndex()
            place = int(self.table.rows_.places[index.row()]) if index.isValid() else None
            self.details.show_images(place, self.table.selection)
        else:
            self.details.show_images(self.sheet.current, tuple(sorted(self.sheet.selection)))

    def _show_measures(self) -> None:
        self.distribution.show_measures(self.session.images.measures)
        self._refresh_once_seen()

    def _choose_class(self, place: int) -> None:
        if place < len(self.listed):
            number = self.listed[place]
            self.label = None if self.label == number else number
            self.refresh()

    def _open_current(self) -> None:
        if self.details.place is not None:
            self.opened.emit(self.details.place)

    def go_to(self, place: int) -> None:
        """Make an image the current one; if the filters hide it, they are cleared."""
        if place not in self._places():
            self.label = None
            for part in (self.filters, self.distribution, self.findings):
                part.clear()
            self.refresh()
        self.sheet.select(place)
        at = np.flatnonzero(self.table.rows_.places == place)
        if len(at):
            self.table.selectRow(int(at[0]))
        self._show_details()

    def neighbour(self, step: int) -> int | None:
        """The place of the image before or after the current one, which becomes the current."""
        places = self._places()
        at = np.flatnonzero(places == self.sheet.current)
        if not len(at):
            return None
        place = int(places[min(max(int(at[0]) + step, 0), len(places) - 1)])
        self.sheet.select(place)
        return place

    def keyPressEvent(self, event: QKeyEvent | None) -> None:
        """The keys written on the buttons, and Space for full size; the sheet and the table pass them on."""
        if event is None:
            return
        if event.key() == Qt.Key.Key_Space:
            self._open_current()
        elif not self.details.decisions.take_key(event):
            super().keyPressEvent(event)
