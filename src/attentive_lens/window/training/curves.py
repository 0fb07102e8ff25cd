"""The curves of a run: loss, a measure and the learning rate over epochs or images, with one cursor and one stretch."""

from __future__ import annotations

from pathlib import Path

import numpy as np
from PyQt6.QtCore import Qt, pyqtSignal
from PyQt6.QtWidgets import QCheckBox, QFileDialog, QHBoxLayout, QSpinBox, QWidget

from attentive_lens.desk.training.curves import curve, smoothed
from attentive_lens.desk.training.references import Reference, read_reference
from attentive_lens.desk.training.runs import RunView
from attentive_lens.errors import LensError
from attentive_lens.plan.tasks import Classify, TaskSettings
from attentive_lens.window import look
from attentive_lens.window.parts.basics import button, chooser, horizontal, panel, vertical
from attentive_lens.window.parts.chart import Chart, Curve

MOST_SMOOTHED = 99
OVER = ("over epochs", "over images seen")


class CurvesView(QWidget):
    """Three charts; the measure of the second is chosen, the third is there where the learning rate changes.

    Signals
    -------
    message
        A sentence, and whether it is bad news.
    """

    message = pyqtSignal(str, bool)

    def __init__(self) -> None:
        super().__init__()
        self.setObjectName("curves view")
        below = vertical(self, spacing=10)
        self.loss = Chart("Loss", "", "loss chart")
        self.accuracy = Chart("", "%", "accuracy chart")
        self.accuracy.setAccessibleName("measure")
        self.rate = Chart("Learning rate", "", "rate curve")
        for chart, share in ((self.loss, 4), (self.accuracy, 4), (self.rate, 3)):
            frame, inside = panel()
            inside.setContentsMargins(12, 8, 8, 4)
            inside.addWidget(chart)
            below.addWidget(frame, share)
            chart.pointed.connect(self._share_cursor)
            chart.zoomed.connect(self._share_stretch)
            chart.setToolTip("Drag along a chart to zoom in; a double click shows all again.")
        self.rate_frame = frame
        tools = vertical(self.loss, spacing=8, margins=(64, 0, 8, 0))
        self.log = QCheckBox("logarithmic")
        self.log.setObjectName("log loss")
        self.log.setToolTip("Logarithmic axis of the loss: shows small differences late in a run.")
        self.log.setFont(look.font(look.SMALL))
        self.log.toggled.connect(self.loss.show_log)
        self.smoothing = QSpinBox()
        self.smoothing.setObjectName("smoothing")
        self.smoothing.setAccessibleName("smoothing, in epochs")
        self.smoothing.setRange(1, MOST_SMOOTHED)
        self.smoothing.setSingleStep(2)
        self.smoothing.setSuffix(" epochs")
        self.smoothing.setSpecialValueText("not smoothed")
        self.smoothing.setToolTip("Moving average over so many epochs, the raw curve faintly behind.")
        self.smoothing.setFont(look.font(look.SMALL))
        self.smoothing.setFixedWidth(112)
        self.smoothing.valueChanged.connect(self._draw)
        self.over = chooser("curve axis", "what curves run over", "Epochs, or training images seen.", OVER)
        self.over.currentIndexChanged.connect(self._draw)
        tip = "Logarithmic loss, smoothing, epochs or images along the axis, a reference curve from a file."
        self.drawing = button("", "how curves are drawn", tip, self._turn, checkable=True)
        self.drawing.setProperty("role", "fold")
        self.drawing.setAccessibleName("how curves are drawn")
        self.tools = QWidget()
        row = horizontal(self.tools, spacing=8)
        row.addWidget(self.log)
        row.addWidget(self.smoothing)
        row.addWidget(self.over)
        self.reference_button = button(
            "Reference …",
            "reference curve",
            "Draws a curve from a CSV file (columns epoch or images, then accuracy, loss; or bound, of what draws).",
            self._ask_reference,
        )
        self.reference_button.setFont(look.font(look.SMALL))
        row.addWidget(self.reference_button)
        head = horizontal(spacing=8)
        head.addWidget(self.drawing)
        head.addWidget(self.tools)
        head.addStretch()
        tools.addLayout(head)
        tools.addStretch()
        self._turn()
        head = QHBoxLayout(self.accuracy)
        head.setContentsMargins(0, 0, 8, 0)
        self.measure = chooser(
            "curve measure", "measure", "What is drawn: of all validation images, or of the images of one class."
        )
        self.measure.setMinimumWidth(180)
        self.measure.setMaxVisibleItems(20)
        self.measure.currentIndexChanged.connect(self._draw)
        head.addWidget(self.measure, 0, Qt.AlignmentFlag.AlignTop | Qt.AlignmentFlag.AlignLeft)
        head.addStretch()
        self.reference: Reference | None = None
        self._classes: tuple[list[str], TaskSettings] | None = None
        self._of: tuple[RunView, tuple[RunView, ...], tuple[tuple[float, str], ...]] | None = None
        self.show_classes([])

    def show_classes(self, classes: list[str], task: TaskSettings | None = None) -> None:
        """Offer the measures of a task, and those of each class where it answers them."""
        task = task or Classify()
        if (classes, task) == self._classes:
            return
        self._classes = (classes, task)
        chosen = self.measure.currentData()
        self.measure.blockSignals(True)
        self.measure.clear()
        for measure in task.measures.values():
            if measure.name != "loss":
                self.measure.addItem(measure.label, measure.name)
        for number, name in enumerate(() if task.draws or task.several else classes):
            self.measure.addItem(f"accuracy of {name}", f"accuracy {number}")
            self.measure.addItem(f"loss of {name}", f"loss {number}")
        self.measure.setCurrentIndex(max(0, self.measure.findData(chosen)))
        self.measure.blockSignals(False)

    def show_nothing(self, epochs: int) -> None:
        """Empty charts over so many epochs to come."""
        self._of = None
        self._set_unit()
        for chart in (self.loss, self.accuracy):
            chart.show_curves((), epochs)
        self.rate_frame.hide()

    def show_run(self, view: RunView, others: tuple[RunView, ...], flags: tuple[tuple[float, str], ...]) -> None:
        """Draw a run, others' validation beside it, and what began where."""
        self._of = (view, others, flags)
        self._draw()

    def _turn(self) -> None:
        """Unfold how the curves are drawn, or fold it."""
        unfolded = self.drawing.isChecked()
        self.drawing.setText("▾" if unfolded else "▸ scale and smoothing")
        self.tools.setVisible(unfolded)

    def _ask_reference(self) -> None:
        """Ask for a file, or take its curve off."""
        if self.reference is not None:
            self.reference = None
        else:
            file, _ = QFileDialog.getOpenFileName(self, "Reference curve", "", "Tables (*.csv *.tsv *.txt)")
            if not file:
                return
            try:
                self.reference = read_reference(Path(file))
            except LensError as error:
                self.message.emit(str(error), True)
                return
        self.reference_button.setText("Take reference off" if self.reference is not None else "Reference …")
        self._draw()

    def _share_cursor(self, epoch: float) -> None:
        for chart in (self.loss, self.accuracy, self.rate):
            chart.show_cursor(epoch)

    def _share_stretch(self, low: float, high: float) -> None:
        for chart in (self.loss, self.accuracy, self.rate):
            chart.show_stretch(low, high)

    def _draw(self) -> None:
        if self._of is None:
            return
        view, others, flags = self._of
        self.over.setEnabled(bool(view.images_of_epoch))
        for chart in (self.loss, self.accuracy, self.rate):
            chart.images = view.images_of_epoch if self.over.currentText() == OVER[1] else 0
        per_epoch = view.per_epoch
        span = max([view.planned, 1, *(len(each.epochs) for each in (view, *others))])
        best = view.best
        marked = float(best.epoch) if best is not None and best.validation is not None else None
        batches = np.array([(batch.step / per_epoch, batch.loss) for batch in view.batches]).reshape(-1, 2)
        loss = [Curve("batches", batches, "faint", "faint"), *self._pair(view, others, "loss")]
        self.loss.show_curves(tuple(loss), span, marked, flags)
        self._set_unit()
        self.accuracy.show_curves(tuple(self._pair(view, others, self.measure.currentData())), span, marked)
        rates = tuple((batch.step / per_epoch, batch.learning_rate) for batch in view.batches if batch.learning_rate)
        self.rate_frame.setVisible(len({rate for _, rate in rates}) > 1)
        set_rates = tuple((event.step / per_epoch, f"set to {event.learning_rate:g}") for event in view.rates)
        self.rate.show_curves((Curve("", rates, "ink"),), span, flags=set_rates)

    def _set_unit(self) -> None:
        """Hundredths where what is chosen is a part of something."""
        chosen = str(self.measure.currentData())
        task = self._classes[1] if self._classes is not None else Classify()
        measure = task.measures.get(chosen)
        is_share = measure.is_share if measure is not None else not chosen.startswith("loss")
        self.accuracy.unit = "%" if is_share else ""

    def _pair(self, view: RunView, others: tuple[RunView, ...], measure: str) -> list[Curve]:
        """Training and validation of a run, and the validation of others."""
        curves = []
        for name, role, style in (("training", "ink", "dashed"), ("validation", "petrol", "line")):
            points = curve(view.epochs, name, measure)
            if self.smoothing.value() > 1 and len(points) > 2:
                curves.append(Curve("", points, role, "faint"))
                points = smoothed(points, self.smoothing.value())
            curves.append(Curve(name, points, role, style))
        if self.reference is not None and self.reference.curves.get(measure):
            share = view.images_of_epoch if self.reference.in_images else 1
            known = tuple((x / max(1, share), y) for x, y in self.reference.curves[measure])
            curves.append(Curve(self.reference.name[:14], known, "vermilion", "dotted"))
        for other in others:
            points = curve(other.epochs, "validation", measure)
            if self.loss.images and other.images_of_epoch:
                points = tuple((x * other.images_of_epoch / self.loss.images, y) for x, y in points)
            curves.append(Curve(f"run {other.number}", points, "ochre", "dotted"))
        return curves
