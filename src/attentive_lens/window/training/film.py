"""What a run that draws drew after each epoch: the same images and codes, played or stepped through."""

from __future__ import annotations

import numpy as np
from PyQt6.QtCore import Qt, QTimer
from PyQt6.QtWidgets import QFrame, QHBoxLayout, QSlider, QVBoxLayout

from attentive_lens.window.parts.basics import button, label
from attentive_lens.window.parts.drawn_sheet import DrawnSheet
from attentive_lens.window.session import Session

PLAYED = 120
"""Milliseconds of a frame."""


class FilmView(QFrame):
    """Images, the same drawn again, and images of random codes, by epoch; it follows the last until it is moved."""

    def __init__(self, session: Session) -> None:
        super().__init__()
        self.session = session
        self.setProperty("role", "panel")
        self.setObjectName("film view")
        inside = QVBoxLayout(self)
        inside.setContentsMargins(16, 10, 16, 10)
        row = QHBoxLayout()
        self.says = label(name="film says")
        row.addWidget(self.says)
        self.slider = QSlider(Qt.Orientation.Horizontal)
        self.slider.setObjectName("film slider")
        self.slider.setAccessibleName("epoch of the film")
        self.slider.setToolTip("The epoch after which this was drawn; arrow keys step.")
        self.slider.valueChanged.connect(self._show)
        row.addWidget(self.slider, 1)
        self.play = button("Play", "play film", "Shows epoch after epoch.", self._play, checkable=True)
        row.addWidget(self.play)
        inside.addLayout(row)
        self.about = label(role="faint", name="film about")
        self.about.setWordWrap(True)
        inside.addWidget(self.about)
        self.sheet = DrawnSheet("film sheet", "images drawn after an epoch")
        inside.addWidget(self.sheet, 1)
        self.timer = QTimer(self)
        self.timer.setInterval(PLAYED)
        self.timer.timeout.connect(self._step)
        self.run, self.epochs = 0, list[int]()

    def show_run(self, run: int) -> None:
        """The film of the run in view."""
        known = self.session.runs.film()
        if run == self.run and known == self.epochs:
            return
        follow = run != self.run or self.slider.value() == self.slider.maximum()
        self.run, self.epochs = run, known
        self.slider.setEnabled(len(known) > 1)
        self.play.setEnabled(len(known) > 1)
        self.slider.blockSignals(True)
        self.slider.setRange(0, max(0, len(known) - 1))
        if follow:
            self.slider.setValue(self.slider.maximum())
        self.slider.blockSignals(False)
        self._show()

    def _show(self) -> None:
        frame = self.session.runs.frame(self.epochs[self.slider.value()]) if self.epochs else None
        if frame is None:
            self.says.setText("Drawings are kept after every epoch, or after some of many.")
            self.about.setText("")
            self.sheet.show_images(())
            return
        self.says.setText(f"Epoch {frame.epoch}")
        below = "; below, of random codes, the same in all epochs" if len(frame.samples) else ""
        if len(frame.images):
            self.about.setText(f"Validation images, and what was drawn of their codes{below}.")
            images = np.concatenate([frame.images, frame.again, frame.samples])
            self.sheet.show_images(list(images), len(frame.images))
            return
        classes, count = self._classes(), len(frame.samples)
        self.about.setText("Drawn of noise, the same in all epochs.")
        if classes and count % len(classes) == 0:  # in turn as they are stored, a row for each here
            rows = frame.samples.reshape(-1, len(classes), *frame.samples.shape[1:]).swapaxes(0, 1)
            images = rows.reshape(frame.samples.shape)
            self.sheet.show_images(list(images), count // len(classes), row_names=classes)
        else:
            self.sheet.show_images(list(frame.samples))

    def _classes(self) -> tuple[str, ...]:
        """That the network is told of; none where it is told none."""
        plan = self.session.runs.plan()
        return self.session.runs.classes() if plan is not None and plan.network.class_inputs else ()

    def _play(self) -> None:
        """From the beginning if it is at its end; or stop."""
        if not self.play.isChecked():
            self.timer.stop()
            return
        if self.slider.value() == self.slider.maximum():
            self.slider.setValue(0)
        self.timer.start()

    def _step(self) -> None:
        self.slider.setValue(self.slider.value() + 1)
        if self.slider.value() >= self.slider.maximum() or not self.isVisible():
            self.play.setChecked(False)
            self.timer.stop()
