"""The settings of the next run: the usual ones in view, the others folded, each form made from the plan's values."""

from __future__ import annotations

from dataclasses import replace
from typing import Any

from PyQt6.QtCore import Qt, pyqtSignal
from PyQt6.QtWidgets import QVBoxLayout, QWidget

from attentive_lens.core.values import Kind
from attentive_lens.plan.augmentation import AugmentationStep
from attentive_lens.plan.plan import CHOICES
from attentive_lens.window.parts.basics import button, label, panel
from attentive_lens.window.parts.form import Form, KindForm
from attentive_lens.window.parts.plan_panel import PlanPanel
from attentive_lens.window.session import Session

USUAL = {"optimiser": ("learning_rate",), "schedule": (), "training": ("epochs", "batch_size", "threads")}
"""Fields in view, by section; the others are under «More settings»."""


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
        frame, inside = panel("The next run", "settings panel")
        outer.addWidget(frame)
        self.forms: list[tuple[str, Form | KindForm]] = []
        plan = session.design.plan
        inside.addWidget(PlanPanel(session))
        inside.addSpacing(6)
        self._add(inside, "training", Form(plan.training, USUAL["training"], self._changed("training")))
        for section in ("optimiser", "schedule"):
            self._add_kind(inside, section, True, USUAL[section])
        inside.addWidget(
            button(
                "Sweep learning rates",
                "sweep rates",
                "Trains for a moment at rising learning rates and shows which make the loss fall.",
                self.sweep_asked.emit,
            ),
            0,
            Qt.AlignmentFlag.AlignLeft,
        )
        self.more = button(
            "More settings",
            "more settings",
            "Momentum, weight decay, schedule, loss, class weights, initialisation, gradient clipping, kernels.",
            lambda: self.folded.setVisible(self.more.isChecked()),
            checkable=True,
        )
        inside.addWidget(self.more, 0, Qt.AlignmentFlag.AlignLeft)
        self.folded = QWidget()
        self.folded.setObjectName("more form")
        self.folded.hide()
        rest = QVBoxLayout(self.folded)
        rest.setContentsMargins(0, 0, 0, 0)
        rest.setSpacing(6)
        for section in CHOICES:
            self._add_kind(rest, section, section not in USUAL, None)
        others = tuple(name for name in plan.training.specs() if name not in USUAL["training"])
        self._add(rest, "training", Form(plan.training, others, self._changed("training")))
        inside.addWidget(self.folded)
        inside.addSpacing(6)
        inside.addWidget(label("Split and preprocessing", strong=True))
        self._add(inside, "split", Form(plan.split, ("validation_fraction",), self._changed("split")))
        names = tuple(plan.preprocessing.specs())
        self._add(inside, "preprocessing", Form(plan.preprocessing, names, self._changed("preprocessing")))
        inside.addSpacing(6)
        inside.addWidget(label("Augmentation", strong=True))
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
        session.plan_changed.connect(self.refresh)
        self.refresh()

    def refresh(self) -> None:
        """Show the plan as it is now."""
        plan = self.session.design.plan
        self.augmentation.setText("\n".join(in_words(step) for step in plan.augmentation) or "none")
        for section, form in self.forms:
            form.show_value(getattr(plan, section))

    def _add(self, inside: QVBoxLayout, section: str, form: Form | KindForm) -> None:
        inside.addWidget(form)
        self.forms.append((section, form))

    def _add_kind(self, inside: QVBoxLayout, section: str, choose: bool, names: tuple[str, ...] | None) -> None:
        """A form for a section that is one of several kinds; without names, for the fields that are not usual."""
        usual = USUAL.get(section, ())

        def fields(value: Kind) -> tuple[str, ...]:
            return names if names is not None else tuple(name for name in value.specs() if name not in usual)

        value = getattr(self.session.design.plan, section)
        self._add(inside, section, KindForm(value, CHOICES[section], fields, self._changed(section), choose))

    def _changed(self, section: str) -> Any:
        return lambda value: self.session.design.change(replace(self.session.design.plan, **{section: value}))


def in_words(step: AugmentationStep) -> str:
    """A step in a few words: rotate: −30 to 30 degrees."""
    bounds = getattr(step, "range", None)
    if bounds is None:
        return f"{step.kind}: {step.direction}" if hasattr(step, "direction") else step.kind
    unit = step.specs()["range"].unit
    return f"{step.kind}: {bounds[0]:g} to {bounds[1]:g} {unit}".rstrip().replace("-", "\u2212")
