"""Forms made from descriptions: every kind of every table has one, what is entered arrives, what is wrong is said."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

import pytest
from PyQt6.QtWidgets import QCheckBox, QComboBox, QLabel, QLineEdit, QPushButton, QSpinBox, QWidget
from pytestqt.qtbot import QtBot

from attentive_lens.core.values import Kind, Value
from attentive_lens.plan.augmentation import STEPS
from attentive_lens.plan.averaging import AVERAGING
from attentive_lens.plan.initialisations import INITIALISATIONS
from attentive_lens.plan.layers import LAYERS
from attentive_lens.plan.losses import LOSSES
from attentive_lens.plan.optimisers import OPTIMISERS, Adam
from attentive_lens.plan.preprocessing import Preprocessing
from attentive_lens.plan.schedules import SCHEDULES
from attentive_lens.plan.split import Split
from attentive_lens.plan.stopping import Stopping
from attentive_lens.plan.training import Training
from attentive_lens.window.frame import Frame
from attentive_lens.window.parts.basics import TIP, in_lines
from attentive_lens.window.parts.form import Form, KindForm
from attentive_lens.window.training.settings import in_words
from attentive_lens.workspace import Workspace

OpenFrame = Callable[[Workspace], Frame]
CHOICES: dict[str, dict[str, type[Kind]]] = {
    "optimiser": dict(OPTIMISERS),
    "schedule": dict(SCHEDULES),
    "loss": dict(LOSSES),
    "initialisation": dict(INITIALISATIONS),
    "averaging": dict(AVERAGING),
}
VALUES: list[type[Value]] = [
    *(cls for rows in CHOICES.values() for cls in rows.values()),
    *LAYERS.values(),
    Preprocessing,
    Split,
    Training,
    Stopping,
]


def editable(cls: type[Value]) -> tuple[str, ...]:
    """Fields that a form can show: all but lists."""
    return tuple(name for name in cls.specs() if cls.types()[name] in (int, float, str, bool))


@pytest.mark.parametrize("cls", VALUES, ids=lambda cls: cls.title)
def test_every_value_has_a_form_that_says_what_it_is(qtbot: QtBot, cls: type[Value]) -> None:
    try:
        value = cls()
    except TypeError:
        return  # it cannot be without a number
    form = Form(value, editable(cls), lambda _: None)
    qtbot.addWidget(form)
    words = {own.text() for own in form.findChildren(QLabel)}
    for name in editable(cls):
        known = cls.specs()[name]
        assert (known.label or name) in words
        section = value.section if isinstance(value, Kind) and value.section else value.title
        made = form.findChild(QWidget, f"{section}.{name}")
        assert made is not None
        assert made.toolTip() == in_lines(known.tip)
        assert made.accessibleName() == (known.label or name)


def enter(form: QWidget, section: str, name: str, value: Any) -> None:
    """Enter a value as somebody would."""
    made = form.findChild(QWidget, f"{section}.{name}")
    if isinstance(made, QComboBox):
        made.setCurrentIndex(made.findData(value))
    elif isinstance(made, QCheckBox):
        made.setChecked(value)
    elif isinstance(made, QSpinBox):
        made.setValue(value)
    elif isinstance(made, QLineEdit):
        made.setText(str(value))
        made.editingFinished.emit()
    else:
        raise AssertionError(f"no field {section}.{name}")


def other(cls: type[Value], name: str, now: Any) -> Any:
    """Another value that the field can have."""
    known, kind = cls.specs()[name], cls.types()[name]
    if known.choices:
        return next(choice for choice in known.choices if choice != now)
    if kind is bool:
        return not now
    if kind is str:
        return f"{now}x"
    low = 0 if known.low is None else known.low
    high = low + 10 if known.high is None else known.high
    wanted = low if now != low else (low + high) / 2
    return round(wanted) if kind is int else float(f"{wanted:g}")


@pytest.mark.parametrize("cls", VALUES, ids=lambda cls: cls.title)
def test_what_is_entered_arrives_or_is_refused_in_words(qtbot: QtBot, cls: type[Value]) -> None:
    try:
        value = cls()
    except TypeError:
        return
    section = value.section if isinstance(value, Kind) and value.section else value.title
    for name in editable(cls):
        if len(cls.specs()[name].choices) == 1:
            continue  # where no package brings another one there is nothing to choose
        arrived: list[Value] = []
        form = Form(value, editable(cls), arrived.append)
        qtbot.addWidget(form)
        wanted = other(cls, name, getattr(value, name))
        enter(form, section, name, wanted)
        if form.problem.isVisibleTo(form):
            assert form.problem.text(), name
            assert form.value == value, name
        else:
            assert arrived, name
            entered = getattr(arrived[-1], name)
            assert entered == (pytest.approx(wanted) if isinstance(wanted, float) else wanted), name


@pytest.mark.parametrize("section", CHOICES)
def test_another_kind_brings_its_own_fields(qtbot: QtBot, section: str) -> None:
    rows = CHOICES[section]
    first = next(iter(rows.values()))()
    arrived: list[Kind] = []
    form = KindForm(first, rows, lambda value: tuple(value.specs()), arrived.append)
    qtbot.addWidget(form)
    assert form.kind is not None
    assert [form.kind.itemText(k) for k in range(form.kind.count())] == list(rows)
    for kind, cls in rows.items():
        form.kind.setCurrentIndex(form.kind.findData(kind))
        assert form.value.kind == kind
        inner = form._form
        assert inner is not None
        assert set(inner._fields) == set(cls.specs())
        assert form.kind.toolTip() == cls.idea
    assert [own.kind for own in arrived] == list(rows)[1:]


def test_a_number_is_taken_with_a_comma_and_letters_are_not(qtbot: QtBot) -> None:
    arrived: list[Value] = []
    form = Form(OPTIMISERS["adam"](), ("learning_rate", "beta1"), arrived.append)
    qtbot.addWidget(form)
    enter(form, "optimiser", "learning_rate", "0,01")
    assert arrived[-1].learning_rate == 0.01  # type: ignore[attr-defined]
    enter(form, "optimiser", "beta1", "2")
    assert "above the most" in form.problem.text()
    enter(form, "optimiser", "beta1", "nan")
    assert "not a number" in form.problem.text()
    enter(form, "optimiser", "beta1", "")
    assert "«» is not a number; 0.9 stays." in form.problem.text()
    enter(form, "optimiser", "beta1", "0.5")
    assert not form.problem.isVisibleTo(form)
    assert arrived[-1].beta1 == 0.5  # type: ignore[attr-defined]


def test_the_training_page_chooses_optimiser_schedule_and_loss(
    qtbot: QtBot, open_frame: OpenFrame, station: Workspace
) -> None:
    frame = open_frame(station)
    frame.show_stage("training")
    page, design = frame.page("training"), frame.session.design
    for group in ("optimiser and schedule", "loss and regularisation", "initialisation and machine"):
        heading = page.findChild(QPushButton, f"{group} settings")
        assert heading is not None
        heading.click()
    for section, kind, field, entered in (
        ("optimiser", "sgd", "momentum", "0.5"),
        ("schedule", "step", "gamma", "0.3"),
        ("loss", "squared error", None, None),
        ("initialisation", "orthogonal", None, None),
    ):
        box = page.findChild(QComboBox, f"{section}.kind")
        assert box is not None, section
        box.setCurrentIndex(box.findData(kind))
        value = getattr(design.plan, section)
        assert value.kind == kind
        if field is not None:
            enter(page, section, field, entered)
            assert getattr(getattr(design.plan, section), field) == float(entered or 0)
    design.change(design.plan.changed({"optimiser": "rmsprop"}))
    box = page.findChild(QComboBox, "optimiser.kind")
    assert box is not None
    assert box.currentData() == "rmsprop"


@pytest.mark.parametrize("kind", STEPS)
def test_every_augmentation_step_is_told_in_a_few_words(kind: str) -> None:
    try:
        words = in_words(STEPS[kind]())
    except TypeError:
        return
    assert words.startswith(kind)
    assert len(words) < 60
    assert "-" not in words.removeprefix(kind), "a minus sign, not a hyphen"


def test_tips_say_what_is_usual_in_lines_that_fit(qtbot: QtBot) -> None:
    form = Form(Adam(), editable(Adam), lambda _: None)
    qtbot.addWidget(form)
    assert Adam.specs()["learning_rate"].tip.count("\n") == 1
    for name in editable(Adam):
        shown = Adam.specs()[name]
        field = form.findChild(QWidget, f"optimiser.{name}")
        assert field is not None and field.toolTip().split() == shown.tip.split()
        assert all(len(line) <= TIP for line in field.toolTip().split("\n"))
    assert in_lines("short\nand again") == "short\nand again"
