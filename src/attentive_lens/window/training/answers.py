"""The confusion matrix of the validation images by epoch, with a slider over the run."""

from __future__ import annotations

import numpy as np
from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import QFrame, QHBoxLayout, QSlider, QVBoxLayout

from attentive_lens.desk.training.curves import answered, confusion
from attentive_lens.desk.training.runs import RunView
from attentive_lens.window.parts.basics import label
from attentive_lens.window.parts.matrix import ConfusionMatrix
from attentive_lens.window.training.last_batch import LastBatchView
from attentive_lens.window.words import percent


class AnswersView(QFrame):
    """Which class was taken for which, epoch by epoch; it follows the last one until the slider is moved."""

    def __init__(self) -> None:
        super().__init__()
        self.setProperty("role", "panel")
        self.setObjectName("answers view")
        inside = QVBoxLayout(self)
        inside.setContentsMargins(16, 10, 16, 10)
        row = QHBoxLayout()
        self.says = label(name="answers say")
        row.addWidget(self.says)
        self.slider = QSlider(Qt.Orientation.Horizontal)
        self.slider.setObjectName("epoch slider")
        self.slider.setAccessibleName("epoch")
        self.slider.setToolTip("The epoch whose answers on the validation images are shown; arrow keys step.")
        self.slider.valueChanged.connect(self._show)
        row.addWidget(self.slider, 1)
        inside.addLayout(row)
        self.matrix = ConfusionMatrix()
        self.matrix.setObjectName("epoch matrix")
        inside.addWidget(self.matrix, 1)
        self.batch = LastBatchView()
        inside.addWidget(self.batch)
        self.epochs = answered(())
        self.classes: list[str] = []
        self._number = -1

    def show_run(self, view: RunView, classes: list[str]) -> None:
        """Another run, or one epoch more of it."""
        epochs = answered(view.epochs)
        if view.number == self._number and len(epochs) == len(self.epochs) and classes == self.classes:
            return
        follow = view.number != self._number or self.slider.value() == self.slider.maximum()
        self._number, self.epochs, self.classes = view.number, epochs, classes
        self.slider.setEnabled(len(epochs) > 1)
        self.slider.blockSignals(True)
        self.slider.setRange(0, max(0, len(epochs) - 1))
        if follow:
            self.slider.setValue(self.slider.maximum())
        self.slider.blockSignals(False)
        self._show()

    def _show(self) -> None:
        if not self.epochs:
            self.says.setText("Answers are recorded after every evaluated epoch.")
            self.matrix.show_counts((), np.zeros((0, 0), np.int64))
            return
        epoch = self.epochs[self.slider.value()]
        accuracy = epoch.validation.main if epoch.validation is not None else 0.0
        self.says.setText(f"Epoch {epoch.epoch}: {percent(accuracy)} of the validation images are right")
        self.matrix.show_counts(*confusion(epoch, self.classes))
