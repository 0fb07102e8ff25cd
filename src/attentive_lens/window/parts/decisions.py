"""What can be decided about some images: another label, another set, excluded, flagged; each with a key of its own."""

from __future__ import annotations

from functools import partial

from PyQt6.QtGui import QKeyEvent
from PyQt6.QtWidgets import QGridLayout, QInputDialog, QMenu, QPushButton, QStackedLayout, QWidget

from attentive_lens.core.numbering import number_at, place_of
from attentive_lens.desk.images.curating import flagged, moved
from attentive_lens.plan.labels import NO_LABEL
from attentive_lens.window.parts.basics import button, label
from attentive_lens.window.session import Session
from attentive_lens.window.words import thousands
from attentive_lens.workspace.corrections import EXCLUDED, SETS

WHY = ("E", "C", "N")
"""Keys that lead to the image under the lens: explained, with a case, beside those most alike."""
KEYS = {"label": "L", "set": "S", "exclude": "X", "flag": "F"}


class Decisions(QWidget):
    """Four buttons; a line about them in their place while no image is chosen.

    Parameters
    ----------
    session : Session
        Whose images.
    columns : int
        Buttons in a row.
    suffix : str
        Behind the buttons' object names, where there are several of these.
    """

    def __init__(self, session: Session, columns: int = 2, suffix: str = "") -> None:
        super().__init__()
        self.session = session
        self.places: tuple[int, ...] = ()
        words = (
            (
                "label",
                "Label … (L)",
                "Give the selected images another class, or other labels.",
                self._ask_label,
            ),
            ("set", "Set … (S)", "Move the selected images to another set.", self._ask_set),
            ("exclude", "Exclude (X)", "Do not use the selected images.", self.exclude),
            ("flag", "Flag (F)", "Mark the selected images to come back to.", self.flag),
        )
        self._stack = QStackedLayout(self)
        of_chosen = QWidget()
        grid = QGridLayout(of_chosen)
        grid.setContentsMargins(0, 0, 0, 0)
        grid.setSpacing(6)
        self.buttons: dict[str, QPushButton] = {}
        for k, (name, shown, tip, done) in enumerate(words):
            tip = f"{tip} Key: {KEYS[name]}. It can be undone, and the file stays as it is."
            self.buttons[name] = button(shown, name + suffix, tip, done)
            grid.addWidget(self.buttons[name], k // columns, k % columns)
        hint = label("Choose images to give them a label (L) or set (S), exclude (X) or flag (F) them.", "faint")
        hint.setWordWrap(True)
        for each in (of_chosen, hint):
            self._stack.addWidget(each)
        self.show_images(())

    def show_images(self, places: tuple[int, ...]) -> None:
        """Those that a button decides about, by their places."""
        self.places = places
        collection = self.session.images.collection
        self._stack.setCurrentIndex(0 if places else 1)
        out = bool(places) and all(collection.sets[p] == EXCLUDED for p in places)
        self.buttons["exclude"].setText("Use (X)" if out else "Exclude (X)")
        marked = bool(places) and all(collection.rows[p].flagged for p in places)
        self.buttons["flag"].setText("Unflag (F)" if marked else "Flag (F)")

    def take_key(self, event: QKeyEvent) -> bool:
        """Press the button that a key stands on; whether there is one, and an image for it."""
        if not self.places:
            return False
        for name, key in KEYS.items():
            if event.text().upper() == key:
                self.buttons[name].click()
                return True
        if event.text().upper() in WHY:
            self.session.why_asked.emit(self._numbers()[0], event.text().upper())
            return True
        return False

    def _numbers(self) -> list[int]:
        return [number_at(place) for place in self.places]

    def _told(self, word: str) -> str:
        count = len(self.places)
        return f"{word} image {self._numbers()[0]}" if count == 1 else f"{word} {thousands(count)} images"

    def relabel(self, label_: int) -> None:
        """Give the images another class."""
        name = self.session.images.collection.classes[label_]
        self.session.images.relabel(f"{self._told('relabelled')} as {name}", self._numbers(), label_)

    def move_to(self, set_name: str | None) -> None:
        """Move the images to a set, or back to where source and split have them."""
        summary = self._told("moved") + (f" to {set_name}" if set_name else " back")
        self.session.images.decide(summary, self._numbers(), moved(set_name))

    def exclude(self) -> None:
        """Exclude the images; use them again if all are excluded already."""
        numbers = self._numbers()
        out = all(self.session.images.collection.sets[place_of(n)] == EXCLUDED for n in numbers)
        self.session.images.decide(
            self._told("using again" if out else "excluded"), numbers, moved(None if out else EXCLUDED)
        )

    def flag(self) -> None:
        """Flag the images; take the flag off if all have it."""
        numbers = self._numbers()
        on = not all(self.session.images.collection.rows[place_of(n)].flagged for n in numbers)
        self.session.images.decide(self._told("flagged" if on else "took the flag off"), numbers, flagged(on))

    def _ask_label(self) -> None:
        menu = QMenu(self)
        menu.setObjectName("label menu")
        if self.session.images.collection.several:
            self._list_labels(menu)
            self._popup(menu, self.buttons["label"])
            return
        for k, name in enumerate(self.session.images.collection.classes):
            action = menu.addAction(f"&{k + 1} {name}" if k < 9 else name)
            if action is not None:
                action.triggered.connect(partial(self._take_label, k))
        menu.addSeparator()
        menu.addAction("New class …", self._ask_new_class)
        self._popup(menu, self.buttons["label"])

    def _list_labels(self, menu: QMenu) -> None:
        """Each label, ticked where all the images have it: to be given to them, or taken away."""
        collection = self.session.images.collection
        for k, name in enumerate(collection.kinds):
            if name == NO_LABEL:
                continue
            there = collection.of_kind(k)[list(self.places)]
            action = menu.addAction(f"&{k + 1} {name}" if k < 9 else name)
            if action is not None:
                action.setCheckable(True)
                action.setChecked(bool(there.all()))
                action.triggered.connect(partial(self.put_label, name, not there.all()))
        menu.addSeparator()
        menu.addAction("New label …", self._ask_new_label)

    def put_label(self, name: str, on: bool, _: bool = False) -> None:
        """Give the images a label, or take it from them, where they may have several."""
        summary = f"{self._told('gave' if on else 'took from')} the label {name}"
        self.session.images.put_label(summary, self._numbers(), name, on)

    def _ask_new_label(self) -> None:
        name, given = QInputDialog.getText(self, "New label", "Name of the new label:")
        if given and name.strip():
            self.put_label(name.strip(), True)

    def _ask_new_class(self) -> None:
        name, given = QInputDialog.getText(self, "New class", "Name of the new class:")
        if given and name.strip():
            summary = f"{self._told('relabelled')} as {name.strip()}"
            self.session.images.relabel_as_new(summary, self._numbers(), name)

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
