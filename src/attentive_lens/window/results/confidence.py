"""How sure answers are and whether they may be: calibration, right and wrong by confidence, and a threshold."""

from __future__ import annotations

from functools import partial

import numpy as np
from PyQt6.QtCore import QPointF, Qt, pyqtSignal
from PyQt6.QtWidgets import QHBoxLayout, QSlider

from attentive_lens.desk.requests.verifying import Calibrate, Calibrated
from attentive_lens.scoring.measures import THRESHOLDS, Bin
from attentive_lens.scoring.scores import Scores
from attentive_lens.window.parts.basics import button, horizontal, label, vertical
from attentive_lens.window.parts.plot import Plot, figure
from attentive_lens.window.parts.saving import can_be_saved
from attentive_lens.window.parts.unit_square import Line, UnitSquare
from attentive_lens.window.results.behind import Behind
from attentive_lens.window.results.view import ResultsView
from attentive_lens.window.session import Session
from attentive_lens.window.words import percent

SAYS = "dashed: confidence equals accuracy"


class ConfidenceView(ResultsView):
    """Curves and a slider.

    Signals
    -------
    requested
        "wrong and sure", "right but unsure" or "withheld": images that are to be shown.
    """

    requested = pyqtSignal(str)

    word = "confidence"

    def __init__(self, session: Session) -> None:
        super().__init__(session)
        inside = vertical(self, spacing=8, margins=(16, 12, 16, 12))
        row = QHBoxLayout()
        self.square = UnitSquare("Calibration", "how sure", "right", "calibration curve")
        self.bars = BinBars()
        for name, each in (("calibration", self.square), ("confidence", self.bars)):
            can_be_saved(each, name, self.session.message.emit)
        row.addWidget(self.square, 1)
        row.addWidget(self.bars, 1)
        inside.addLayout(row, 1)
        self.says = label(name="confidence says")
        self.says.setWordWrap(True)
        row = QHBoxLayout()
        row.addWidget(self.says, 1)
        tip = "Divide the model's raw scores by the temperature fitted on the validation images, from now on."
        self.keep = button("Keep the temperature", "keep temperature", tip, partial(self._calibrate, undo=False))
        row.addWidget(self.keep)
        tip = "Take the temperature away again."
        self.take_out = button("Take it out", "take temperature out", tip, partial(self._calibrate, undo=True))
        row.addWidget(self.take_out)
        inside.addLayout(row)
        row = horizontal(spacing=8)
        row.addWidget(label("Withhold answers below", "faint"))
        self.slider = QSlider(Qt.Orientation.Horizontal)
        self.slider.setObjectName("threshold")
        self.slider.setAccessibleName("least confidence")
        self.slider.setRange(0, THRESHOLDS)
        self.slider.setToolTip("Answers less confident than this are withheld; arrow keys step.")
        self.slider.valueChanged.connect(self._withhold)
        row.addWidget(self.slider, 1)
        inside.addLayout(row)
        self.cost = label(name="threshold says")
        self.cost.setWordWrap(True)
        inside.addWidget(self.cost)
        row = horizontal(spacing=8)
        for words, tip in (
            ("Wrong and sure", "Wrong answers, the surest first."),
            ("Right but unsure", "Right answers, the least sure first."),
            ("Withheld", "Answers below the threshold, the least sure first."),
        ):
            row.addWidget(button(words, f"show {words.lower()}", tip, partial(self.requested.emit, words.lower())))
        row.addStretch()
        inside.addLayout(row)
        self.scores: Scores | None = None
        self._free()

    def leads_to(self, behind: Behind) -> None:
        """See `ResultsView`."""
        self.requested.connect(lambda kind: behind.by_confidence(kind, self.threshold))

    @property
    def threshold(self) -> float:
        """Below which answers are withheld."""
        return self.slider.value() / THRESHOLDS

    def refresh(self) -> None:
        """Of another run or set; raw scores have no calibration."""
        scores = self.session.scores.current
        if scores is self.scores:
            return
        self.scores = scores
        known = scores is not None and scores.output != "none"
        bins = scores.measures.calibration if scores is not None else ()
        self.square.show_lines(calibration_lines(scores) if scores is not None and known else (), SAYS)
        self.bars.show_bins(bins)
        for each in (self.slider, self.square, self.bars):
            each.setEnabled(known)
        if scores is None or not known:
            self.says.setText("Answers of this model are raw scores, not probabilities." if scores is not None else "")
            self.cost.setText("")
            return
        error, fitted = scores.measures.calibration_error, scores.temperature
        words = f"Answers are off by {percent(error or 0.0)} from how sure they are (expected calibration error)."
        if fitted is not None:
            lean = "too sure" if fitted > 1.05 else "not sure enough" if fitted < 0.95 else "about right"
            words += f" They are {lean}: a temperature of {fitted:.2f} fits them best."
        self.says.setText(words)
        self._withhold()

    def _calibrate(self, undo: bool) -> None:
        run = self.session.runs.in_view
        if run is not None:
            for each in (self.keep, self.take_out):
                each.setEnabled(False)
            request = Calibrate(self.session.place, run, undo)
            self.session.ask(request, self._take_calibrated, self._fail, priority=2, scope="calibrate")

    def _take_calibrated(self, result: Calibrated) -> None:
        self._free()
        self.session.message.emit(" ".join(result.words()), False)
        self.session.scores.forget()

    def _fail(self, words: str) -> None:
        self._free()
        self.session.message.emit(words, True)

    def _free(self) -> None:
        for each in (self.keep, self.take_out):
            each.setEnabled(not self.session.reading_only)

    def _withhold(self) -> None:
        scores = self.scores
        if scores is None or scores.output == "none":
            return
        accepted, right = scores.measures.withheld(self.slider.value())
        wrong, left = int((scores.predicted != scores.true).sum()), right.of - right.count
        answered = f"{percent(accepted.value or 0.0)} of the images are answered"
        of_them = f", {percent(right.value)} of them right" if right.value is not None else ""
        self.cost.setText(f"Below {self.threshold:.0%}: {answered}{of_them}; {left} of {wrong} mistakes are left.")


def calibration_lines(scores: Scores) -> tuple[Line, ...]:
    """How often answers are right by how sure they are, beside the line on which both are the same."""
    bins = [each for each in scores.measures.calibration if each.images and each.confidence is not None]
    met = np.array([(each.confidence, each.right / each.images) for each in bins], np.float64)
    even = Line(np.array([[0.0, 0.0], [1.0, 1.0]]), "faint", dashed=True)
    return (even, Line(met.reshape(-1, 2), dots=True)) if len(met) else ()


class BinBars(Plot):
    """How many answers are how sure: right ones above, wrong ones on them."""

    def __init__(self) -> None:
        super().__init__("Answers", "confidence bars", (16, 16, 44, 24))
        self.setAccessibleName("right and wrong answers by confidence")
        self.set_note("by how sure; red: wrong")
        self.bins: tuple[Bin, ...] = ()

    def show_bins(self, bins: tuple[Bin, ...]) -> None:
        """Others."""
        self.bins = bins
        self.refresh()

    def draw(self) -> None:
        """A bar a bin, and how many it holds."""
        most = max((each.images for each in self.bins), default=0)
        self.set_range((0.0, 1.0), (0.0, max(1, most)), ("%", ""))
        self.set_figures("y", ())
        self.set_figures("x", [(each.low, figure(each.low, "%")) for each in self.bins[::2]])
        for each in self.bins:
            wrong, left, right = each.images - each.right, each.low + 0.01, each.high - 0.01
            self.bars([left], [right], [wrong], [each.images], "petrol")
            self.bars([left], [right], [0], [wrong], "vermilion")
            if each.images:
                self.words(str(each.images), self.place((left + right) / 2, each.images) - QPointF(0, 9), "faint")
