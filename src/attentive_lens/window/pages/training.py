"""Training, the stage that answers: is it learning, what, and what to do."""

from __future__ import annotations

import time
from functools import partial
from typing import Any

from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import QInputDialog, QProgressBar, QPushButton, QScrollArea, QStackedWidget, QWidget

from attentive_lens.core.records import PlainTable
from attentive_lens.desk import compiling
from attentive_lens.desk.training.controlling import CONTINUE, PAUSE, RATE, STOP, STOP_AFTER_EPOCH
from attentive_lens.desk.training.runs import RunView, resumable
from attentive_lens.plan.optimisers import OptimiserSettings
from attentive_lens.window import look
from attentive_lens.window.pages.base import Page
from attentive_lens.window.parts.basics import OneLine, button, horizontal, label, set_role, vertical, view_button
from attentive_lens.window.parts.contents import Entry
from attentive_lens.window.parts.flow import Flow
from attentive_lens.window.parts.stage_layout import StageLayout
from attentive_lens.window.session import Session
from attentive_lens.window.training.advice import AdviceStrip
from attentive_lens.window.training.answers import AnswersView
from attentive_lens.window.training.curves import CurvesView
from attentive_lens.window.training.film import FilmView
from attentive_lens.window.training.health import HealthView
from attentive_lens.window.training.next_steps import NextStepsView
from attentive_lens.window.training.rates import RatesPanel
from attentive_lens.window.training.runs_list import RunsList
from attentive_lens.window.training.runs_panel import RunsPanel
from attentive_lens.window.training.settings import SettingsPanel
from attentive_lens.window.words import duration, main_figure, short

VIEWS = {
    "curves": "Loss, accuracy and learning rate over the epochs.",
    "layers": "How each layer is doing: size of its steps, gradients and outputs, dead units.",
    "answers": "Which class of the validation images was taken for which, by epoch.",
    "what to do next": "Remedies for this run, what each should gain by a short trial, and what was gained.",
    "all runs": "Every run in a table: what they differ in, how good, and their curves.",
}
"""What can be seen of the run in view, in the order of the stack, and the tips."""
FILM = "What was drawn after each epoch, of the same images and the same random codes."
CURVES, *_, NEXT, ALL = VIEWS
SWEEP = "learning rates"
PLACES = (*VIEWS, SWEEP)
"""Of the stack, in order."""
LIST = 132
"""Pixels of the list of runs."""
TIPS = {"gap": "Of the last epoch, on augmented images and with dropout."}


class TrainingPage(Page):
    """The runs, the one in view, and the settings of the next."""

    key = "training"
    parts: StageLayout

    def __init__(self, session: Session) -> None:
        super().__init__(session)
        self.settings = SettingsPanel(session)
        hero = QWidget()
        outer = vertical(hero, spacing=8)
        self.of_run = QWidget()
        middle = vertical(self.of_run, spacing=8)
        middle.addLayout(self._head())
        self.bar = QProgressBar()
        self.bar.setObjectName("training progress")
        self.bar.setTextVisible(False)
        self.bar.setFixedHeight(4)
        middle.addWidget(self.bar)
        middle.addLayout(self._figures())
        self.problem = label(role="bad", name="training problem")
        self.problem.setWordWrap(True)
        middle.addWidget(self.problem)
        self.advice = AdviceStrip(session)
        middle.addWidget(self.advice)
        self.advice.changed.connect(self.refresh)
        views = horizontal(spacing=0)
        self.views: dict[str, QPushButton] = {}
        for word, tip in VIEWS.items():
            show = partial(self.show_view, word)
            if word == ALL:
                self.views[word] = Entry(word.capitalize(), f"{word} view", tip, show)
            else:
                self.views[word] = view_button(word.capitalize(), f"{word} view", tip, show)
                views.addWidget(self.views[word])
        self.hint = OneLine("training hint", "faint", look.SMALL, whole=True)
        self.hint.setAlignment(Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter)
        views.addWidget(self.hint, 1)
        middle.addLayout(views)
        outer.addWidget(self.of_run)
        self.curves, self.health, self.answers = CurvesView(), HealthView(), AnswersView()
        self.curves.message.connect(session.message)
        self.next = NextStepsView(session)
        self.all, self.rates = RunsPanel(session), RatesPanel(session)
        self.film, self.answers_or_film = FilmView(session), QStackedWidget()
        self.answers_or_film.addWidget(self.answers)
        self.answers_or_film.addWidget(self.film)
        self.shown = QStackedWidget()
        for view in (self.curves, self.health, self.answers_or_film, self.next, self.all, self.rates):
            self.shown.addWidget(view)
        outer.addWidget(self.shown, 1)
        for closing in (self.all.closed, self.rates.closed):
            closing.connect(lambda: self.show_view(CURVES))
        self.all.overlaid.connect(self.refresh)
        self.settings.sweep_asked.connect(self.open_rates)
        self.parts = StageLayout(session, self.key, hero, self._make_evidence(), self._make_list())
        self.settings.head.addWidget(self.parts.wide)
        vertical(self).addWidget(self.parts)

        session.ticked.connect(self.refresh)
        session.runs_changed.connect(self.refresh)
        self.show_view(CURVES)
        self.refresh()

    def _make_list(self) -> QWidget:
        """The runs, and the table of all."""
        list_ = QWidget()
        list_.setFixedWidth(LIST)
        inside = vertical(list_, spacing=6)
        self.runs = RunsList()
        self.runs.chosen.connect(self.session.runs.choose)
        scroll = QScrollArea()
        scroll.setWidgetResizable(True)
        scroll.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        scroll.setWidget(self.runs)
        inside.addWidget(scroll, 1)
        inside.addWidget(self.views["all runs"])
        return list_

    def _make_evidence(self) -> QWidget:
        """The next run's settings."""
        evidence = QWidget()
        scroll = QScrollArea()
        scroll.setWidgetResizable(True)
        scroll.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        scroll.setWidget(self.settings)
        vertical(evidence, margins=(12, 0, 4, 0)).addWidget(scroll)
        return evidence

    def _head(self) -> Flow:
        """The run's name, and what can be done with it."""
        runs, head = self.session.runs, Flow(spacing=8)
        self.title = label(size=look.LARGE, strong=True, name="training title")
        head.addWidget(self.title)
        self.resume = button("Resume", "resume", "Goes on where it was interrupted, with the same result.", runs.resume)
        self.use_plan = button(
            "Use this plan", "use run plan", "Design the next run from the plan of this one.", self.session.use_run_plan
        )
        self.pause = button("Pause", "pause run", "Pauses after its step, with everything on disk.", self._pause)
        self.after_epoch = button(
            "Stop after epoch",
            "stop after epoch",
            "Ends when its epoch is over and evaluated; it can be resumed.",
            lambda: runs.steer(STOP_AFTER_EPOCH),
        )
        self.set_rate = button(
            "Learning rate …",
            "set learning rate",
            "Changes the learning rate from the next step on; a resumed run repeats it.",
            self._ask_rate,
        )
        self.queue = button(
            "Queue the next run",
            "queue run",
            "Trains the plan at the right by itself when this run has ended, with or without the window.",
            self.session.enqueue,
        )
        for each in (self.use_plan, self.resume, self.pause, self.after_epoch, self.set_rate, self.queue):
            head.addWidget(each)
        return head

    def _figures(self) -> Flow:
        row = Flow(spacing=18)
        self.values: dict[str, Any] = {}
        self.captions: dict[str, Any] = {}
        for key, words in (
            ("epoch", "epoch"),
            ("best", "best on validation"),
            ("gap", "on training images"),
            ("speed", "per epoch"),
            ("images", "images a second"),
        ):
            each = QWidget()
            column = vertical(each, spacing=0)
            figure = label("–", size=look.TITLE, strong=True, name=f"figure {key}")
            column.addWidget(figure)
            self.captions[key] = label(words, "faint", look.SMALL)
            column.addWidget(self.captions[key])
            row.addWidget(each)
            self.values[key] = figure
            figure.setToolTip(TIPS.get(key, ""))
        last = QWidget()
        column = vertical(last, spacing=0)
        self.values["time"] = label("–", size=look.TITLE, strong=True, name="figure time")
        self.left = label(role="faint", size=look.SMALL, name="time left")
        column.addWidget(self.values["time"])
        column.addWidget(self.left)
        row.addWidget(last)
        return row

    def show_view(self, name: str) -> None:
        """Show one of `VIEWS`, or the sweep of learning rates."""
        place = PLACES.index(name)
        if place != self.shown.currentIndex():
            self.leaving.emit()
        if name == ALL:
            self.all.refresh()
        if name == NEXT:
            self.next.look_again()
        self.shown.setCurrentIndex(place)
        self.of_run.setHidden(name == ALL)
        self.advice.want(name not in (NEXT, ALL, SWEEP))
        for word, each in self.views.items():
            each.setChecked(word == name)
        self.refresh()

    def open_rates(self) -> None:
        """Sweep the learning rate, in place of the curves."""
        self.show_view(SWEEP)
        self.rates.ask()

    def open_runs(self) -> None:
        """Show all runs, in place of the curves."""
        self.show_view(ALL)

    def bookmark(self) -> PlainTable:
        """The view, and the run."""
        return {"view": PLACES[self.shown.currentIndex()], "run": self.session.runs.current}

    def come_back(self, bookmark: PlainTable) -> None:
        """See `Page`."""
        run = bookmark["run"]
        if isinstance(run, int) and run in self.session.runs.views:
            self.session.runs.choose(run)
        self.show_view(str(bookmark["view"]))

    def state(self) -> str:
        """Epoch, or how it ended."""
        view = self.session.runs.training or self.session.runs.view
        if view is None:
            return ""
        if view.state == "training":
            epoch = f"{min(len(view.epochs) + 1, max(1, view.planned))} of {view.planned}"
            return "paused" if view.paused else epoch
        return view.state

    def action(self) -> tuple[str, bool]:
        """Start, or stop what is running."""
        if self.session.runs.training is not None:
            return "Stop", True
        return "Start training", True

    def act(self) -> None:
        """Start, or stop safely."""
        if self.session.runs.training is not None:
            self.session.runs.steer(STOP)
        else:
            self.session.start()

    def _pause(self) -> None:
        training = self.session.runs.training
        self.session.runs.steer(CONTINUE if training is not None and training.paused else PAUSE)

    def _ask_rate(self) -> None:
        """Ask for a learning rate and leave it for the run."""
        training = self.session.runs.training
        if training is None:
            return
        known = OptimiserSettings.specs()["learning_rate"]
        now = training.batches[-1].learning_rate if training.batches else 0.001
        rate, given = QInputDialog.getDouble(
            self,
            "Learning rate",
            f"Learning rate of run {training.number} from the next step on (now {now:.3g}):",
            now,
            known.low or 0.0,
            known.high or 10.0,
            8,
        )
        if given:
            self.session.runs.steer(RATE, rate)

    def refresh(self) -> None:
        """Draw the run in view."""
        view, training = self.session.runs.view, self.session.runs.training
        self.runs.show_runs(self.session.runs.views, self.session.runs.current)
        steered = view is not None and training is not None and view.number == training.number
        self.use_plan.setVisible(view is not None and not steered)
        self.resume.setVisible(view is not None and resumable(view) and training is None)
        for each in (self.pause, self.after_epoch, self.set_rate):
            each.setVisible(steered)
        self.queue.setVisible(training is not None)
        self.pause.setText("Continue" if steered and view is not None and view.paused else "Pause")
        for word, each in self.views.items():
            each.setVisible(view is not None or word == "curves")
        if view is None:
            self.title.setText("No run yet")
            self.advice.hide()
            self.hint.setText("Start training: the curves grow here. It goes on even if the window is closed.")
            plan = self.session.design.plan
            self.curves.show_classes(list(self.session.runs.classes()), plan.task)
            self.curves.show_nothing(plan.training.epochs)
            self.bar.setValue(0)
            return
        beside = ", ochre: other runs" if self.all.beside else ""
        words = f"Faint: batches, dotted: the best epoch{beside}"
        self.hint.setText(words if self.shown.currentWidget() is self.curves else "")
        states = {"training": "is training", "done": "is done", "stopped": "was stopped", "failed": "failed"}
        states["waiting"] = "waits in the queue"
        state = "is paused" if view.paused else states.get(view.state, "broke off")
        if view.state == "training" and not view.steps[0] and compiling.is_needed():
            state = "is {}: {} of {}".format(compiling.DOING, *compiling.progress())
        self.title.setText(f"Run {view.number} {state}")
        self.title.setToolTip(view.reason)
        done, total = view.steps
        self.bar.setRange(0, max(1, total))
        self.bar.setValue(total if view.state == "done" else done)
        self._show_time(view, done, total)
        self.problem.setText(view.error)
        self.problem.setVisible(bool(view.error))
        self.advice.show_run(view)
        self._show_figures(view)
        self._show_view(view)
        self.action_changed.emit()

    def _show_time(self, view: RunView, done: int, total: int) -> None:
        """What is left of a run that trains, or what one took."""
        if view.state != "training":
            figure = duration(sum(epoch.seconds for epoch in view.epochs)) if view.epochs else "–"
            words = " · ".join(filter(None, ("taken", view.reason.partition(":")[0])))
        elif not view.started or not done:
            figure, words = "–", "starting"
        else:
            gone = time.time() - view.started
            figure, words = duration(gone / done * max(0, total - done)), f"left, after {duration(gone)}"
            words = "left, when it is continued" if view.paused else words
        self.values["time"].setText(figure)
        self.left.setText(words)

    def _show_figures(self, view: RunView) -> None:
        self.values["epoch"].setText(f"{len(view.epochs)} of {view.planned}")
        best = view.best
        held = best.validation if best is not None else None
        self.values["best"].setText(main_figure(held.main_in_words) if held else "–")
        last = view.epochs[-1] if view.epochs else None
        self.values["gap"].setText(main_figure(last.training.main_in_words) if last else "–")
        is_pair = self.session.runs.task.is_pair
        self.captions["best"].setText("variety, validation" if is_pair else "best on validation")
        self.captions["gap"].setText("generator loss" if is_pair else "on training images")
        price = self.session.workspace.run(view.number).price() if last else None
        priced = f", priced {price:.1f}\u202fs" if price is not None else ""
        self.values["speed"].setText(f"{last.seconds:.1f}\u202fs{priced}" if last else "–")
        images = self.session.runs.training_images(view.number) if last is not None and last.seconds else 0
        self.values["images"].setText(short(images / last.seconds) if last is not None and images else "–")
        set_role(self.values["best"], "good" if held else "")

    def _show_view(self, view: RunView) -> None:
        """What is chosen of the run, drawn anew."""
        classes, draws = list(self.session.runs.classes()), self.session.runs.draws
        self.views["answers"].setText("Film" if draws else "Answers")
        several = self.session.runs.task.several
        self.views["answers"].setHidden(several)  # what it shows is one class an image
        if several and self.views["answers"].isChecked():
            self.views["curves"].click()
        self.views["answers"].setToolTip(FILM if draws else VIEWS["answers"])
        shown = self.shown.currentWidget()
        if shown is self.curves:
            views = self.session.runs.views
            others = tuple(views[run] for run in self.all.beside if run in views and run != view.number)
            finding = self.advice.shown
            flags = ((float(finding.epoch), finding.kind),) if finding is not None and finding.epoch else ()
            self.curves.show_classes(classes, self.session.runs.task)
            self.curves.show_run(view, others, flags)
        elif shown is self.next:
            self.next.refresh()
        elif shown is self.health:
            self.health.show_run(view, self.session.runs.plan(), len(classes))
        elif shown is self.answers_or_film and draws:
            self.answers_or_film.setCurrentWidget(self.film)
            self.film.show_run(view.number)
        elif shown is self.answers_or_film:
            self.answers_or_film.setCurrentWidget(self.answers)
            self.answers.show_run(view, classes)
            passing = self.session.runs.last_batch() if view.state == "training" else None
            self.answers.batch.show_batch(passing, classes)
