"""What is known of a model on the Shelf: its name and note, where from, how good, what was built on it."""

from __future__ import annotations

from collections.abc import Iterator

from PyQt6.QtCore import Qt, pyqtSignal
from PyQt6.QtWidgets import QGridLayout, QLabel, QLineEdit, QPlainTextEdit, QSizePolicy, QWidget

from attentive_lens.desk.requests.shelf import ShelfModel
from attentive_lens.window import look
from attentive_lens.window.parts.basics import chooser, label, vertical
from attentive_lens.window.words import memory_size, short, thousands

NAMED = 12
"""Classes that are named."""


def facts_of(model: ShelfModel) -> Iterator[tuple[str, str]]:
    """What there is to say of it, by a word each."""
    yield "from", model.origin or "not known"
    if model.problem:
        return
    yield "accuracy", model.score or "never scored here"
    if model.loss is not None:
        yield "loss", f"{model.loss:.3f}"
    size = "×".join(map(str, model.input_size))
    yield "input", f"{size} pixels, {'grey' if model.channels == 1 else f'{model.channels} channels'}"
    yield "classes", thousands(len(model.classes))
    yield "layers", thousands(model.layers)
    yield "weights", f"{thousands(model.weights)} · {memory_size(model.bytes)}"
    yield "an image costs", f"{short(model.multiply_adds)} multiply-adds"
    yield "built on", model.base or "nothing: all weights new"
    runs = ", ".join(str(number) for number in model.built)
    yield "built on it", f"run{'s' * (len(model.built) > 1)} {runs}" if runs else "nothing yet"


class ModelCard(QWidget):
    """The card of the model in view, and beside its facts those of another.

    Signals
    -------
    renamed, noted
        The name or the note was changed to these words.
    compared
        Another model is to stand beside it; empty for none.
    """

    renamed = pyqtSignal(str)
    noted = pyqtSignal(str)
    compared = pyqtSignal(str)

    def __init__(self) -> None:
        super().__init__()
        self.model: ShelfModel | None = None
        inside = vertical(self, spacing=8, margins=(16, 12, 16, 12))
        self.name = QLineEdit()
        self.name.setObjectName("model name")
        self.name.setAccessibleName("name on the Shelf")
        self.name.setToolTip("What it is called here; plans name it «shelf:…», by names it had before too.")
        self.name.setFont(look.font(look.TEXT, True))
        self.name.editingFinished.connect(lambda: self.renamed.emit(self.name.text()))
        inside.addWidget(self.name)
        self.problem = label(role="bad", name="model problem")
        self.problem.setWordWrap(True)
        inside.addWidget(self.problem)
        self.note = _Note()
        self.note.left.connect(lambda: self.noted.emit(self.note.toPlainText().strip()))
        inside.addWidget(self.note)
        tip = "Another model of the Shelf, whose facts stand beside these."
        self.other = chooser("compare with", "compare with", tip)
        self.other.activated.connect(lambda _: self.compared.emit(str(self.other.currentData() or "")))
        inside.addWidget(self.other, 0, Qt.AlignmentFlag.AlignLeft)
        self.facts = QGridLayout()
        self.facts.setHorizontalSpacing(12)
        self.facts.setVerticalSpacing(6)
        inside.addLayout(self.facts)
        self.classes = label(role="faint", size=look.SMALL, name="model classes")
        self.classes.setWordWrap(True)
        inside.addWidget(self.classes)
        inside.addStretch()

    def show_model(self, model: ShelfModel, others: tuple[ShelfModel, ...], beside: ShelfModel | None) -> None:
        """Its card; what is being typed stays."""
        self.model = model
        if not self.name.hasFocus() or self.name.text() == "":
            self.name.setText(model.name)
        self.name.setReadOnly(model.ships)
        self.problem.setText(model.problem)
        self.problem.setVisible(bool(model.problem))
        if not self.note.hasFocus():
            self.note.setPlainText(model.note)
        self.note.setReadOnly(model.ships)
        self.other.clear()
        self.other.addItem("compare with …", "")
        for each in others:
            if each.name != model.name and not each.problem:
                self.other.addItem(each.name, each.name)
        self.other.setCurrentIndex(max(0, self.other.findData(beside.name) if beside is not None else 0))
        self.other.setVisible(self.other.count() > 1)
        self._show_facts(model, beside)
        first, others_count = ", ".join(model.classes[:NAMED]), len(model.classes) - NAMED
        more = f" and {thousands(others_count)} more" if others_count > 0 else ""
        self.classes.setText(f"It tells apart: {first}{more}." if first else "")

    def _show_facts(self, model: ShelfModel, beside: ShelfModel | None) -> None:
        while item := self.facts.takeAt(0):
            widget = item.widget()
            if widget is not None:
                widget.deleteLater()
        theirs = dict(facts_of(beside)) if beside is not None else {}
        first = 0
        if beside is not None:
            for column, name in ((1, model.name), (2, beside.name)):
                self.facts.addWidget(_cell(name, strong=True), 0, column)
            first = 1
        for row, (word, words) in enumerate(facts_of(model), first):
            self.facts.addWidget(label(word, "faint"), row, 0, Qt.AlignmentFlag.AlignTop)
            self.facts.addWidget(_cell(words), row, 1)
            if beside is not None:
                self.facts.addWidget(_cell(theirs.get(word, "–"), strong=theirs.get(word) != words), row, 2)
        self.facts.setColumnStretch(1, 1)
        self.facts.setColumnStretch(2, 1 if beside is not None else 0)


class _Note(QPlainTextEdit):
    """What a person says of the model; kept when the field is left.

    Signals
    -------
    left
        The field was left.
    """

    left = pyqtSignal()

    def __init__(self) -> None:
        super().__init__()
        self.setObjectName("model note")
        self.setAccessibleName("note")
        self.setPlaceholderText("A note: what it is good at, what it is for")
        self.setToolTip("Kept beside the model when you leave the field.")
        self.setFont(look.font())
        self.setProperty("role", "note")
        self.setTabChangesFocus(True)

    def focusOutEvent(self, event) -> None:  # type: ignore[no-untyped-def]  # Qt's own
        """Keep it."""
        super().focusOutEvent(event)
        self.left.emit()


def _cell(words: str, strong: bool = False) -> QLabel:
    cell = label(words, strong=strong)
    cell.setWordWrap(True)
    cell.setSizePolicy(QSizePolicy.Policy.Ignored, QSizePolicy.Policy.Preferred)
    cell.setAlignment(Qt.AlignmentFlag.AlignTop)
    return cell
