"""Settings of the next run: those that differ from the usual ones, those searched, and those without a part in it."""

from __future__ import annotations

from collections.abc import Iterator

import pytest
from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import QApplication, QLabel, QLineEdit, QPushButton, QWidget
from pytestqt.qtbot import QtBot
from tests.driving import LEFT, child, stage

from attentive_lens.plan.plan import Plan
from attentive_lens.plan.tasks import TASKS
from attentive_lens.window.frame import Frame
from attentive_lens.window.pages.training import TrainingPage


def test_settings_that_differ_are_marked_lead_back_and_are_searched(qtbot: QtBot, shared: Frame) -> None:
    stage(qtbot, shared, "training")
    page, design = shared.page("training"), shared.session.design
    assert isinstance(page, TrainingPage)
    design.change(Plan().changed({"training.epochs": 77, "optimiser.learning_rate": 0.02}))
    design.change(design.plan.changed({"schedule": "cosine"}))
    back = child(shared, QPushButton, "schedule.kind default")
    assert back.isVisible()
    qtbot.mouseClick(back, LEFT)
    assert not back.isVisible()
    assert design.plan.schedule.kind == Plan().schedule.kind
    for name, usual in (("training.epochs", Plan().training.epochs), ("optimiser.learning_rate", 0.001)):
        back = child(shared, QPushButton, f"{name} default")
        assert back.isVisible(), name
        assert f"{usual:g}" in back.toolTip()
        qtbot.mouseClick(back, LEFT)
        assert not back.isVisible(), name
    assert design.plan == Plan()
    search, none = child(shared, QLineEdit, "find setting"), child(shared, QLabel, "no setting")
    fields = [form for _, form in page.settings.forms]
    opened = page.settings.folds[3][0]
    opened.unfold(True)
    before = [form.isVisible() for form in fields]
    search.setText("clipping")
    shown = {name for form in fields for name, widget in _fields(form) if widget.isVisible()}
    assert shown == {"clip_norm"}
    assert not none.isVisible()
    search.setText("no such thing")
    assert none.isVisible()
    qtbot.keyClick(search, Qt.Key.Key_Escape)
    assert search.text() == ""
    assert [form.isVisible() for form in fields] == before
    assert [fold.is_unfolded for fold, _ in page.settings.folds] == [k == 3 for k in range(len(page.settings.folds))]
    opened.unfold(False)
    shared.session.step_back()


@pytest.mark.parametrize("task", TASKS)
def test_settings_without_a_part_in_the_plan_are_not_shown_nor_found(qtbot: QtBot, shared: Frame, task: str) -> None:
    stage(qtbot, shared, "training")
    page, design = shared.page("training"), shared.session.design
    assert isinstance(page, TrainingPage)
    settings = page.settings
    before = design.plan
    design.change(before.changed({"task": task}))
    for fold, _ in settings.folds:
        fold.unfold(True)
    seen = set()
    for words in ("", "s", "loss", "best", "discriminator"):
        child(shared, QLineEdit, "find setting").setText(words)
        for section, form in settings.forms:
            for name, widget in _fields(form):
                if {section, f"{section}.{name}"} & design.plan.idle:
                    assert not widget.isVisible(), (words, section, name)
                elif not words:
                    assert widget.isVisible(), (section, name)
                    seen.add(f"{section}.{name}")
        for fold, parts in settings.folds:
            if {section for section, _ in parts} <= design.plan.idle:
                assert not fold.isVisible()
        if not words:
            QApplication.processEvents()
            rows = dict(_fields(next(form for _, form in settings.forms if "keep_last" in dict(_fields(form)))))
            apart = rows["keep_last"].geometry().top() - rows["evaluate_every"].geometry().bottom()
            between = rows["best_by"].height() + 12 if rows["best_by"].isVisible() else 0
            assert apart - between < 18, "what is left out leaves no gap"
    assert ("training.best_by" in seen, "loss.class_weights" in seen) == (not design.plan.task.draws,) * 2
    child(shared, QLineEdit, "find setting").clear()
    for fold, _ in settings.folds:
        fold.unfold(False)
    design.change(before)


def _fields(form: object) -> Iterator[tuple[str, QWidget]]:
    inner = getattr(form, "_form", form)
    yield from getattr(inner, "_fields", {}).items()
