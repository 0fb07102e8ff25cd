"""The window's frame: rail, top strip, the stage, bottom strip."""

from __future__ import annotations

from collections.abc import Callable
from functools import partial
from pathlib import Path

from PyQt6.QtCore import Qt, QTimer, pyqtSignal
from PyQt6.QtGui import (
    QCloseEvent,
    QDragEnterEvent,
    QDropEvent,
    QKeyEvent,
    QKeySequence,
    QPaintEvent,
    QResizeEvent,
    QShortcut,
)
from PyQt6.QtWidgets import (
    QApplication,
    QFrame,
    QMainWindow,
    QStackedWidget,
    QWidget,
)

from attentive_lens.core.extensions import left_out
from attentive_lens.core.objects import settle
from attentive_lens.core.records import PlainTable
from attentive_lens.desk.cards import keep_pictures
from attentive_lens.desk.remembering import recall, remember, remember_theme
from attentive_lens.errors import LensError
from attentive_lens.plan.base import MODEL_SUFFIXES
from attentive_lens.window import look
from attentive_lens.window.bottom_strip import BottomStrip
from attentive_lens.window.dropping import dropped_place
from attentive_lens.window.fault_offer import FaultOffer
from attentive_lens.window.help import show_help
from attentive_lens.window.loop_strip import ONE_LINE, TALL, LoopStrip
from attentive_lens.window.notices import Notices
from attentive_lens.window.pages import STAGES, Page
from attentive_lens.window.parts.basics import button, chooser, horizontal, vertical
from attentive_lens.window.presence import Presence, bring_to_front
from attentive_lens.window.rail import TOP, Rail
from attentive_lens.window.session import Session
from attentive_lens.window.shortcuts import ShortcutList
from attentive_lens.window.way import Place, Way
from attentive_lens.window.words import counted, thousands
from attentive_lens.window.workspace_menu import WorkspaceMenu

LEAST = (1024, 640)
"""Pixels of the window at least."""


class Frame(QMainWindow):
    """The window on one workspace.

    Signals
    -------
    painted
        The first time the window was painted.

    Parameters
    ----------
    session : Session
        What is open.
    open_place : callable
        Makes the window of another workspace.
    """

    painted = pyqtSignal()

    def __init__(self, session: Session, open_place: Callable[[Path], QWidget]) -> None:
        super().__init__()
        self.session, self._open_place = session, open_place
        self._was_painted = False
        self.other: QWidget | None = None
        self.setAcceptDrops(True)
        only = " (reading only)" if session.reading_only else ""
        self.setWindowTitle(f"{session.workspace.name}{only} – Attentive Lens")
        self.resize(1280, 800)
        self.setMinimumSize(*LEAST)
        self.setFont(look.font())
        body = QWidget()
        self.setCentralWidget(body)
        across = horizontal(body, spacing=0)
        self.pages: dict[str, Page] = {}
        self.rail = Rail([(key, stage.word, stage.question) for key, stage in STAGES.items()])
        self.rail.chosen.connect(self.show_stage)
        down = vertical(spacing=0)
        down.addWidget(self._make_top())
        loop = recall(session.workspace.folder).get("loop")
        self.loop = LoopStrip(session, loop if isinstance(loop, dict) else {})
        self.loop.place_asked.connect(self._show_place)
        self.loop.shown.connect(self._make_room)
        self._make_room()
        down.addWidget(self.loop)
        self.stage = QStackedWidget()
        down.addWidget(self.stage, 1)
        right = QWidget()
        right.setLayout(down)
        rail_and_stage = horizontal(spacing=0)
        rail_and_stage.addWidget(self.rail)
        rail_and_stage.addWidget(right, 1)
        down = vertical(spacing=0)
        down.addLayout(rail_and_stage, 1)
        self.bottom = BottomStrip(session)
        self.bottom.theme_asked.connect(self.change_theme)
        self.session.display_changed.connect(self._show_images_anew)
        down.addWidget(FaultOffer())
        down.addWidget(self.bottom)
        across.addLayout(down)
        self.current = "images"
        self.way, self._stepping = Way(), False
        session.runs_changed.connect(self._list_runs)
        session.stage_asked.connect(self.show_stage)
        session.walk_asked.connect(lambda images: self.page("explain").walk_through(images))
        session.explain_asked.connect(self._explain)
        session.file_asked.connect(self._explain)
        session.why_asked.connect(self._ask_why)
        self.shortcuts = ShortcutList(self)
        for keys, call in (
            ("Ctrl+Shift+L", self.change_theme),
            ("F1", lambda: show_help(self.focusWidget() or self)),
            ("Alt+Left", self.step_way),
            ("Alt+Right", partial(self.step_way, forward=True)),
        ):
            QShortcut(QKeySequence(keys), self).activated.connect(call)
        self._list_runs()
        self._notices = Notices(self, session)
        self._presence = Presence(session.workspace.folder, partial(bring_to_front, self))
        # Timers of its own, which end with it: a call that outlives the window would reach into freed memory.
        self._after_paint, self._builder = QTimer(self), QTimer(self)
        for timer in (self._after_paint, self._builder):
            timer.setSingleShot(True)
        self._after_paint.timeout.connect(self.painted)
        self._builder.timeout.connect(self._build_next)
        self.painted.connect(partial(self._builder.start, 0))
        if session.reading_only:
            self.bottom.say(
                "Another window has this workspace open, or it cannot be written: it is shown for reading.", True
            )
        else:
            collection = session.images.collection
            link = "with" if collection.several else "of"
            images = f"{thousands(len(collection.rows))} images {link} {collection.kinds_in_words}"
            self.bottom.say(
                f"Opened {session.workspace.name}: {images}, {counted(len(session.runs.views), 'run', 'runs')}.",
                False,
            )
        for each in left_out():
            self.bottom.say(each.sentence, True)

    def page(self, key: str) -> Page:
        """A stage's page, built when it is first wanted: the first painting does not wait for all of them."""
        if key not in self.pages:
            page = STAGES[key].load()(self.session)
            self.pages[key] = page
            self.stage.addWidget(page)
            page.action_changed.connect(partial(self._refresh, key))
            page.leaving.connect(partial(self._leave, key))
            if page.where is not None:
                page.where.hide()
                self.where.addWidget(page.where, 1)
        return self.pages[key]

    def _choose_run(self, place: int) -> None:
        self.session.runs.choose(int(self.runs.itemData(place) or 0))

    def recall_size(self, size: object) -> None:
        """Take a remembered size, if it is one and fits the screen."""
        screen = self.screen()
        if isinstance(size, list) and len(size) == 2 and all(isinstance(n, int) for n in size) and screen is not None:
            room = screen.availableSize()
            self.resize(min(size[0], room.width()), min(size[1], room.height()))

    def _build_next(self) -> None:
        """Build a page that is still missing, one for each turn of the event loop, for its line on the rail."""
        if missing := next((key for key in STAGES if key not in self.pages), ""):
            self.page(missing)
            self._refresh(missing)
            self._builder.start(20)
        else:
            settle()

    def _explain(self, request: int | str, against: str = "") -> None:
        page = self.page("explain")
        page.open_file(request, against) if isinstance(request, str) else page.open_image(request)
        self.show_stage("explain")

    def _ask_why(self, image: int, key: str) -> None:
        """E explains an image, C opens a case of it too, N shows those most alike."""
        self._explain(image)
        if key != "E":
            self.page("explain").show_view({"C": "case", "N": "alike"}[key])

    def _here(self) -> Place:
        return Place(self.current, self.page(self.current).bookmark())

    def _leave(self, stage: str) -> None:
        """A page is about to show something else; one that is not seen is not where one was."""
        if stage == self.current and not self._stepping:
            self.way.leave(self._here())

    def step_way(self, forward: bool = False) -> None:
        """Back to where one was (Alt+Left), or forward again (Alt+Right)."""
        place = self.way.step(self._here(), forward)
        if place is None:
            self.bottom.say(f"There is nothing {'ahead' if forward else 'behind'}: this is where it began.", False)
            return
        self._stepping = True
        try:
            self.show_stage(place.stage)
            self.page(place.stage).come_back(place.bookmark)
        finally:
            self._stepping = False

    def _make_top(self) -> QWidget:
        top = QFrame()
        top.setObjectName("top strip")
        top.setFixedHeight(TOP)
        row = horizontal(top, spacing=16, margins=(24, 0, 16, 1))
        workspace = self.session.workspace
        menu = WorkspaceMenu(self, workspace.folder, workspace.name, self._open_other)
        menu.add("Once around the loop", lambda: self.loop.take_up())
        row.addWidget(menu)
        self.runs = chooser("run in view", "run in view", "The run whose curves, scores and explanations are shown.")
        self.runs.setMinimumWidth(200)
        self.runs.activated.connect(self._choose_run)
        row.addWidget(self.runs)
        tip = "The label that scores and explanations are about: images without it, and those with it."
        self.label = chooser("label in view", "label in view", tip)
        self.label.setMinimumWidth(120)
        self.label.activated.connect(self._choose_label)
        row.addWidget(self.label)
        self.where = horizontal(spacing=0)
        self.where.addStretch()
        row.addLayout(self.where, 1)
        self.action = button("", "main action", "", self._act)
        self.action.setProperty("role", "main")
        self.action.setFont(look.font(look.TEXT, True))
        row.addWidget(self.action)
        return top

    def _show_images_anew(self) -> None:
        """They are shown otherwise: what was drawn of them and kept is drawn anew."""
        for page in self.pages.values():
            page.restyled()
            for widget in page.findChildren(QWidget):
                widget.update()

    def change_theme(self) -> None:
        """Light, dark, high contrast, as the desktop has it, and light again; it is remembered."""
        name = look.following()
        application = QApplication.instance()
        if isinstance(application, QApplication):
            look.use(name)
            look.restyle(application)
            self.restyled()
            remember_theme(name)

    def restyled(self) -> None:
        """The theme is another: what was drawn in its colours is drawn anew."""
        self.bottom.name_theme()
        for page in self.pages.values():
            page.restyled()

    def keyPressEvent(self, event: QKeyEvent | None) -> None:
        """Ctrl+Z, Ctrl+Shift+Z and ?, unless a field that is edited takes them for itself."""
        if event is None:
            return
        control, shift = Qt.KeyboardModifier.ControlModifier, Qt.KeyboardModifier.ShiftModifier
        if event.key() == Qt.Key.Key_Z and event.modifiers() & control:
            self.session.step_back(forward=bool(event.modifiers() & shift))
        elif event.text() == "?":
            self.shortcuts.show_over()
        else:
            super().keyPressEvent(event)

    def dragEnterEvent(self, event: QDragEnterEvent | None) -> None:
        """Take files and folders."""
        if event is not None and dropped_place(event) is not None:
            event.acceptProposedAction()

    def dropEvent(self, event: QDropEvent | None) -> None:
        """A workspace gets a window of its own, a model file a place on the Shelf; all else is a source of images."""
        place = dropped_place(event) if event is not None else None
        if place is not None and place.suffix.lower() in MODEL_SUFFIXES:
            key = "shelf" if self.current == "shelf" else "network"
            self.show_stage(key)
            self.page(key).open_file(str(place), "")
            return
        if place is not None:
            self._open_other(place)

    def _open_other(self, place: Path) -> None:
        """A workspace, a model or a source of images, in a window of its own beside this one."""
        try:
            self.other = self._open_place(place)
        except LensError as error:
            self.bottom.say(str(error), True)
        else:
            bring_to_front(self.other)

    def show_stage(self, key: str) -> None:
        """Bring a stage on the screen; «augmentation» is the Images stage with its editor open."""
        if self.pages:
            self._leave(self.current)
        augmentation = key == "augmentation"
        key = "images" if augmentation else key
        page = self.page(key)
        if augmentation:
            page.show_view("augmentation")
        self.current = key
        self.stage.setCurrentWidget(page)
        for each in self.pages.values():
            if each.where is not None:
                each.where.setVisible(each is page)
        self.rail.show_stage(key)
        page.entered()
        page.setFocus()
        for page_name in self.pages:
            self._refresh(page_name)

    def _make_room(self) -> None:
        """The strip of steps takes nothing from a page at the window's least size."""
        self.setMinimumSize(LEAST[0], LEAST[1] + (0 if self.loop.isHidden() else ONE_LINE))

    def resizeEvent(self, event: QResizeEvent | None) -> None:
        """The strip is low where the window is."""
        super().resizeEvent(event)
        self.loop.be_compact(self.height() < LEAST[1] + TALL)

    def _show_place(self, stage: str, view: str) -> None:
        self.show_stage(stage)
        if view:
            self.page(stage).show_view(view)

    def _refresh(self, key: str) -> None:
        page = self.pages[key]
        self.rail.buttons[key].set_state(page.state())
        if key == self.current:
            words, possible = page.action()
            self.action.setVisible(bool(words))
            self.action.setText(words)
            self.action.setAccessibleName(words)
            self.action.setToolTip(f"{words} (Ctrl+Return)")
            self.action.setShortcut("Ctrl+Return")
            self.action.setEnabled(possible)

    def _act(self) -> None:
        self.pages[self.current].act()

    def _choose_label(self, place: int) -> None:
        labels = self.session.runs.labels
        if 0 <= place < len(labels):
            self.session.runs.choose_label(labels[place])

    def _list_runs(self) -> None:
        self.runs.clear()
        if not self.session.runs.views:
            self.runs.addItem("no run yet", 0)
        for number, view in sorted(self.session.runs.views.items(), reverse=True):
            state = "" if view.state == "done" else f" · {view.state}"
            self.runs.addItem(f"run {number} · {view.name or 'starting'}{state}", number)
        self.runs.setCurrentIndex(max(0, self.runs.findData(self.session.runs.current)))
        self.runs.setEnabled(bool(self.session.runs.views))
        labels = self.session.runs.labels
        self.label.clear()
        self.label.addItems([f"about {name}" for name in labels])
        self.label.setVisible(bool(labels))
        if labels:
            self.label.setCurrentIndex(labels.index(self.session.runs.asks_about))
        for key in self.pages:
            self._refresh(key)

    def paintEvent(self, event: QPaintEvent | None) -> None:
        """Tell of the first painting."""
        super().paintEvent(event)
        if not self._was_painted:
            self._was_painted = True
            self._after_paint.start(0)

    def closeEvent(self, event: QCloseEvent | None) -> None:
        """Remember how it stood and end the worker; training goes on."""
        size = [self.width(), self.height()]
        values: PlainTable = {"size": size, "stage": self.current, "run": self.session.runs.current}
        values["widths"], values["loop"] = dict(self.session.widths), self.loop.to_remember
        remember(self.session.workspace.folder, values)
        images = self.session.images
        if images.pixels is not None:
            keep_pictures(self.session.workspace.folder, images.pixels, images.collection.labels)
        for timer in (self._after_paint, self._builder):
            timer.stop()
        self._presence.close()
        self.bottom.close_down()
        self.session.close()
        super().closeEvent(event)
