"""Training, the stage that answers: is it learning, and what."""

from __future__ import annotations

import time
from typing import Any

from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import QCheckBox, QHBoxLayout, QProgressBar, QScrollArea, QStackedWidget, QVBoxLayout, QWidget

from attentive_lens.desk.curves import said_by_curves
from attentive_lens.desk.runs import RunView, resumable
from attentive_lens.window import look
from attentive_lens.window.pages.base import Page
from attentive_lens.window.parts.basics import button, label, panel, set_role
from attentive_lens.window.parts.chart import Chart, Curve
from attentive_lens.window.session import Session
from attentive_lens.window.training.rates import RatesPanel
from attentive_lens.window.training.runs_panel import RunsPanel
from attentive_lens.window.training.settings import SettingsPanel
from attentive_lens.window.words import duration, percent


class TrainingPage(Page):
    """Settings at the left, live curves in the middle."""

    key = "training"

    def __init__(self, session: Session) -> None:
        super().__init__(session)
        layout = QHBoxLayout(self)
        layout.setContentsMargins(24, 16, 16, 16)
        layout.setSpacing(20)

        self.settings = SettingsPanel(session)
        scroll = QScrollArea()
        scroll.setWidgetResizable(True)
        scroll.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        scroll.setWidget(self.settings)
        scroll.setFixedWidth(372)
        layout.addWidget(scroll)

        middle = QVBoxLayout()
        middle.setSpacing(10)
        layout.addLayout(middle, 1)
        head = QHBoxLayout()
        self.title = label(size=look.LARGE, strong=True, name="training title")
        head.addWidget(self.title)
        self.resume = button(
            "Resume", "resume", "Goes on where it was interrupted, to the same end.", session.runs.resume
        )
        self.use_plan = button(
            "Use this plan", "use run plan", "Design the next run from the plan of this one.", session.use_run_plan
        )
        self.compare = button(
            "All runs",
            "all runs",
            "Every run in a table: what they differ in, how good, and their curves.",
            self.open_runs,
        )
        head.addSpacing(12)
        head.addWidget(self.compare)
        head.addWidget(self.use_plan)
        head.addWidget(self.resume)
        head.addStretch()
        self.left = label(role="faint", name="time left")
        head.addWidget(self.left)
        middle.addLayout(head)
        self.bar = QProgressBar()
        self.bar.setObjectName("training progress")
        self.bar.setTextVisible(False)
        self.bar.setFixedHeight(4)
        middle.addWidget(self.bar)
        self.figures = QHBoxLayout()
        self.figures.setSpacing(32)
        self.values: dict[str, Any] = {}
        for key, words in (
            ("epoch", "epoch"),
            ("best", "best validation accuracy"),
            ("gap", "training accuracy (augmented)"),
            ("speed", "per epoch"),
        ):
            column = QVBoxLayout()
            column.setSpacing(0)
            figure = label("–", size=look.TITLE, strong=True, name=f"figure {key}")
            column.addWidget(figure)
            column.addWidget(label(words, "faint", look.SMALL))
            self.figures.addLayout(column)
            self.values[key] = figure
        self.figures.addStretch()
        middle.addLayout(self.figures)
        self.problem = label(role="bad", name="training problem")
        self.problem.setWordWrap(True)
        middle.addWidget(self.problem)
        self._said_at: tuple[int, str, int] | None = None
        self.curves_say = label(role="warn", name="said by curves")
        self.curves_say.setWordWrap(True)
        middle.addWidget(self.curves_say)
        self.loss = Chart("Loss", "", "loss chart")
        self.accuracy = Chart("Accuracy", "%", "accuracy chart")
        curves = QWidget()
        below = QVBoxLayout(curves)
        below.setContentsMargins(0, 0, 0, 0)
        below.setSpacing(10)
        self.rate = Chart("Learning rate", "", "rate curve")
        for chart, share in ((self.loss, 4), (self.accuracy, 4), (self.rate, 3)):
            frame, inside = panel()
            inside.setContentsMargins(12, 8, 8, 4)
            inside.addWidget(chart)
            below.addWidget(frame, share)
            chart.pointed.connect(self._share_cursor)
        self.rate_frame = frame
        self.log = QCheckBox("logarithmic", self.loss)
        self.log.setObjectName("log loss")
        self.log.setToolTip("Draws the loss by its logarithm: small differences late in a run are seen.")
        self.log.setFont(look.font(look.SMALL))
        self.log.move(64, 2)
        self.log.toggled.connect(self.loss.show_log)
        self.rates = RatesPanel(session)
        self.shown = QStackedWidget()
        self.shown.addWidget(curves)
        self.shown.addWidget(self.rates)
        middle.addWidget(self.shown, 1)
        self.all = RunsPanel(session)
        self.shown.addWidget(self.all)
        self.all.closed.connect(lambda: self.shown.setCurrentIndex(0))
        self.all.overlaid.connect(self.refresh)
        self.settings.sweep_asked.connect(self.open_rates)
        self.rates.closed.connect(lambda: self.shown.setCurrentIndex(0))
        self.shown.currentChanged.connect(lambda index: self.hint.setVisible(index == 0))
        self.hint = label(role="faint", name="training hint")
        middle.addWidget(self.hint)

        session.ticked.connect(self.refresh)
        session.runs_changed.connect(self.refresh)
        self.refresh()

    def open_rates(self) -> None:
        """Sweep the learning rate, in place of the curves."""
        self.shown.setCurrentIndex(1)
        self.rates.ask()

    def _share_cursor(self, epoch: float) -> None:
        """Read all curves at the epoch that is read in one."""
        for chart in (self.loss, self.accuracy, self.rate):
            chart.show_cursor(epoch)

    def open_runs(self) -> None:
        """Show all runs, in place of the curves."""
        self.all.refresh()
        self.shown.setCurrentIndex(2)

    def state(self) -> str:
        """Epoch, or how it ended."""
        view = self.session.runs.training or self.session.runs.view
        if view is None:
            return ""
        if view.state == "training":
            return f"{min(len(view.epochs) + 1, max(1, view.planned))} of {view.planned}"
        return view.state

    def action(self) -> tuple[str, bool]:
        """Start, or stop what is running."""
        if self.session.runs.training is not None:
            return "Stop", True
        return "Start training", True

    def act(self) -> None:
        """Start, or stop safely."""
        if self.session.runs.training is not None:
            self.session.runs.steer("stop")
        else:
            self.session.start()

    def refresh(self) -> None:
        """Draw the run in view."""
        view = self.session.runs.view
        self.use_plan.setVisible(view is not None)
        self.compare.setVisible(view is not None)
        self.resume.setVisible(view is not None and resumable(view) and self.session.runs.training is None)
        if view is None:
            self.title.setText("No run yet")
            self.curves_say.hide()
            self.hint.setText("Start training: the curves grow here. It goes on even if the window is closed.")
            self.loss.show_curves((), self.session.design.plan.training.epochs)
            self.accuracy.show_curves((), self.session.design.plan.training.epochs)
            self.bar.setValue(0)
            return
        self.hint.setText(
            "Lines: after each epoch. Faint: the loss of single batches. Dotted: the best epoch, which is kept"
            + ("; in ochre the validation of other runs." if self.all.beside else ".")
        )
        words = {"training": "is training", "done": "is done", "stopped": "was stopped", "failed": "failed"}
        self.title.setText(f"Run {view.number} {words.get(view.state, 'broke off')}")
        done, total = view.steps
        self.bar.setRange(0, max(1, total))
        self.bar.setValue(total if view.state == "done" else done)
        self.left.setText(self._time_left(view, done, total))
        self.problem.setText(view.error)
        self.problem.setVisible(bool(view.error))
        self._show_sentences(view)
        self._show_figures(view)
        self._show_curves(view, total)
        self.action_changed.emit()

    def _time_left(self, view: RunView, done: int, total: int) -> str:
        if view.state != "training":
            spent = sum(epoch.seconds for epoch in view.epochs)
            return f"took {duration(spent)}" if view.epochs else ""
        if not view.started or not done:
            return "starting"
        gone = time.time() - view.started
        return f"{duration(gone)} so far · about {duration(gone / done * max(0, total - done))} left"

    def _show_sentences(self, view: RunView) -> None:
        """Once for every epoch and end, not at every tick."""
        at = (view.number, view.state, len(view.epochs))
        if at != self._said_at:
            self._said_at = at
            sentences = said_by_curves(self.session.workspace.run(view.number), view)
            self.curves_say.setText("\n".join(sentences))
        self.curves_say.setVisible(bool(self.curves_say.text()))

    def _show_figures(self, view: RunView) -> None:
        self.values["epoch"].setText(f"{len(view.epochs)} of {view.planned}")
        best = view.best
        held = best.validation if best is not None else None
        self.values["best"].setText(percent(held.accuracy) if held else "–")
        last = view.epochs[-1] if view.epochs else None
        self.values["gap"].setText(percent(last.training.accuracy) if last else "–")
        price = self.session.workspace.run(view.number).price() if last else None
        priced = f", priced {price:.1f}\u2009s" if price is not None else ""
        self.values["speed"].setText(f"{last.seconds:.1f}\u2009s{priced}" if last else "–")
        set_role(self.values["best"], "good" if held else "")

    def _show_curves(self, view: RunView, total: int) -> None:
        per_epoch = max(1, total // max(1, view.planned)) if view.batches else 1
        batches = tuple((batch.step / per_epoch, batch.loss) for batch in view.batches)
        span = max(view.planned, len(view.epochs), 1)

        def curve(part: str, figure: str, of: RunView = view) -> tuple[tuple[float, float], ...]:
            figures = ((epoch.epoch, getattr(epoch, part)) for epoch in of.epochs)
            return tuple((number, getattr(metrics, figure)) for number, metrics in figures if metrics is not None)

        views = self.session.runs.views
        others = [views[run] for run in self.all.beside if run in views and run != view.number]
        span = max([span, *(len(other.epochs) for other in others)])

        def beside(figure: str) -> tuple[Curve, ...]:
            return tuple(Curve(f"run {o.number}", curve("validation", figure, o), "ochre", "dotted") for o in others)

        best = view.best
        marked = float(best.epoch) if best is not None and best.validation is not None else None
        rates = tuple((batch.step / per_epoch, batch.learning_rate) for batch in view.batches if batch.learning_rate)
        self.rate_frame.setVisible(len({rate for _, rate in rates}) > 1)
        self.rate.show_curves((Curve("", rates, "ink"),), span)
        self.loss.show_curves(
            (
                Curve("batches", batches, "faint", "faint"),
                Curve("training", curve("training", "loss"), "ink", "dashed"),
                Curve("validation", curve("validation", "loss"), "petrol"),
                *beside("loss"),
            ),
            span,
            marked,
        )
        self.accuracy.show_curves(
            (
                Curve("training", curve("training", "accuracy"), "ink", "dashed"),
                Curve("validation", curve("validation", "accuracy"), "petrol"),
                *beside("accuracy"),
            ),
            span,
            marked,
        )
