"""A model file in a window of its own, without a workspace: what it is, and why it answers as it does for any image."""

from __future__ import annotations

from collections.abc import Callable
from functools import partial
from pathlib import Path

from PyQt6.QtCore import Qt, QTimer
from PyQt6.QtGui import (
    QCloseEvent,
    QDragEnterEvent,
    QDropEvent,
    QKeySequence,
    QResizeEvent,
    QShortcut,
)
from PyQt6.QtWidgets import QFileDialog, QFrame, QGridLayout, QMainWindow, QMenu, QScrollArea, QStackedWidget, QWidget

from attentive_lens.desk.remembering import recent_workspaces
from attentive_lens.desk.requests.explaining import Explain, Explanation
from attentive_lens.desk.requests.shelf import ModelOpened, OpenModel, PutOnShelf, ShelfChanged
from attentive_lens.desk.requests.subjects import FileImage
from attentive_lens.errors import LensError
from attentive_lens.plan.blocks import read_network
from attentive_lens.window import look
from attentive_lens.window.asking import Asker
from attentive_lens.window.dropping import places_in
from attentive_lens.window.explaining.hero import answer_bars
from attentive_lens.window.explaining.map_choice import MapChooser, NetworkFacts
from attentive_lens.window.explaining.twins import Twins
from attentive_lens.window.frame import Frame
from attentive_lens.window.help import show_help
from attentive_lens.window.parts.bars import ROW, Bars
from attentive_lens.window.parts.basics import button, horizontal, label, panel, set_role, vertical
from attentive_lens.window.parts.empty import EmptyState
from attentive_lens.window.presence import bring_to_front
from attentive_lens.window.shelf.model_bench import model_bench, plates_of_model
from attentive_lens.window.shelf.model_card import facts_of
from attentive_lens.window.tried_list import TriedList
from attentive_lens.window.words import counted

TOP, LEAST = 44, (1024, 640)
LIST, CARD = (176, 116), (380, 244)
"""Pixels of what stands at the sides, and where there is little room."""
TALLEST, SHOWN_ANSWERS = 96, 12
"""Pixels of the highest plate; answers that are seen at most without scrolling."""
WIDE, TALL = 1200, 720
"""Pixels of the window below which lists are narrow, and the bench makes room for the pair."""
MOST_WORKSPACES = 12
EMPTY = "Open images, or drop them on the window: each is answered, and the maps show which pixels drove the answer."


class ModelWindow(QMainWindow):
    """The images tried at the left, the bench and the pair under the lens, the model's card at the right.

    Parameters
    ----------
    file : Path
        The model.
    open_folder : callable
        Opens a window on a workspace.
    """

    def __init__(self, file: Path, open_folder: Callable[[Path], Frame]) -> None:
        super().__init__()
        self.file, self._open_folder = file, open_folder
        self.opened: ModelOpened | None = None
        self.explanation: Explanation | None = None
        self.other: Frame | None = None
        self._facts: NetworkFacts | None = None
        self._against = self._label = ""
        self._is_chosen = False
        self.setObjectName("model window")
        self.setWindowTitle(f"{file.name} – Attentive Lens")
        self.setAcceptDrops(True)
        self.resize(1280, 800)
        self.setMinimumSize(*LEAST)
        self.setFont(look.font())
        self.asker = Asker()
        self.asker.failed.connect(lambda sentence: self.say(sentence, True))
        body = QWidget()
        self.setCentralWidget(body)
        down = vertical(body, spacing=0)
        down.addWidget(self._make_top())
        across = horizontal(spacing=16, margins=(16, 12, 16, 8))
        across.addWidget(self._make_list())
        across.addWidget(self._make_hero(), 1)
        across.addWidget(self._make_evidence())
        down.addLayout(across, 1)
        self.message = label(role="faint", name="model message")
        self.message.setContentsMargins(16, 0, 16, 8)
        self.message.setWordWrap(True)
        down.addWidget(self.message)
        QShortcut(QKeySequence("F1"), self).activated.connect(lambda: show_help(self))
        self._begin = QTimer(self)
        self._begin.setSingleShot(True)
        self._begin.timeout.connect(self._ask)
        self._begin.start(0)

    def resizeEvent(self, event: QResizeEvent | None) -> None:
        """Where there is little room, the pair under the lens has it."""
        super().resizeEvent(event)
        narrow = self.width() < WIDE
        self.list.setFixedWidth(LIST[narrow])
        self.evidence.setFixedWidth(CARD[narrow])
        self._fit_bench()

    def _fit_bench(self) -> None:
        self.bench_frame.setVisible(self.height() >= TALL or self.stack.currentIndex() == 0)

    def say(self, sentence: str, bad: bool = False) -> None:
        """A sentence below."""
        set_role(self.message, "bad" if bad else "faint")
        self.message.setText(sentence)

    def _make_top(self) -> QWidget:
        top = QFrame()
        top.setObjectName("top strip")
        top.setFixedHeight(TOP)
        row = horizontal(top, spacing=16, margins=(24, 0, 16, 1))
        row.addWidget(label(self.file.name, size=look.LARGE, strong=True, name="model file"))
        self.about = label(role="faint", name="model about")
        row.addWidget(self.about, 1)
        tip = "Put the model on the Shelf of a workspace, and open that: new networks can be built on it there."
        self.build = button("Build on it in …", "build on model", tip, self._choose_workspace)
        self.build.setEnabled(False)
        row.addWidget(self.build)
        tip = "Image files that the model is to answer (Ctrl+Return); dropping them on the window does it, too."
        self.open = button("Try images …", "try images", tip, self._ask_images)
        self.open.setProperty("role", "main")
        self.open.setShortcut("Ctrl+Return")
        self.open.setEnabled(False)
        row.addWidget(self.open)
        return top

    def _make_list(self) -> QWidget:
        self.list = list_ = QWidget()
        inside = vertical(list_, spacing=6)
        inside.addWidget(label("Images tried", strong=True))
        self.tried = TriedList(self.show_image)
        area = QScrollArea()
        area.setWidgetResizable(True)
        area.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        area.setWidget(self.tried)
        inside.addWidget(area, 1)
        return list_

    def _make_hero(self) -> QWidget:
        hero = QWidget()
        inside = vertical(hero, spacing=8)
        self.bench_frame, self.bench = model_bench("model bench", TALLEST)
        inside.addWidget(self.bench_frame)
        self.stack = QStackedWidget()
        self.empty = EmptyState("pair", "No image yet", EMPTY, "Try images …", "try first images", self._ask_images)
        self.stack.addWidget(self.empty)
        self.twins = Twins(MapChooser(lambda: self._facts, lambda: 0, tuple), self.say)
        self.twins.requested.connect(self._ask_again)
        self.twins.measure.hide()
        self.stack.addWidget(self.twins)
        inside.addWidget(self.stack, 1)
        return hero

    def _make_evidence(self) -> QWidget:
        self.evidence = evidence = QWidget()
        both = vertical(evidence, spacing=12)
        self.answered, inside = panel("Answers", "answers panel")
        self.answers = Bars("answers", 132, 48)
        self.answers.setToolTip("A click sets the answer against this class; of several labels, asks about this one.")
        self.answers.chosen.connect(self._choose_answer)
        self._scroll = QScrollArea()
        self._scroll.setWidgetResizable(True)
        self._scroll.setWidget(self.answers)
        inside.addWidget(self._scroll)
        self.answered.hide()
        both.addWidget(self.answered)
        both.addWidget(self._make_card(), 1)
        return evidence

    def _make_card(self) -> QWidget:
        frame, outer = panel("Card", "model card panel")
        card = QWidget()
        inside = vertical(card, spacing=8)
        area = QScrollArea()
        area.setWidgetResizable(True)
        area.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        area.setWidget(card)
        outer.addWidget(area)
        self.facts = QGridLayout()
        self.facts.setHorizontalSpacing(12)
        self.facts.setVerticalSpacing(6)
        self.facts.setColumnStretch(0, 2)
        self.facts.setColumnStretch(1, 3)
        inside.addLayout(self.facts)
        self.note = label(name="model note")
        self.classes = label(role="faint", size=look.SMALL, name="model classes")
        self.caution = label(role="warn", size=look.SMALL, name="model caution")
        for each in (self.note, self.classes, self.caution):
            each.setWordWrap(True)
            inside.addWidget(each)
        inside.addStretch()
        return frame

    def _ask(self) -> None:
        self.asker.start()
        self.say("Reading the model …")
        self.asker.ask(OpenModel(str(self.file)), self._take, lambda sentence: self.say(sentence, True), 0)

    def _take(self, opened: ModelOpened) -> None:
        """The model was read."""
        self.opened, model = opened, opened.model
        self.say("")
        network = read_network(list(opened.network.nodes))
        self._facts = network, network.facts(opened.network.shape)
        self.bench.show_plates(plates_of_model(opened.network))
        names = opened.labels or model.classes
        what = ("label", "labels") if opened.labels else ("class", "classes")
        self.about.setText("draws images" if opened.draws else counted(len(names), *what))
        facts = [(word, words) for word, words in facts_of(model) if word not in ("accuracy", "built on it", "classes")]
        best = ((name.replace("_", " ").replace("f1", "F1"), value) for name, value in opened.best.items())
        facts += [(f"best {words}", f"{value:.3f}") for words, value in best]
        for row, (word, words) in enumerate(facts):
            said = label(words, name=f"model {word}")
            said.setWordWrap(True)
            about = label(word, "faint")
            about.setWordWrap(True)
            self.facts.addWidget(about, row, 0, Qt.AlignmentFlag.AlignTop)
            self.facts.addWidget(said, row, 1)
        self.note.setText(model.note)
        self.classes.setText(f"It tells apart: {', '.join(names)}." if names and not opened.draws else "")
        self.caution.setText(opened.caution)
        for each in (self.note, self.classes, self.caution):
            each.setVisible(bool(each.text()))
        self.build.setEnabled(True)
        self.open.setEnabled(not opened.draws)
        if opened.draws:
            self.empty.text.setText("This network draws images and answers none: build on it, or draw by command.")

    def _ask_images(self) -> None:
        kinds = "Images (*.png *.jpg *.jpeg *.tif *.tiff *.bmp *.webp *.gif);;All files (*)"
        self.try_images([Path(name) for name in QFileDialog.getOpenFileNames(self, "Images to try", "", kinds)[0]])

    def try_images(self, files: list[Path]) -> None:
        """Have image files answered; the first is shown."""
        new = [file for file in dict.fromkeys(files) if file not in self.tried.files]
        self.tried.files += new
        self.tried.fit()
        if files and self.open.isEnabled():
            self.show_image(self.tried.files.index(files[0]))

    def show_image(self, place: int) -> None:
        """Explain one of the images tried."""
        if place != self.tried.current:
            self._against = ""
            if not self._is_chosen:
                self._label = next(iter(self.opened.labels), "") if self.opened is not None else ""
        self.tried.current = place
        self.tried.update()
        subject = FileImage(
            str(self.tried.files[place]), model=str(self.file), against=self._against, label=self._label
        )
        request = Explain(subject, self.twins.chooser.choice)
        self.say(f"Explaining {self.tried.files[place].name} …")
        self.asker.ask(request, partial(self._explained, place), self._not_explained, 1, "explain")

    def _not_explained(self, sentence: str) -> None:
        self.say(sentence, True)

    def _explained(self, place: int, explanation: Explanation) -> None:
        """An answer, at first without its trust; where no class stands against it, the next one does.

        Of several labels it is about the one most surely said, until another is chosen.
        """
        if place != self.tried.current:
            return
        if explanation.labels and not self._is_chosen and explanation.labels_by_answer[0].name != self._label:
            self._label, self._against = explanation.labels_by_answer[0].name, ""
            self.show_image(place)
            return
        rivals = sorted(explanation.probabilities.items(), key=lambda item: -item[1])
        against = next((name for name, _ in rivals if name != explanation.predicted), "")
        if against and not self._against:
            self._against = against
            self.show_image(place)
            return
        self.say(explanation.file)
        before, self.explanation = self.explanation, explanation
        if before is not None and explanation.complete and not before.complete and before.is_like(explanation):
            self.twins.show_trust(explanation)
            return
        self.stack.setCurrentIndex(1)
        self._fit_bench()
        self.twins.show_explanation(explanation)
        self.twins.measure.hide()
        bars = answer_bars(explanation)
        self.answers.show_bars(bars)
        self._scroll.setFixedHeight(min(len(bars), SHOWN_ANSWERS) * ROW + 2)
        self.answered.show()

    def _ask_again(self) -> None:
        """With another method, or against another class."""
        if self.tried.current is not None:
            self._against = self.twins.right.target or self._against
            self.show_image(self.tried.current)

    def _choose_answer(self, row: int) -> None:
        """Of several labels the one of the bar is asked about; else the answer is set against its class."""
        shown = self.explanation
        if shown is None or self.tried.current is None:
            return
        if shown.labels:
            self._is_chosen = True
            self._label, self._against = shown.labels_by_answer[row].name, ""
        else:
            name = sorted(shown.probabilities.items(), key=lambda item: -item[1])[row][0]
            if name == shown.predicted:
                return
            self._against = name
        self.show_image(self.tried.current)

    def _choose_workspace(self) -> None:
        """A workspace used lately, or another, whose Shelf it is put on."""
        menu = QMenu(self)
        menu.setObjectName("workspaces")
        for folder in recent_workspaces()[:MOST_WORKSPACES]:
            action = menu.addAction(folder.name)
            if action is not None:
                action.setToolTip(str(folder))
                action.triggered.connect(partial(self.put_on_shelf, folder))
        if not menu.isEmpty():
            menu.addSeparator()
        other = menu.addAction("Another workspace …")
        if other is not None:
            other.triggered.connect(self._ask_workspace)
        menu.popup(self.build.mapToGlobal(self.build.rect().bottomLeft()))

    def _ask_workspace(self) -> None:
        chosen = QFileDialog.getExistingDirectory(self, "The workspace to build in")
        if chosen:
            self.put_on_shelf(Path(chosen))

    def put_on_shelf(self, folder: Path, *_: object) -> None:
        """Put the model on a workspace's Shelf, and open that."""
        self.say(f"Putting the model on the Shelf of «{folder.name}» …")
        request = PutOnShelf(str(folder.absolute()), str(self.file.absolute()))
        self.asker.ask(request, partial(self._has_put, folder), lambda sentence: self.say(sentence, True))

    def _has_put(self, folder: Path, change: ShelfChanged) -> None:
        self.say(change.done)
        try:
            self.other = self._open_folder(folder)
        except LensError as error:
            self.say(f"{change.done} {error}", True)
            return
        bring_to_front(self.other)
        self.other.show_stage("shelf")
        page = self.other.page("shelf")
        page.entered()
        page.come_back({"model": change.name})

    def dragEnterEvent(self, event: QDragEnterEvent | None) -> None:
        """Take files."""
        if event is not None and places_in(event.mimeData()):
            event.acceptProposedAction()

    def dropEvent(self, event: QDropEvent | None) -> None:
        """Try what was dropped: files, and those in a folder."""
        places = places_in(event.mimeData()) if event is not None else []
        files = [file for place in places for file in (sorted(place.iterdir()) if place.is_dir() else [place])]
        self.try_images([file for file in files if file.is_file()])

    def closeEvent(self, event: QCloseEvent | None) -> None:
        """End the worker."""
        self._begin.stop()
        self.asker.close()
        super().closeEvent(event)
