"""New images: dropped, pasted or opened, answered at once, those unlike all training images first."""

from __future__ import annotations

import os
from collections.abc import Sequence
from pathlib import Path

from PyQt6.QtCore import QMimeData, Qt
from PyQt6.QtGui import QDragEnterEvent, QDropEvent, QImage, QKeyEvent, QKeySequence
from PyQt6.QtWidgets import QApplication, QFileDialog

from attentive_lens.desk.requests.models import AnswerNew, NewAnswers, Prediction
from attentive_lens.desk.results.answer_files import ENDINGS, AnswerFile
from attentive_lens.errors import LensError
from attentive_lens.window.dropping import places_in
from attentive_lens.window.parts.basics import button, horizontal, label, set_role, vertical
from attentive_lens.window.parts.sheet import ContactSheet, Group
from attentive_lens.window.results.new_details import NewDetails
from attentive_lens.window.results.view import ResultsView
from attentive_lens.window.session import Session
from attentive_lens.window.words import counted, thousands

PASTED = "pasted"
"""The folder in the workspace that takes pictures from the clipboard."""
MOST = 2000
IMAGE_FILES = "Images (*.png *.jpg *.jpeg *.bmp *.tif *.tiff *.webp *.gif);;All files (*)"


class NewImagesView(ResultsView):
    """What is answered to images of no set; the one at hand is told of in `details`.

    Signals
    -------
    changed
        Another image is at hand.
    """

    word = "new images"

    def __init__(self, session: Session) -> None:
        super().__init__(session)
        self.places: tuple[str, ...] = ()
        self.result: NewAnswers | None = None
        self._asked: AnswerNew | None = None
        self.setAcceptDrops(True)
        inside = vertical(self, spacing=8, margins=(16, 12, 16, 12))
        row = horizontal(spacing=8)
        for words, name, tip, done in (
            ("Images …", "open new images", "Image files of any kind that can be read.", self._open_files),
            ("Folder …", "open new folder", "All images in it and in the folders within it.", self._open_folder),
            ("Paste", "paste new image", "A picture or files from the clipboard (Ctrl+V).", self.paste),
        ):
            row.addWidget(button(words, name, tip, done))
        row.addStretch()
        tip = "The answers as a table (CSV, Parquet) or an object a line (JSON lines)."
        self.save = button("Save …", "save new answers", tip, self._ask_save)
        row.addWidget(self.save)
        inside.addLayout(row)
        self.says = label(role="faint", name="new images say")
        self.says.setWordWrap(True)
        inside.addWidget(self.says)
        self.drift = label(role="faint", name="new images drift")
        self.drift.setWordWrap(True)
        self.drift.setToolTip("Told of 20 images or more, beside validation images said to be of the same classes.")
        inside.addWidget(self.drift)
        self.sheet = ContactSheet("new images", 86)
        self.sheet.selected.connect(self._select)
        self.sheet.opened.connect(lambda _: self.details.explain())
        inside.addWidget(self.sheet, 1)
        self.unread = label(role="warn", name="new images unread")
        self.unread.setWordWrap(True)
        inside.addWidget(self.unread)
        self.details = self.beside = NewDetails(session)
        session.runs_changed.connect(self.refresh)
        self._show()

    def action(self) -> tuple[str, bool]:
        """On to why."""
        return "Explain this one", self.details.answer is not None

    def act(self) -> None:
        """Explain the image in view."""
        self.details.explain()

    def refresh(self) -> None:
        """Have the images that are open answered by the run in view, unless they are."""
        run = self.session.runs.current
        if run is None or not self.places or not self.isVisible():
            return
        request = AnswerNew(self.session.place, run, self.places, MOST)
        if request != self._asked:
            self._asked, self.result = request, None
            self._show("Answering …")
            self.session.ask(request, self._take, self._fail, priority=2, scope="new images")

    def open_places(self, places: Sequence[Path]) -> None:
        """Images and folders instead of those before."""
        self.places = tuple(str(place) for place in places)
        self._asked = None
        self.refresh()

    def _take(self, result: NewAnswers) -> None:
        first = self.result is None
        self.result = result
        self._show()
        if first and self.sheet.groups:
            self.sheet.select(self.sheet.groups[0].places[0])

    def _fail(self, words: str) -> None:
        self._asked = None
        self._show(words)

    def _show(self, instead: str = "") -> None:
        result = self.result
        answers = result.answers if result is not None else ()
        unlike = [k for k, each in enumerate(answers) if each.unlike is not None and each.unlike > 1]
        self.save.setEnabled(bool(answers))
        self.sheet.flagged = frozenset(unlike)
        self.sheet.show_groups(result.pixels if result is not None else None, groups_of(answers, unlike))
        unread = result.unreadable if result is not None else ()
        reasons = "; ".join(f"{Path(each.file).name}: {each.error}" for each in unread[:3])
        more = f"; and {len(unread) - 3} more" if len(unread) > 3 else ""
        self.unread.setText(f"Not read: {reasons}{more}" if unread else "")
        self.unread.setVisible(bool(unread))
        drift = result.drift if result is not None else None
        self.drift.setVisible(drift is not None)
        if drift is not None:
            set_role(self.drift, "warn" if drift.differs else "faint")
            self.drift.setText(f"Beside held-out images: {drift.sentence}")
        if result is None:
            start = "Drop images or folders here, paste a picture, or open some: the run in view answers at once."
            self.says.setText(instead or start)
        else:
            part = f" · the first {thousands(MOST)}" if len(answers) + len(unread) == MOST else ""
            strange = f" · {counted(len(unlike), 'is', 'are')} unlike all training images" if unlike else ""
            first_pages = sum(each.pages > 1 for each in answers)
            files = counted(first_pages, "file", "files")
            of_pages = f" · of {files} with several pages the first" if first_pages else ""
            words = f"{counted(len(answers), 'image', 'images')} answered{part}{strange}{of_pages}"
            self.says.setText(f"{words}. {result.caution}" if result.caution else words)
        self._select(self.sheet.current)

    def _select(self, place: int | None) -> None:
        result = self.result
        if result is None or place is None or place >= len(result.answers):
            self.details.show_answer(None, None)
        else:
            self.details.show_answer(result.answers[place], result.pixels[place])
        self.changed.emit()

    def _open_files(self) -> None:
        names, _ = QFileDialog.getOpenFileNames(self, "Images to be answered", "", IMAGE_FILES)
        if names:
            self.open_places([Path(name) for name in names])

    def _open_folder(self) -> None:
        name = QFileDialog.getExistingDirectory(self, "A folder of images to be answered")
        if name:
            self.open_places([Path(name)])

    def paste(self) -> None:
        """Take files or a picture from the clipboard."""
        clipboard = QApplication.clipboard()
        if clipboard is not None:
            self._take_data(clipboard.mimeData())

    def _take_data(self, data: QMimeData | None) -> None:
        places = places_in(data)
        picture = data.imageData() if data is not None and data.hasImage() else None
        if places:
            self.open_places(places)
        elif isinstance(picture, QImage) and not picture.isNull():
            folder = self.session.workspace.folder / PASTED
            file = folder / f"pasted {len(list(folder.glob('*.png'))) + 1}.png"
            try:
                folder.mkdir(exist_ok=True)
                written = picture.save(str(file))
            except OSError:
                written = False
            if written:
                self.open_places([file])
            else:
                self.says.setText(f"The picture could not be kept in {folder}: nothing can be written there.")
        else:
            self.says.setText("The clipboard holds no picture and no files. Copy one first.")

    def _ask_save(self) -> None:
        name, _ = QFileDialog.getSaveFileName(self, "Save answers", "answers.csv", "*.csv;;*.jsonl;;*.parquet")
        if name:
            self.save_answers(Path(name))

    def save_answers(self, file: Path) -> None:
        """Write the answers, in place of what is there."""
        if self.result is None:
            return
        if not file.suffix:
            file = file.with_suffix(ENDINGS[0])
        classes = list(self.result.answers[0].probabilities) if self.result.answers else []
        part = file.with_name(f".{os.getpid()}-{file.name}")  # what is there stays until the new one is whole
        try:
            into = AnswerFile(part, classes)
            into.write([*self.result.answers, *self.result.unreadable])
            into.finish()
            part.replace(file)
        except (LensError, OSError) as error:
            self.session.message.emit(str(error), True)
        else:
            self.session.message.emit(
                f"Saved {counted(len(self.result.answers), 'answer', 'answers')} to {file}.", False
            )

    def dragEnterEvent(self, event: QDragEnterEvent | None) -> None:
        """Take files, folders and pictures."""
        data = event.mimeData() if event is not None else None
        if event is not None and data is not None and (places_in(data) or data.hasImage()):
            event.acceptProposedAction()

    def dropEvent(self, event: QDropEvent | None) -> None:
        """Have them answered."""
        if event is not None:
            self._take_data(event.mimeData())
            event.acceptProposedAction()

    def keyPressEvent(self, event: QKeyEvent | None) -> None:
        """Ctrl+V pastes, A adds, E explains."""
        if event is None:
            return
        if event.matches(QKeySequence.StandardKey.Paste):
            self.paste()
        elif not event.modifiers() & Qt.KeyboardModifier.ControlModifier and self.details.take_key(event.text()):
            return
        else:
            super().keyPressEvent(event)


def groups_of(answers: Sequence[Prediction], unlike: Sequence[int]) -> tuple[Group, ...]:
    """Those unlike all training images, the strangest first; then by the class, or the labels, that are said.

    The least sure of a group stand first.
    """
    groups = []
    strange = sorted(unlike, key=lambda k: -(answers[k].unlike or 0.0))
    if strange:
        words = tuple(f"{answers[k].unlike:.1f}× {answers[k].predicted}" for k in strange)
        groups.append(Group(f"unlike all training images · {thousands(len(strange))}", "", tuple(strange), words))
    sets = sorted({each.predicted for each in answers})
    for name in dict.fromkeys((*(answers[0].probabilities if answers else ()), *sets)):
        own = sorted(
            (k for k, each in enumerate(answers) if each.predicted == name and k not in set(strange)),
            key=lambda k: answers[k].probability,
        )
        if own:
            words = tuple(f"{answers[k].probability:.2f}" for k in own)
            groups.append(Group(f"said {name} · {thousands(len(own))}", "", tuple(own), words))
    return tuple(groups)
