"""One new image: its answers, how unlike the training images it is, and what can be done with it."""

from __future__ import annotations

from functools import partial
from pathlib import Path

import numpy as np
from numpy.typing import NDArray
from PyQt6.QtWidgets import QHBoxLayout, QMenu, QWidget

from attentive_lens.core.numbering import place_of
from attentive_lens.desk.requests.models import Prediction
from attentive_lens.plan.labels import of_one
from attentive_lens.window import look
from attentive_lens.window.parts.bars import Bar, Bars
from attentive_lens.window.parts.basics import button, horizontal, label, set_role, to_image, vertical
from attentive_lens.window.parts.picture import PictureBox
from attentive_lens.window.session import Session
from attentive_lens.window.words import answer_tip

SIDE, NEAR_SIDE, MOST_BARS = 180, 96, 8


class NewDetails(QWidget):
    """A picture, bars, the nearest training image, and the buttons «Explain» and «Add as …»."""

    def __init__(self, session: Session) -> None:
        super().__init__()
        self.session = session
        self.answer: Prediction | None = None
        layout = vertical(self, spacing=8)
        self.title = label(size=look.LARGE, strong=True, name="new title")
        self.title.setWordWrap(True)
        layout.addWidget(self.title)
        self.file = label(role="faint", name="new file")
        layout.addWidget(self.file)
        row = horizontal(spacing=16)
        self.picture = PictureBox("new picture", SIDE)
        row.addWidget(self.picture)
        near = vertical(spacing=6)
        self.near_title = label("nearest training image", "faint", look.SMALL)
        near.addWidget(self.near_title)
        self.near = PictureBox("nearest picture", NEAR_SIDE)
        near.addWidget(self.near)
        self.near_name = label(name="nearest name")
        self.near_name.setWordWrap(True)
        near.addWidget(self.near_name)
        near.addStretch()
        row.addLayout(near, 1)
        layout.addLayout(row)
        self.unlike = label(name="new unlike")
        self.unlike.setWordWrap(True)
        self.unlike.setToolTip(
            "Mean distance to the three nearest training images, by the network's channels: 98 % of the held-out images"
            " lie within 1."
        )
        layout.addWidget(self.unlike)
        self.bars = Bars("new bars", 120)
        layout.addWidget(self.bars)
        buttons = QHBoxLayout()
        tip = "See in Explain what drove the answer, set against the class that comes next (E)."
        self.explain_button = button("Explain (E)", "explain new", tip, self.explain)
        buttons.addWidget(self.explain_button)
        tip = "Copy the image into the workspace as an image of a class: the next run learns from it (A)."
        self.add_button = button("Add as … (A)", "add new", tip, self._ask_class)
        buttons.addWidget(self.add_button)
        buttons.addStretch()
        layout.addLayout(buttons)
        layout.addStretch()
        self.show_answer(None, None)

    def show_answer(self, answer: Prediction | None, pixels: NDArray[np.uint8] | None) -> None:
        """Another image, or none."""
        self.answer = answer
        writable = not self.session.reading_only
        self.explain_button.setEnabled(answer is not None)
        self.add_button.setEnabled(answer is not None and writable)
        self.picture.show_image(to_image(pixels) if pixels is not None else None)
        nearest = answer.nearest if answer is not None else None
        for widget in (self.near, self.near_title, self.near_name):
            widget.setVisible(nearest is not None)
        if answer is None:
            self.title.setText("No image is open")
            self.file.setText("")
            self.unlike.setText("")
            self.bars.show_bars(())
            return
        self.title.setText(f"said {answer.predicted} · {answer.probability:.2f}")
        first = f" · the first of {answer.pages} pages" if answer.pages > 1 else ""
        self.file.setText(f"{Path(answer.file).name}{first}")
        self.file.setToolTip(answer.file)
        if answer.unlike is None:
            self.unlike.setText("How unlike the training images it is cannot be told: there are too few.")
        else:
            times = f"{answer.unlike:.1f} times the usual distance"
            strange = answer.unlike > 1
            self.unlike.setText(f"unlike all training images: {times}" if strange else f"like training images: {times}")
            set_role(self.unlike, "warn" if strange else "faint")
        if nearest is not None:
            self._show_nearest(nearest)
        self.bars.setToolTip(answer_tip(answer.output))
        order = sorted(answer.probabilities.items(), key=lambda item: -item[1])[:MOST_BARS]
        said = answer.labels or (answer.predicted,)
        longest = max(1.0, order[0][1]) if answer.output == "none" else 1.0
        self.bars.show_bars(
            tuple(
                Bar(name, max(0.0, p / longest), f"{p:.3f}", "petrol" if name in said else "faint") for name, p in order
            )
        )

    def _show_nearest(self, number: int) -> None:
        pixels, collection = self.session.images.pixels, self.session.images.collection
        if number <= len(collection.rows):
            self.near.show_image(to_image(pixels[place_of(number)]) if pixels is not None else None)
            self.near_name.setText(collection.classes[collection.rows[place_of(number)].label])

    def explain(self) -> None:
        """On to Explain, against the class that comes next; of several labels about the one most surely said."""
        if self.answer is not None and self.session.runs.labels:
            names = self.answer.labels or tuple(self.answer.probabilities)
            label = max(names, key=lambda name: self.answer.probabilities[name] if self.answer is not None else 0.0)
            self.session.runs.choose_label(label)
            self.session.file_asked.emit(self.answer.file, of_one(label)[0 if label in self.answer.labels else 1])
        elif self.answer is not None:
            others = {name: p for name, p in self.answer.probabilities.items() if name != self.answer.predicted}
            against = max(others, key=lambda name: others[name]) if others else self.answer.predicted
            self.session.file_asked.emit(self.answer.file, against)

    def add_as(self, name: str) -> None:
        """Copy the image into the workspace as one of a class."""
        if self.answer is not None:
            self.session.images.add([Path(self.answer.file)], name)

    def _ask_class(self) -> None:
        menu = QMenu(self)
        menu.setObjectName("add menu")
        collection = self.session.images.collection
        offered = [answer.predicted for answer in (self.answer,) if answer is not None] if collection.several else []
        for k, name in enumerate(dict.fromkeys((*offered, *collection.kinds))):
            action = menu.addAction(f"&{k + 1} {name}" if k < 9 else name)
            if action is not None:
                action.triggered.connect(partial(self._add, name))
        menu.popup(self.add_button.mapToGlobal(self.add_button.rect().bottomLeft()))

    def _add(self, name: str, _: bool = False) -> None:
        self.add_as(name)

    def take_key(self, text: str) -> bool:
        """E and A, as they stand on the buttons; whether it was one of them."""
        for key, control in (("E", self.explain_button), ("A", self.add_button)):
            if text.upper() == key:
                control.click()
                return True
        return False
