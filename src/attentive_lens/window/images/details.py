"""The image at hand: what it is, and what is decided about it and the others selected."""

from __future__ import annotations

from functools import partial

from PyQt6.QtCore import Qt, pyqtSignal
from PyQt6.QtWidgets import QFrame, QGridLayout, QMenu, QPushButton, QVBoxLayout

from attentive_lens.desk.curating import flagged, moved
from attentive_lens.window.parts.basics import button, label, to_image
from attentive_lens.window.parts.picture import PixelBox
from attentive_lens.window.session import Session
from attentive_lens.window.words import thousands
from attentive_lens.workspace.corrections import EXCLUDED, SETS

WIDTH = 232


class Details(QFrame):
    """Picture, facts, and the buttons that decide; each has a key of its own.

    Signals
    -------
    opened
        Somebody wants to see the image in full size.
    """

    opened = pyqtSignal()

    def __init__(self, session: Session) -> None:
        super().__init__()
        self.session = session
        self.places: tuple[int, ...] = ()
        self.place: int | None = None
        self.setProperty("role", "panel")
        self.setObjectName("image panel")
        self.setFixedWidth(WIDTH)
        layout = QVBoxLayout(self)
        layout.setContentsMargins(16, 12, 16, 12)
        layout.setSpacing(6)
        self.preview = PixelBox("image preview", WIDTH - 34)
        self.preview.hovered.connect(self._show_pixel)
        layout.addWidget(self.preview)
        self.pixel = label(" ", "faint", name="pixel values")
        layout.addWidget(self.pixel)
        self.facts = label("Select an image to see what it is.", "faint", name="image facts")
        self.facts.setWordWrap(True)
        self.facts.setAlignment(Qt.AlignmentFlag.AlignTop)
        layout.addWidget(self.facts, 1)
        self.selected = label(strong=True, name="selected count")
        layout.addWidget(self.selected)
        buttons = (
            ("label", "Label … (L)", "L", "Give the selected images another class.", self._ask_label),
            ("set", "Set … (S)", "S", "Move the selected images to another set.", self._ask_set),
            ("exclude", "Exclude (X)", "X", "Do not use the selected images.", self.exclude),
            ("flag", "Flag (F)", "F", "Mark the selected images to come back to.", self.flag),
        )
        grid = QGridLayout()
        grid.setSpacing(6)
        self.buttons: dict[str, QPushButton] = {}
        self.keys: dict[str, QPushButton] = {}
        for k, (name, words, key, tip, done) in enumerate(buttons):
            tip = f"{tip} Key: {key}. It can be undone, and the file stays as it is."
            self.buttons[name] = button(words, name, tip, done)
            self.keys[key] = self.buttons[name]
            grid.addWidget(self.buttons[name], k // 2, k % 2)
        layout.addLayout(grid)
        self.full = button("Full size", "full size", "See the image pixel by pixel (Space).", self.opened.emit)
        layout.addWidget(self.full)
        self.ask = button(
            "Why this answer?", "explain image", "Open the image in Explain with the run in view.", self._explain
        )
        layout.addWidget(self.ask)
        self.show_images(None, ())

    def show_images(self, place: int | None, places: tuple[int, ...]) -> None:
        """The image at hand, and all that are selected."""
        self.place, self.places = place, places
        collection = self.session.images.collection
        for control in (*self.buttons.values(), self.full):
            control.setEnabled(place is not None)
        view = self.session.runs.view
        self.ask.setVisible(place is not None and view is not None and view.has_model)
        self.selected.setVisible(len(places) > 1)
        self.selected.setText(f"{thousands(len(places))} images selected")
        self.pixel.setText(" ")
        if place is None:
            self.preview.show_image(None)
            self.facts.setText("Select an image to see what it is.")
            return
        row, set_name = collection.rows[place], collection.sets[place]
        if self.session.images.pixels is not None and place < len(self.session.images.pixels):
            self.preview.show_image(to_image(self.session.images.pixels[place]))
        before = self.session.images.library.rows[place].label
        was = f" (was {collection.classes[before]})" if before != row.label else ""
        mark = " · flagged" if row.flagged else ""
        lines = [
            f"{collection.classes[row.label]}{was} · {set_name}{mark}",
            f"image {row.number}",
            row.name,
            f"{row.width}×{row.height} pixels, {row.mode}",
            f"{thousands(row.bytes)} bytes",
        ]
        shown = {name: values[place] for name, values in self.session.images.measures.items() if name != "pixels"}
        if shown and place < len(next(iter(self.session.images.measures.values()))):
            lines += [f"{name} {value:.2f}" for name, value in shown.items()]
        answer = self.session.scores.answers.said.get(row.number)
        if answer is not None:
            lines.append(f"said {collection.classes[answer[0]]} ({answer[1]:.2f})")
        self.facts.setText("\n".join(lines))
        self.facts.setToolTip(row.file)
        out = all(collection.sets[p] == EXCLUDED for p in places or (place,))
        self.buttons["exclude"].setText("Use (X)" if out else "Exclude (X)")
        marked = all(collection.rows[p].flagged for p in places or (place,))
        self.buttons["flag"].setText("Unflag (F)" if marked else "Flag (F)")

    def _numbers(self) -> list[int]:
        chosen = self.places or ((self.place,) if self.place is not None else ())
        return [place + 1 for place in chosen]

    def _told(self, word: str) -> str:
        count = len(self._numbers())
        return f"{word} image {self._numbers()[0]}" if count == 1 else f"{word} {thousands(count)} images"

    def relabel(self, label_: int) -> None:
        """Give the selected images another class."""
        name = self.session.images.collection.classes[label_]
        self.session.images.relabel(f"{self._told('relabelled')} as {name}", self._numbers(), label_)

    def move_to(self, set_name: str | None) -> None:
        """Move the selected images to a set, or back to where source and split have them."""
        summary = self._told("moved") + (f" to {set_name}" if set_name else " back")
        self.session.images.decide(summary, self._numbers(), moved(set_name))

    def exclude(self) -> None:
        """Exclude the selected images; use them again if all are excluded already."""
        numbers = self._numbers()
        out = all(self.session.images.collection.sets[n - 1] == EXCLUDED for n in numbers)
        self.session.images.decide(
            self._told("using again" if out else "excluded"), numbers, moved(None if out else EXCLUDED)
        )

    def flag(self) -> None:
        """Flag the selected images; take the flag off if all have it."""
        numbers = self._numbers()
        on = not all(self.session.images.collection.rows[n - 1].flagged for n in numbers)
        self.session.images.decide(self._told("flagged" if on else "took the flag off"), numbers, flagged(on))

    def _ask_label(self) -> None:
        menu = QMenu(self)
        menu.setObjectName("label menu")
        for k, name in enumerate(self.session.images.collection.classes):
            action = menu.addAction(f"&{k + 1} {name}" if k < 9 else name)
            if action is not None:
                action.triggered.connect(partial(self._take_label, k))
        self._popup(menu, self.buttons["label"])

    def _take_label(self, number: int, _: bool = False) -> None:
        self.relabel(number)

    def _ask_set(self) -> None:
        menu = QMenu(self)
        menu.setObjectName("set menu")
        for k, name in enumerate((*SETS, None)):
            action = menu.addAction(f"&{k + 1} {name or 'as source and split have it'}")
            if action is not None:
                action.triggered.connect(partial(self._take_set, name))
        self._popup(menu, self.buttons["set"])

    def _take_set(self, name: str | None, _: bool = False) -> None:
        self.move_to(name)

    def _popup(self, menu: QMenu, under: QPushButton) -> None:
        menu.popup(under.mapToGlobal(under.rect().bottomLeft()))

    def _show_pixel(self, across: int, down: int) -> None:
        if across < 0 or self.place is None or self.session.images.pixels is None:
            self.pixel.setText(" ")
            return
        values = " ".join(str(int(v)) for v in self.session.images.pixels[self.place][down, across])
        self.pixel.setText(f"column {across}, row {down}: {values}")

    def _explain(self) -> None:
        if self.place is not None:
            self.session.explain_asked.emit(self.place + 1)
