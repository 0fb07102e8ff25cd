"""Everything that a mouse can do is reached by keys, and named for those who hear the window."""

from __future__ import annotations

from collections.abc import Iterator

import numpy as np
import pytest
from PyQt6.QtCore import QPointF, QRectF, Qt
from PyQt6.QtTest import QTest
from PyQt6.QtWidgets import (
    QAbstractButton,
    QAbstractItemView,
    QAbstractSpinBox,
    QApplication,
    QComboBox,
    QHeaderView,
    QLineEdit,
    QPlainTextEdit,
    QPushButton,
    QScrollArea,
    QSlider,
    QTextEdit,
    QVBoxLayout,
    QWidget,
)
from pytestqt.qtbot import QtBot

from attentive_lens.desk.remembering import remember
from attentive_lens.window.application import open_folder, open_place
from attentive_lens.window.bench.bench import Bench
from attentive_lens.window.bench.overview import Overview
from attentive_lens.window.explaining.place_box import STEP, PlaceBox
from attentive_lens.window.frame import Frame
from attentive_lens.window.help import HelpWindow
from attentive_lens.window.importing import Way
from attentive_lens.window.model_window import ModelWindow
from attentive_lens.window.pages import STAGES
from attentive_lens.window.parts.bars import ROW, Bar, Bars
from attentive_lens.window.parts.chart import Chart, Curve
from attentive_lens.window.training.health import SeriesTable
from attentive_lens.window.welcome import Welcome
from attentive_lens.workspace import Workspace

Key = Qt.Key
CONTROLS = (
    *(QAbstractButton, QComboBox, QLineEdit, QAbstractSpinBox, QSlider),
    *(QAbstractItemView, QPlainTextEdit, QTextEdit),
)
MOST_TABS = 400


def takes(kind: type, *names: str) -> bool:
    """Whether a class of ours answers one of these events itself."""
    own = (each for each in kind.__mro__ if each.__module__.startswith("attentive_lens"))
    return any(name in vars(each) for each in own for name in names)


def is_pressed(widget: QWidget) -> bool:
    """Whether a press of the mouse on it does something."""
    if isinstance(widget, Bars):
        return widget.receivers(widget.chosen) > 0 and bool(widget.bars)
    return takes(type(widget), "mousePressEvent", "mouseReleaseEvent")


def stops(frame: QWidget) -> Iterator[QWidget]:
    """All that can be pressed, typed into or chosen from, as it is now."""
    for widget in frame.findChildren(QWidget):
        parent = widget.parentWidget()
        inner = widget.objectName().startswith("qt_") or isinstance(widget, QHeaderView)
        if inner or (isinstance(widget, QLineEdit) and isinstance(parent, QAbstractSpinBox | QComboBox)):
            continue
        if widget.isVisibleTo(frame) and widget.isEnabled() and (isinstance(widget, CONTROLS) or is_pressed(widget)):
            yield widget


def has_tab(widget: QWidget) -> bool:
    return bool(widget.focusPolicy() & Qt.FocusPolicy.TabFocus)


def is_one_of_several(widget: QWidget) -> bool:
    """Whether it is a button of which one is pressed, and another is: Tab comes to that one, arrows to the others."""
    if not isinstance(widget, QAbstractButton) or widget.isChecked():
        return False
    group = widget.group()
    return widget.autoExclusive() or (group is not None and group.exclusive())


def faults(frame: QWidget) -> Iterator[str]:
    """What is for the mouse alone, or has no name."""
    for widget in stops(frame):
        what = f"{type(widget).__name__} «{widget.objectName()}»"
        if not (widget.accessibleName() or (isinstance(widget, QAbstractButton) and widget.text())):
            yield f"{what} has no name"
        if not has_tab(widget):
            yield f"{what} is not reached by Tab"
        if not isinstance(widget, CONTROLS) and not takes(type(widget), "keyPressEvent"):
            yield f"{what} answers no key"
    for widget in frame.findChildren(QWidget):
        is_stop = has_tab(widget) and widget.isVisibleTo(frame) and widget.isEnabled()
        if is_stop and type(widget) is QWidget and not widget.accessibleName():
            yield f"a stop without a name in {widget.parentWidget().__class__.__name__}"


def views_of(frame: Frame, key: str) -> Iterator[str]:
    """The stage, and each of its views, shown one after the other."""
    frame.show_stage(key)
    QApplication.processEvents()
    yield key
    for button in frame.page(key).findChildren(QPushButton):
        if button.property("role") == "view" and button.isVisibleTo(frame) and button.isEnabled():
            button.click()
            QTest.qWait(50)
            yield f"{key}, {button.text()}"


@pytest.mark.parametrize("key", STAGES)
def test_all_is_reached_by_keys_and_has_a_name(key: str, shared: Frame) -> None:
    result = [f"{view}: {fault}" for view in views_of(shared, key) for fault in faults(shared)]
    assert not result


@pytest.mark.parametrize("key", STAGES)
def test_tab_comes_to_every_control_and_round_again(key: str, shared: Frame) -> None:
    for view in views_of(shared, key):
        assert not passed_over(shared), view


def passed_over(window: QWidget) -> set[str]:
    """What Tab does not come to, pressed until it has come round."""
    window.raise_()
    window.activateWindow()
    assert QTest.qWaitForWindowActive(window)
    expected = {widget for widget in stops(window) if has_tab(widget) and not is_one_of_several(widget)}
    first = window.focusWidget() or next(iter(expected))
    first.setFocus()
    seen: set[QWidget] = set()
    for _ in range(MOST_TABS):
        at = QApplication.focusWidget()
        assert at is not None
        if at in seen and expected <= seen:
            break
        seen.add(at)
        QTest.keyClick(at, Key.Key_Tab)
    return {f"{type(each).__name__} «{each.objectName()}»" for each in expected - seen}


def test_windows_without_a_workspace_are_worked_by_keys(qtbot: QtBot, station: Workspace) -> None:
    model = open_place(station.folder / "runs/0001/checkpoints/best.alens")
    assert isinstance(model, ModelWindow)
    importing = open_place(station.folder / "images/training")
    remember(station.folder, {})
    others = (model, importing, Welcome(open_folder), HelpWindow())
    for window in others:
        qtbot.addWidget(window)
        window.show()
    qtbot.waitUntil(lambda: model.opened is not None, timeout=30_000)
    model.try_images([station.folder / row.file for row in list(station.catalogue.images())[:2]])
    qtbot.waitUntil(lambda: model.explanation is not None and model.explanation.complete, timeout=60_000)
    qtbot.waitUntil(lambda: any(isinstance(each, QComboBox) for each in stops(importing)), timeout=60_000)
    result = []
    for window in others:
        name = type(window).__name__
        result += [f"{name}: {fault}" for fault in faults(window)]
        result += [f"{name}: Tab passes over {each}" for each in passed_over(window)]
        assert len(list(stops(window))) > 2, name
    for window in others[:2]:
        window.close()
    assert not result


def test_a_bar_is_chosen_by_keys(qtbot: QtBot) -> None:
    bars = Bars("counts")
    qtbot.addWidget(bars)
    calls: list[int] = []
    bars.show_bars(tuple(Bar(name, 0.5, "1") for name in "abc"))
    bars.show()
    assert not has_tab(bars), "nobody would hear of a choice"
    bars.chosen.connect(calls.append)
    bars.show_bars(bars.bars)
    assert has_tab(bars)
    for key in (Key.Key_Down, Key.Key_Down, Key.Key_Down, Key.Key_Return, Key.Key_Up, Key.Key_Space):
        qtbot.keyClick(bars, key)
    assert calls == [2, 1]
    bars.show_bars(bars.bars[:1])
    qtbot.keyClick(bars, Key.Key_Return)
    assert calls == [2, 1, 0]
    qtbot.mouseClick(bars, Qt.MouseButton.LeftButton, pos=QPointF(5, ROW / 2).toPoint())
    assert calls == [2, 1, 0, 0]


def test_a_chart_is_read_and_zoomed_by_keys(qtbot: QtBot) -> None:
    chart = Chart("loss", "", "a chart")
    qtbot.addWidget(chart)
    chart.show_curves((Curve("training", tuple((float(k), 1.0 / (k + 1)) for k in range(21)), "ink"),), 20.0)
    chart.zoomed.connect(chart.show_stretch)
    read: list[float] = []
    chart.pointed.connect(read.append)
    for key in (Key.Key_Left, Key.Key_Left, Key.Key_Right, Key.Key_Home, Key.Key_Left, Key.Key_End):
        qtbot.keyClick(chart, key)
    assert read == [19, 18, 19, 0, 20], "no further than the ends"
    qtbot.keyClick(chart, Key.Key_Plus)
    assert chart.stretch == (10.0, 20.0)
    qtbot.keyClick(chart, Key.Key_Plus)
    assert chart.stretch == (15.0, 20.0)
    qtbot.keyClick(chart, Key.Key_Minus)
    assert chart.stretch == (10.0, 20.0)
    qtbot.keyClick(chart, Key.Key_Escape)
    assert chart.stretch is None


def test_places_rows_and_the_overview_move_by_keys(qtbot: QtBot) -> None:
    box = PlaceBox("place", 64)
    qtbot.addWidget(box)
    at: list[tuple[float, float]] = []
    box.moved.connect(lambda x, y: at.append((x, y)))
    box.mark = QRectF(0.0, 0.4, 0.2, 0.2)
    for key in (Key.Key_Left, Key.Key_Down):
        qtbot.keyClick(box, key)
    assert at == [pytest.approx((0.1 - STEP, 0.5)), pytest.approx((0.1, 0.5 + STEP))]
    table = SeriesTable()
    qtbot.addWidget(table)
    table.rows = [(name, {}) for name in ("convolution 1", "convolution 2")]
    chosen: list[str] = []
    table.chosen_at = chosen.append
    for key in (Key.Key_Down, Key.Key_Down, Key.Key_Down, Key.Key_Up):
        qtbot.keyClick(table, key)
    assert chosen == ["convolution 1", "convolution 2", "convolution 2", "convolution 1"]
    around, area, bench = QWidget(), QScrollArea(), Bench("a bench", 90, 70)
    qtbot.addWidget(around)
    bench.setFixedWidth(2000)
    area.setWidget(bench)
    overview = Overview(bench, area)
    inside = QVBoxLayout(around)
    inside.addWidget(area)
    inside.addWidget(overview)
    around.resize(400, 200)
    around.show()
    bar = area.horizontalScrollBar()
    assert bar is not None
    qtbot.keyClick(overview, Key.Key_Right)
    qtbot.keyClick(overview, Key.Key_Right)
    here = bar.value()
    qtbot.keyClick(overview, Key.Key_Left)
    assert 0 < bar.value() < here


def test_a_way_to_read_is_chosen_by_keys(qtbot: QtBot) -> None:
    way = Way("N×H×W", np.zeros((3, 16, 16, 1), np.uint8), ["a", "b", "c"])
    qtbot.addWidget(way)
    chosen: list[int] = []
    way.chosen.connect(lambda: chosen.append(1))
    for key in (Key.Key_Space, Key.Key_Return, Key.Key_A, Key.Key_Enter):
        qtbot.keyClick(way, key)
    assert len(chosen) == 3
