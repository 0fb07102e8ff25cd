"""What to do next: remedies of the run in view, what each should gain, and what came of those that were trained."""

from __future__ import annotations

from functools import partial

from PyQt6.QtCore import QPointF, QRectF, QSize, pyqtSignal
from PyQt6.QtGui import QPainter, QPaintEvent
from PyQt6.QtWidgets import QFrame, QLabel, QScrollArea, QSizePolicy, QWidget

from attentive_lens.desk.remedies.forecasts import note_use
from attentive_lens.desk.requests.remedies import MOST, Forecast, NextStep, NextSteps, WhatNext, points
from attentive_lens.plan.measures import MEASURES
from attentive_lens.plan.plan import Plan
from attentive_lens.window import look
from attentive_lens.window.parts.basics import button, horizontal, label, retire, set_role, vertical
from attentive_lens.window.session import Session
from attentive_lens.window.words import duration, percent, thousands

REACH = 0.1
"""Gain that a bar's ends stand for; what is beyond ends there."""
FIGURE = 118
"""Pixels of the figures beside the bars."""


class ForecastBar(QWidget):
    """From where to where a gain should lie, and the one expected; the line in the middle is no gain at all."""

    def __init__(self, made: Forecast) -> None:
        super().__init__()
        self.made = made
        self.setObjectName("forecast bar")
        self.setFixedSize(QSize(136, 22))

    def place(self, gain: float) -> float:
        """Pixels from the left of a gain."""
        return (max(-1.0, min(1.0, gain / REACH)) + 1) / 2 * (self.width() - 8) + 4

    def paintEvent(self, event: QPaintEvent | None) -> None:
        """Zero, limits, dot."""
        t, painter = look.theme, QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        low, high = self.place(self.made.low), self.place(self.made.high)
        role = "petrol" if self.made.helps else "faint"
        soft = t.colour(role)
        soft.setAlpha(70)
        painter.fillRect(QRectF(low, 8, high - low, 6), soft)
        painter.fillRect(QRectF(self.place(0) - 0.5, 2, 1, 18), t.colour("ink"))
        painter.setBrush(t.colour(role))
        painter.setPen(t.colour(role))
        painter.drawEllipse(QPointF(self.place(self.made.gain), 11), 3.5, 3.5)


class StepRow(QFrame):
    """A remedy: what to do, why, what it should gain, and its button.

    Signals
    -------
    used
        It is to be put into the next run's plan.
    """

    used = pyqtSignal()

    def __init__(self, place: int, step: NextStep, measure: str) -> None:
        super().__init__()
        self.step = step
        self.setObjectName(f"step row {place}")
        outer = horizontal(self, spacing=14, margins=(4, 6, 4, 6))
        words = vertical(spacing=1)
        outer.addLayout(words, 1)
        self.remedy = label(step.remedy, strong=place == 0, name=f"step remedy {place}")
        words.addStretch()
        for line in filter(None, (self.remedy, self._reason(place))):
            line.setWordWrap(True)
            line.setSizePolicy(QSizePolicy.Policy.Ignored, QSizePolicy.Policy.Preferred)
            words.addWidget(line)
        words.addStretch()
        changes = "\n".join(f"{each.key}: {each.one or '–'} → {each.other or '–'}" for each in step.changes[:12])
        self.setToolTip("\n\n".join(filter(None, (step.meaning, step.expected, changes))))
        if step.forecast is not None and step.run is None:
            bar = ForecastBar(step.forecast)
            bar.setToolTip(in_words(step, step.forecast))
            bar.setAccessibleName(in_words(step, step.forecast))
            outer.addWidget(bar)
        figures = vertical(spacing=0)
        outer.addLayout(figures)
        figures.addStretch()
        for figure_words, role, size in figures_of(step, measure):
            figure = label(figure_words, role, size, name=f"step figure {place}" if size != look.SMALL else "")
            figure.setFixedWidth(FIGURE)
            figures.addWidget(figure)
        figures.addStretch()
        self.use = button("Use", f"use step {place}", "Puts the remedy into the next run's plan.", self.used.emit)
        self.use.setAccessibleName(f"use: {step.remedy}")
        self.use.setEnabled(step.plan is not None)
        outer.addWidget(self.use)

    def _reason(self, place: int) -> QLabel | None:
        words = reason(self.step)
        return label(words, "faint", look.SMALL, name=f"step reason {place}") if words else None


def reason(step: NextStep) -> str:
    """Why it stands on the list, or what its trial came to."""
    if step.problem:
        return f"{step.problem[:1].upper()}{step.problem[1:]}."
    if step.source == "together" and not step.tried:
        return "What is expected to help, at once."
    if step.evidence:
        since = f" since epoch {step.epoch}" if step.epoch else ""
        return f"{step.kind.capitalize()}{since}: {step.evidence}."
    made = step.forecast
    if made is not None and step.tried and step.run is None:
        return f"After {made.epochs} epochs {percent(made.trial)}, the plan as it is {percent(made.control)}."
    return f"As it was tried for run {made.run}." if made is not None and step.run is None else ""


def figures_of(step: NextStep, measure: str) -> list[tuple[str, str, int]]:
    """What is known of its gain: words, their role and size; its measure where that is another than the list's."""
    if step.gain is not None:
        return [(points(step.gain), "good" if step.gain > 0 else "bad", look.TEXT),
                (f"gained in run {step.run}", "faint", look.SMALL)]  # fmt: skip
    made = step.forecast
    if made is None:
        return [("not tried" if step.can_be_tried else "", "faint", look.SMALL)]
    role = "good" if made.helps else "faint"
    limits = f"{points(made.low)} to {points(made.high)}"
    other = [(MEASURES[made.measure].label, "faint", look.SMALL)] if made.measure != measure else []
    return [(points(made.gain), role, look.TEXT), (limits, "faint", look.SMALL), *other]


def in_words(step: NextStep, made: Forecast) -> str:
    """What a forecast stands on."""
    measure = MEASURES[made.measure].label
    if step.source == "together" and not step.tried:
        return f"{made.words} points of {measure} expected: seven tenths of what its parts should gain."
    trials = (
        f"After {made.epochs} epochs it had {percent(made.trial)} {measure}, the plan as it is {percent(made.control)}"
    )
    of = "" if step.tried else f"; tried for run {made.run}, so less sure here"
    return f"{made.words} points of {measure} expected, four times of five. {trials}{of}."


class NextStepsView(QFrame):
    """The list, and the button that has remedies tried."""

    def __init__(self, session: Session) -> None:
        super().__init__()
        self.session = session
        set_role(self, "panel")
        self.setObjectName("next steps")
        self.steps: NextSteps | None = None
        self.rows: list[StepRow] = []
        self.trying = False
        self._asked: tuple[object, ...] = ()
        inside = vertical(self, spacing=8, margins=(16, 12, 12, 12))
        row = horizontal(spacing=8)
        self.says = label(role="faint", name="next steps says")
        self.says.setWordWrap(True)
        row.addWidget(self.says, 1)
        tip = "Trains remedies, and the plan as it is, for a part of the epochs with the same seed; what is done stays."
        self.start = button("Try", "try remedies", tip, self._press)
        row.addWidget(self.start)
        inside.addLayout(row)
        listed = QWidget()
        self.column = vertical(listed, spacing=0, margins=(0, 0, 4, 0))
        self.column.addStretch()
        scroll = QScrollArea()
        scroll.setWidgetResizable(True)
        scroll.setWidget(listed)
        inside.addWidget(scroll, 1)
        self.calibration = label(role="faint", size=look.SMALL, name="forecasts so far")
        self.calibration.setWordWrap(True)
        inside.addWidget(self.calibration)

    def look_again(self) -> None:
        """It is opened: causes may have been looked for since."""
        self._asked = ()
        self.refresh()

    def refresh(self) -> None:
        """Ask for the list where another run is in view, or one that may have trained a remedy stands otherwise."""
        view = self.session.runs.view
        if view is None:
            return
        others = tuple((number, other.state) for number, other in self.session.runs.views.items())
        at = (view.number, view.state, len(view.epochs), others)
        if at != self._asked:
            self._asked = at
            if self.steps is not None and self.steps.run != view.number:
                self._show(None)
                self.trying = False
            if not self.trying:
                self._ask(0)

    def _ask(self, tries: int) -> None:
        """A newer request ends trials that are under way."""
        number = self.session.runs.current
        if number is not None:
            request = WhatNext(self.session.place, number, tries)
            self.session.ask(
                request, partial(self._take, tries), self._fail, priority=7 if tries else 4, scope="next steps"
            )

    def _press(self) -> None:
        """Try, or stop trying."""
        self.trying = not self.trying
        self._ask(MOST if self.trying else 0)
        self._tell()

    def _fail(self, sentence: str) -> None:
        self.trying = False
        self._tell()
        self.says.setText(sentence)

    def _take(self, tries: int, steps: NextSteps) -> None:
        if steps.run != self.session.runs.current:
            return
        if tries:
            self.trying = steps.under_way > 0
        self._show(steps)

    def _show(self, steps: NextSteps | None) -> None:
        self.steps = steps
        for row in self.rows:
            retire(row)
        self.rows = []
        for place, step in enumerate(steps.steps if steps is not None else ()):
            row = StepRow(place, step, steps.measure if steps is not None else "accuracy")
            row.used.connect(partial(self._use, step))
            self.column.insertWidget(place, row)
            self.rows.append(row)
        self.calibration.setText(steps.calibration if steps is not None else "")
        self.calibration.setVisible(bool(steps is not None and steps.calibration))
        self._tell()

    def _tell(self) -> None:
        """The line above the list, and the button beside it."""
        steps = self.steps
        left = sum(step.can_be_tried for step in steps.steps) if steps is not None else 0
        can = steps is not None and steps.state != "training" and steps.value is not None
        self.start.setVisible(self.trying or (can and left > 0))
        price = f" · about {duration(steps.seconds)}" if steps is not None and steps.seconds else ""
        self.start.setText("Stop trying" if self.trying else f"Try {min(left, MOST)} of {left}{price}")
        if steps is None:
            self.says.setText("Looking for what could be done …")
        elif self.trying:
            more = f": {steps.under_way} to come" if steps.under_way else ""
            self.says.setText(f"Training remedies for a short while, each against the plan as it is{more} …")
        elif steps.state == "training":
            self.says.setText(
                "Remedies are tried when the run is over." if steps.steps else "Nothing speaks against it."
            )
        elif steps.value is None:
            self.says.setText("Without validation images nothing tells what helps.")
        else:
            measure = MEASURES[steps.measure].label
            self.says.setText(
                f"Gains in points of {measure}, over the {percent(steps.value)} of run {steps.run} on"
                f" {thousands(steps.images)} validation images. {steps.comparison}".rstrip()
            )

    def _use(self, step: NextStep) -> None:
        if step.plan is not None and self.steps is not None:
            note_use(self.session.workspace, self.steps.run, step)
            self.session.design.change(Plan.read(step.plan), f"the remedy «{step.kind}»")
            self.session.message.emit(f"The next run has the remedy: {step.remedy} Start training to try it.", False)
