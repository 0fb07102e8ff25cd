"""The settings of the next run: the usual ones in view, the others folded in groups; forms are made from values."""

from __future__ import annotations

from dataclasses import replace
from functools import partial
from typing import Any

from PyQt6.QtCore import Qt, pyqtSignal
from PyQt6.QtGui import QKeyEvent, QShowEvent
from PyQt6.QtWidgets import QLineEdit, QVBoxLayout, QWidget

from attentive_lens.core.values import Kind
from attentive_lens.desk.network.scheduling import scaled_rate
from attentive_lens.desk.requests.prices import PlanPrice, PricePlan
from attentive_lens.desk.training.cautions import caution_of_sets
from attentive_lens.desk.training.machine import caution_of_machine
from attentive_lens.plan.augmentation import AugmentationStep
from attentive_lens.plan.plan import CHOICES, PAIRED, Plan
from attentive_lens.plan.stopping import STOP_RULES
from attentive_lens.window import look
from attentive_lens.window.parts.basics import button, horizontal, label, panel
from attentive_lens.window.parts.fold import Fold
from attentive_lens.window.parts.form import Form, KindForm
from attentive_lens.window.parts.plan_panel import PlanPanel
from attentive_lens.window.session import Session
from attentive_lens.window.training.schedule import ScheduleChart
from attentive_lens.window.words import duration, thousands

USUAL = {"optimiser": ("learning_rate",), "schedule": (), "task": (), "training": ("epochs", "batch_size")}
"""Fields in view, by section; the others are in the groups. The network brings the task with it."""
GROUPS: tuple[tuple[str, str, tuple[tuple[str, tuple[str, ...] | None], ...]], ...] = (
    (
        "Length and stopping",
        "How often it is evaluated, what the best epoch is chosen by, and rules that end a run.",
        (
            ("training", ("evaluate_every", "best_by", "keep_last", "keep_every", "checkpoint_minutes")),
            ("stopping", None),
        ),
    ),
    (
        "Optimiser and schedule",
        "Momentum, weight decay; the learning rate over the run, drawn as a curve that can be dragged.",
        (("optimiser", None), ("schedule", None)),
    ),
    (
        "Discriminator",
        "How the second network of a pair learns: its own learning rate, optimiser, schedule and starting weights.",
        (("discriminator_optimiser", None), ("discriminator_schedule", None), ("discriminator_initialisation", None)),
    ),
    (
        "Loss and regularisation",
        "What training minimises, class weights; how classes are sampled, clipping, averaged weights.",
        (
            ("task", None),
            ("loss", None),
            ("averaging", None),
            ("training", ("sampling", "clip_norm", "augmentation_variants")),
        ),
    ),
    (
        "Split and preprocessing",
        "Which images are held out to evaluate on, and how an image becomes the network's input.",
        (("split", ("validation_fraction",)), ("preprocessing", None)),
    ),
    (
        "Initialisation and machine",
        "How the weights start; what changes the time it takes, and at most how results are rounded.",
        (("initialisation", None), ("training", ("threads", "precision", "kernels", "evaluation_batch_size"))),
    ),
)
"""Folded settings: heading, tip, and fields by section; None for all of a section that are not in view."""
EVERY_CHOICE = CHOICES | PAIRED
FURTHER = ("rule", "rule_value")
"""Settings of rules that packages bring: of no use where none does."""


class SettingsPanel(QWidget):
    """Forms for the plan's training, split, preprocessing, and the augmentation in words.

    Signals
    -------
    sweep_asked
        Learning rates are to be tried.
    """

    sweep_asked = pyqtSignal()

    def __init__(self, session: Session) -> None:
        super().__init__()
        self.session = session
        outer = QVBoxLayout(self)
        outer.setContentsMargins(0, 0, 0, 0)
        frame, inside = panel("", "settings panel")
        outer.addWidget(frame)
        self.head = horizontal(spacing=8)
        self.head.addWidget(label("The next run", strong=True))
        self.search = QLineEdit()
        self.search.setObjectName("find setting")
        self.search.setAccessibleName("find a setting")
        self.search.setPlaceholderText("find a setting …")
        self.search.setToolTip("Shows the settings whose name or meaning contains this (Esc: all).")
        self.search.setFont(look.font())
        self.search.textChanged.connect(self._find)
        self.head.addWidget(self.search, 1)
        inside.addLayout(self.head)
        self.none = label("No setting's name or meaning contains this.", "faint", name="no setting")
        self.none.hide()
        inside.addWidget(self.none)
        self.forms: list[tuple[str, Form | KindForm]] = []
        plan = session.design.plan
        self._before = plan
        self._size_scaled_from = plan.training.batch_size
        self._scaled: float | None = None
        self._unfolded: list[bool] | None = None
        self.aside: list[QWidget] = [PlanPanel(session)]
        inside.addWidget(self.aside[0])
        inside.addSpacing(6)
        self._add(inside, "training", self._form("training", USUAL["training"]))
        for section in ("optimiser", "schedule"):
            self._add_kind(inside, section, True, USUAL[section])
        self.price = label(role="faint", size=look.SMALL, name="next run price")
        self.price.setWordWrap(True)
        inside.addWidget(self.price)
        self.caution = label(role="warn", size=look.SMALL, name="labels caution")
        self.caution.setWordWrap(True)
        inside.addWidget(self.caution)
        session.pricing.changed.connect(self._show_price)
        session.plan_changed.connect(self._show_price)
        self.offer = button("", "scale rate", "Scales the learning rate with the batch size.", self._scale_rate)
        self.offer.hide()
        inside.addWidget(self.offer, 0, Qt.AlignmentFlag.AlignLeft)
        tip = "Trains for a moment at rising learning rates and shows which make the loss fall."
        sweep = button("Sweep learning rates", "sweep rates", tip, self.sweep_asked.emit)
        inside.addWidget(sweep, 0, Qt.AlignmentFlag.AlignLeft)
        self.folds: list[tuple[Fold, tuple[tuple[str, tuple[str, ...] | None], ...]]] = []
        for title, tip, parts in GROUPS:
            fold = Fold(title, f"{title.lower()} settings", tip)
            inside.addWidget(fold)
            self.folds.append((fold, parts))
            for section, names in parts:
                if section in EVERY_CHOICE:
                    self._add_kind(fold.inside, section, section not in USUAL, None)
                else:
                    self._add(fold.inside, section, self._form(section, names))
            sections = {section for section, _ in parts}
            if "initialisation" in sections:
                self.times = ThreadTimes(session)
                fold.inside.addWidget(self.times)
            if "schedule" in sections:
                self.schedule = ScheduleChart(session)
                fold.inside.addWidget(self.schedule)
        inside.addSpacing(6)
        changes = label("Augmentation", strong=True)
        inside.addWidget(changes)
        self.augmentation = label(role="faint", name="augmentation words")
        self.augmentation.setWordWrap(True)
        inside.addWidget(self.augmentation)
        change = button(
            "Edit augmentation",
            "edit augmentation",
            "Opens the editor.",
            lambda: session.stage_asked.emit("augmentation"),
        )
        inside.addWidget(change, 0, Qt.AlignmentFlag.AlignLeft)
        inside.addStretch()
        self.aside += [self.price, sweep, changes, self.augmentation, change, self.times, self.schedule]
        session.plan_changed.connect(self.refresh)
        self.refresh()

    def _form(self, section: str, names: tuple[str, ...] | None) -> Form:
        """Of fields of a section that is always of one kind; what is not as in a new plan is marked."""
        value = getattr(self.session.design.plan, section)
        names = names or tuple(name for name in value.specs() if len(STOP_RULES) > 1 or name not in FURTHER)
        return Form(value, names, self._changed(section), usual=lambda: getattr(Plan(), section))

    def _find(self, words: str) -> None:
        """Only the settings with these words, wherever they stand; all as they were without any."""
        words = words.strip()
        if words and self._unfolded is None:
            self._unfolded = [fold.is_unfolded for fold, _ in self.folds]
        for each in self.aside:
            each.setHidden(bool(words))
        counts = self._show_matching(words)
        for k, (fold, _) in enumerate(self.folds):
            fold.unfold(bool(words) or bool(self._unfolded and self._unfolded[k]))
        self.none.setVisible(bool(words) and not sum(counts.values()))
        if not words:
            self._unfolded = None
            self.refresh()
            self._show_price()

    def _show_matching(self, words: str) -> dict[QWidget, int]:
        """Only settings with these words, and none that have no part in the plan; how many in each form."""
        idle = self.session.design.plan.idle
        counts: dict[QWidget, int] = {}
        for section, form in self.forms:
            counts[form] = 0 if section in idle else form.show_matching(words, _within(idle, section))
            form.setVisible(counts[form] > 0 if words else section not in idle)
        for fold, _ in self.folds:
            fold.setHidden(not any(count for form, count in counts.items() if fold.isAncestorOf(form)))
        return counts

    def keyPressEvent(self, event: QKeyEvent | None) -> None:
        """Escape shows all settings again."""
        if event is not None and event.key() == Qt.Key.Key_Escape and self.search.text():
            self.search.clear()
        else:
            super().keyPressEvent(event)

    def refresh(self) -> None:
        """Show the plan as it is now."""
        plan = self.session.design.plan
        self.augmentation.setText("\n".join(in_words(step) for step in plan.augmentation) or "none")
        for section, form in self.forms:
            form.show_value(getattr(plan, section))
        if not self.search.text().strip():
            self._show_matching("")
        cautions = (caution_of_sets(plan.task, self.session.images.collection.several), caution_of_machine())
        self.caution.setText(" ".join(filter(None, cautions)))
        self.caution.setVisible(bool(self.caution.text()))
        for fold, parts in self.folds:
            fold.say(", ".join(word for section, names in parts for word in _unusual(plan, section, names)))
        self.schedule.show_plan()
        self._offer_rate(plan)
        if self.search.text().strip():  # of another kind other settings
            self._find(self.search.text())

    def _offer_rate(self, plan: Plan) -> None:
        """Offer to scale the learning rate where the batch size alone was changed, until anything else is."""
        before, self._before = self._before, plan
        if plan == before:
            return
        size = before.training.batch_size
        if replace(before, training=before.training.with_(batch_size=plan.training.batch_size)) != plan:
            self._scaled = None
        elif self._scaled is None:
            self._size_scaled_from = size
        if replace(before, training=plan.training) == plan and size != plan.training.batch_size:
            self._scaled = scaled_rate(plan, self._size_scaled_from)
        self.offer.setVisible(self._scaled is not None)
        if self._scaled is not None:
            self.offer.setText(f"Scale the learning rate to {self._scaled:g}")

    def showEvent(self, event: QShowEvent | None) -> None:
        """The price is measured once somebody looks."""
        super().showEvent(event)
        self.session.pricing.want()
        self._show_price()

    def _show_price(self) -> None:
        """What the run will take here, as far as it is known."""
        plan = self.session.design.plan
        price = self.session.pricing.known(plan) if self.session.design.sound else None
        words = ""
        if price is not None:
            whole = duration(price.epoch_seconds * plan.training.epochs)
            batches = "1 batch" if price.batches == 1 else f"{thousands(price.batches)} batches"
            epoch = f"About {price.epoch_seconds:.2g}\u202fs per epoch of {batches} here"
            words = f"{epoch}, {whole} for {plan.training.epochs} epochs"
        self.price.setText(words)
        self.price.setVisible(bool(words) and not self.search.text())

    def _scale_rate(self) -> None:
        plan = self.session.design.plan
        if self._scaled is not None:
            self.session.design.change(plan.changed({"optimiser.learning_rate": self._scaled}), "the learning rate")

    def _add(self, inside: QVBoxLayout, section: str, form: Form | KindForm) -> None:
        inside.addWidget(form)
        self.forms.append((section, form))

    def _add_kind(self, inside: QVBoxLayout, section: str, choose: bool, names: tuple[str, ...] | None) -> None:
        """A form for a section that is one of several kinds; without names, for the fields that are not usual."""
        usual = USUAL.get(section, ())

        def fields(value: Kind) -> tuple[str, ...]:
            return names if names is not None else tuple(name for name in value.specs() if name not in usual)

        value = getattr(self.session.design.plan, section)
        usually = partial(getattr, Plan(), section)
        form = KindForm(value, EVERY_CHOICE[section], fields, self._changed(section), choose, usually, section)
        self._add(inside, section, form)

    def _changed(self, section: str) -> Any:
        return lambda value: self.session.design.change(replace(self.session.design.plan, **{section: value}))


class ThreadTimes(QWidget):
    """A button that times a batch for each number of threads, and what came of it."""

    def __init__(self, session: Session) -> None:
        super().__init__()
        self.session = session
        inside = QVBoxLayout(self)
        inside.setContentsMargins(0, 0, 0, 0)
        tip = "Times a batch of this plan, forward and whole step, for each number of threads; a few seconds."
        self.time = button("Time threads", "time threads", tip, self.ask)
        inside.addWidget(self.time, 0, Qt.AlignmentFlag.AlignLeft)
        self.says = label(role="faint", name="thread times")
        self.says.setWordWrap(True)
        self.says.hide()
        inside.addWidget(self.says)

    def ask(self) -> None:
        """Measure with the plan as it is."""
        self._say("timing …" if self.session.runs.training is None else "timing, beside the run that trains …")
        plan = self.session.design.plan
        request = PricePlan(self.session.place, plan.write(), threads=True)
        self.session.ask(request, partial(self._show, plan.training.threads), self._say, priority=3, scope="threads")

    def _show(self, chosen: int, price: PlanPrice) -> None:
        lines = [
            f"{each.threads} {'thread' if each.threads == 1 else 'threads'}: {each.forward_seconds * 1000:.3g}\u202fms,"
            f" {each.step_seconds * 1000:.3g}\u202fms"
            for each in price.threads
        ]
        best = min(price.threads, key=lambda each: each.step_seconds)
        if best.threads != chosen:
            lines.append(f"{best.threads} learn soonest; the plan has {chosen}.")
        self._say("A batch: forward, whole step\n" + "\n".join(lines))

    def _say(self, words: str) -> None:
        self.says.setText(words)
        self.says.show()


def _unusual(plan: Plan, section: str, names: tuple[str, ...] | None) -> list[str]:
    """What of some settings is not as in a new plan, in a few words."""
    value, usual = getattr(plan, section), getattr(Plan(), section)
    if section in plan.idle:
        return []
    if section in EVERY_CHOICE and section not in USUAL and value.kind != usual.kind:
        return [value.kind]
    idle = _within(plan.idle, section)
    shown = [
        name for name in names or value.specs() if name not in idle and (names or name not in USUAL.get(section, ()))
    ]
    defaults = type(value)() if section in CHOICES else usual
    return [
        f"{value.specs()[name].label or name} {_short(getattr(value, name))}"
        for name in shown
        if getattr(value, name) != getattr(defaults, name)
    ]


def _within(idle: frozenset[str], section: str) -> frozenset[str]:
    """Names of a section's settings among those that have no part."""
    return frozenset(name for key in idle for part, _, name in (key.partition("."),) if part == section and name)


def _short(value: object) -> str:
    return (
        f"{value:g}" if isinstance(value, float) else "on" if value is True else "off" if value is False else f"{value}"
    )


def in_words(step: AugmentationStep) -> str:
    """A step in a few words: rotate: −30 to 30 degrees."""
    bounds = getattr(step, "range", None)
    if bounds is None:
        return f"{step.kind}: {step.direction}" if hasattr(step, "direction") else step.kind
    unit = step.specs()["range"].unit
    return f"{step.kind}: {bounds[0]:g} to {bounds[1]:g} {unit}".rstrip().replace("-", "\u2212")
