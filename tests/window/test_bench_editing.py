"""Networks are designed on the bench: a residual block by keyboard alone and by mouse alone, folds, faults, text."""

from __future__ import annotations

from collections.abc import Callable

import pytest
from PyQt6.QtCore import QPoint, QPointF, Qt
from PyQt6.QtGui import QGuiApplication
from PyQt6.QtWidgets import (
    QComboBox,
    QLabel,
    QLineEdit,
    QListWidget,
    QPlainTextEdit,
    QPushButton,
    QSpinBox,
)
from pytestqt.qtbot import QtBot
from tests.driving import LEFT, child, click, stage

from attentive_lens.plan.blocks import built
from attentive_lens.plan.layers import (
    Add,
    BatchNormalisation,
    Convolution,
    Flatten,
    Output,
    Relu,
)
from attentive_lens.window.bench.layout import layout_of
from attentive_lens.window.bench.plates import blocks_of, plates_of
from attentive_lens.window.frame import Frame
from attentive_lens.window.network.editable_bench import EditableBench
from attentive_lens.window.network.verbs import VERBS
from attentive_lens.window.pages.network import NetworkPage
from attentive_lens.workspace import Workspace

OpenFrame = Callable[[Workspace], Frame]
Key, CONTROL = Qt.Key, Qt.KeyboardModifier.ControlModifier


@pytest.fixture
def frame(qtbot: QtBot, open_frame: OpenFrame, station: Workspace) -> Frame:
    opened = open_frame(station)
    opened.resize(1280, 800)
    stage(qtbot, opened, "network")
    opened.session.design.change(opened.session.design.plan.changed({"network": "two blocks"}))
    return opened


def bench_of(frame: Frame) -> EditableBench:
    return child(frame, EditableBench, "bench")


def place_of(frame: Frame, name: str) -> int:
    return [plate.name for plate in bench_of(frame).plates].index(name)


def kinds(frame: Frame) -> list[str]:
    return [node.layer.kind for node in frame.session.design.nodes]


def press(qtbot: QtBot, frame: Frame, *keys: Qt.Key, modifier: Qt.KeyboardModifier | None = None) -> None:
    for key in keys:
        qtbot.keyClick(bench_of(frame), key, modifier or Qt.KeyboardModifier.NoModifier)


def add_by_keyboard(qtbot: QtBot, frame: Frame, words: str) -> None:
    press(qtbot, frame, Key.Key_A)
    line = child(frame, QLineEdit, "part search line")
    assert line.isVisible()
    qtbot.keyClicks(line, words)
    qtbot.keyClick(line, Key.Key_Return)
    assert not line.isVisible()


def point(frame: Frame, at: QPointF) -> QPoint:
    return at.toPoint()


def add_by_mouse(qtbot: QtBot, frame: Frame, source: str, consumer: str, kind: str) -> None:
    bench = bench_of(frame)
    edge = (place_of(frame, source), place_of(frame, consumer))
    qtbot.mouseClick(bench, LEFT, pos=point(frame, bench.gap(edge)))
    parts = child(frame, QListWidget, "part search list")
    row = next(k for k in range(parts.count()) if parts.item(k).data(Qt.ItemDataRole.UserRole) == kind)
    parts.scrollToItem(parts.item(row))
    qtbot.mouseClick(parts.viewport(), LEFT, pos=parts.visualItemRect(parts.item(row)).center())


BLOCK = ["max pooling", "convolution", "batch normalisation", "relu", "convolution", "batch normalisation", "add"]


def assert_it_is_a_residual_block(frame: Frame) -> None:
    design = frame.session.design
    assert design.sound, [str(fault.error) for fault in design.faults]
    first = kinds(frame).index("max pooling")
    assert kinds(frame)[first : first + 7] == BLOCK
    join = design.nodes[first + 6]
    assert isinstance(join.layer, Add)
    assert set(join.after) == {design.nodes[first + 5].name, design.nodes[first].name}
    assert design.plan.network.nodes == design.nodes


def test_a_residual_block_is_built_by_keyboard_alone(qtbot: QtBot, frame: Frame) -> None:
    bench = bench_of(frame)
    bench.setFocus()
    press(qtbot, frame, Key.Key_Home, Key.Key_Right, Key.Key_Right)
    assert bench.plates[bench.current or 0].name == "max pooling 1"
    for words in ("conv", "batch", "relu", "conv", "batch", "add"):
        add_by_keyboard(qtbot, frame, words)
    (fault,) = frame.session.design.faults
    assert "add takes two inputs or more" in str(fault.error)
    assert not frame.action.isEnabled()
    press(qtbot, frame, *[Key.Key_Left] * 3, Key.Key_C, *[Key.Key_Right] * 3, Key.Key_Return)
    assert "does not fit" in str(frame.session.design.faults[0].error), "16 maps cannot be added to 8"
    press(qtbot, frame, Key.Key_Left, Key.Key_Return)
    filters = frame.focusWidget()
    assert isinstance(filters, QSpinBox)
    assert filters.objectName() == "convolution.filters"
    qtbot.keyClick(filters, Key.Key_A, CONTROL)
    qtbot.keyClicks(filters, "8")
    qtbot.keyClick(filters, Key.Key_Return)
    qtbot.keyClick(filters, Key.Key_Escape)
    assert_it_is_a_residual_block(frame)
    for _ in range(8):
        qtbot.keyClick(bench, Key.Key_Z, CONTROL)
    assert kinds(frame).count("convolution") == 2
    assert frame.session.design.sound


def test_a_residual_block_is_built_by_mouse_alone(qtbot: QtBot, frame: Frame) -> None:
    bench = bench_of(frame)
    add_by_mouse(qtbot, frame, "max pooling 1", "convolution 2", "add")
    for kind in ("convolution", "batch normalisation", "relu", "convolution", "batch normalisation"):
        add_by_mouse(qtbot, frame, bench.plates[place_of(frame, "add 1") - 1].name, "add 1", kind)
    start, end = place_of(frame, "max pooling 1"), place_of(frame, "add 1")
    qtbot.mouseClick(bench, LEFT, pos=point(frame, bench.centre(start)))
    knob = bench.handle()
    assert knob is not None
    qtbot.mousePress(bench, LEFT, pos=point(frame, knob))
    qtbot.mouseMove(bench, point(frame, bench.centre(end)))
    qtbot.mouseRelease(bench, LEFT, pos=point(frame, bench.centre(end)))
    words = child(frame, QLabel, "layer fault").text()
    assert "only equal shapes can be added" in words
    click(qtbot, frame, "repair Put a 1×1 convolution after max pooling 1")
    assert frame.session.design.sound
    frame.session.design.undo()
    frame.session.design.edit(
        tuple(
            node if node.name != "convolution 4" else type(node)(node.name, Convolution(filters=8), node.after)
            for node in frame.session.design.nodes
        ),
        "fewer filters",
    )
    assert_it_is_a_residual_block(frame)


def test_a_plate_is_moved_by_dragging_it_to_a_gap_and_by_keys(qtbot: QtBot, frame: Frame) -> None:
    bench = bench_of(frame)
    place = place_of(frame, "dropout 1")
    target = bench.gap((place_of(frame, "flatten 1"), place_of(frame, "fully connected 1")))
    qtbot.mousePress(bench, LEFT, pos=point(frame, bench.centre(place)))
    qtbot.mouseMove(bench, point(frame, bench.centre(place)) + QPoint(12, 0))
    qtbot.mouseMove(bench, point(frame, target))
    qtbot.mouseRelease(bench, LEFT, pos=point(frame, target))
    assert kinds(frame)[-4:] == ["dropout", "fully connected", "relu", "output"]
    assert bench.plates[bench.current or 0].name == "dropout 1", "it stays chosen"
    press(qtbot, frame, Key.Key_Right, modifier=CONTROL)
    assert kinds(frame)[-4:] == ["fully connected", "relu", "dropout", "output"]
    press(qtbot, frame, Key.Key_Left, modifier=CONTROL)
    assert kinds(frame)[-4:] == ["dropout", "fully connected", "relu", "output"]


def test_a_stretch_is_copied_from_a_run_into_the_plan(qtbot: QtBot, frame: Frame) -> None:
    shown = child(frame, QComboBox, "on the bench")
    shown.setCurrentIndex(1)
    shown.activated.emit(1)
    bench = bench_of(frame)
    before = frame.session.design.nodes
    bench.choose(1)
    press(qtbot, frame, Key.Key_Right, modifier=Qt.KeyboardModifier.ShiftModifier)
    press(qtbot, frame, Key.Key_Delete)
    assert frame.session.design.nodes == before, "a run never changes"
    press(qtbot, frame, Key.Key_C, modifier=CONTROL)
    clipboard = QGuiApplication.clipboard()
    assert clipboard is not None
    assert clipboard.text().count("[[network]]") == 3
    shown.setCurrentIndex(0)
    shown.activated.emit(0)
    bench.choose(place_of(frame, "max pooling 2"))
    press(qtbot, frame, Key.Key_V, modifier=CONTROL)
    assert kinds(frame)[6:9] == ["convolution", "relu", "max pooling"]
    assert [bench.plates[k].name for k in bench.selection()] == ["convolution 3", "max pooling 3"]
    clipboard.setText("a shopping list")
    press(qtbot, frame, Key.Key_V, modifier=CONTROL)
    assert "The clipboard holds no layers" in frame.bottom.message.text()


def test_a_block_folds_into_one_plate_and_unfolds(qtbot: QtBot, frame: Frame) -> None:
    child(frame, NetworkPage, "page network").start_from("residual")
    bench = bench_of(frame)
    before = bench.plates
    bench.choose(place_of(frame, "convolution 5"))
    press(qtbot, frame, Key.Key_F)
    folded = bench.plates[bench.current or 0]
    assert (folded.name, folded.folded) == ("residual 2", True)
    assert folded.weights == sum(plate.weights for plate in before if plate.block == "residual 2")
    press(qtbot, frame, Key.Key_F)
    press(qtbot, frame, Key.Key_F, modifier=Qt.KeyboardModifier.ShiftModifier)
    assert [plate.name for plate in bench.plates if plate.folded] == ["residual 1", "residual 2", "residual 3"]
    assert max(bench.layout_.lanes) == 0
    bench.choose(place_of(frame, "residual 2"))
    press(qtbot, frame, Key.Key_Delete)
    assert "residual 2" not in {node.part_of for node in frame.session.design.nodes}
    assert frame.session.design.sound
    press(qtbot, frame, Key.Key_F, modifier=Qt.KeyboardModifier.ShiftModifier)
    assert all(not plate.folded for plate in bench.plates)


def test_the_frost_line_is_dragged_along_the_rail(qtbot: QtBot, frame: Frame) -> None:
    bench = bench_of(frame)
    place = place_of(frame, "max pooling 1")
    begin = QPoint(int(bench.step()), 20)
    end = QPoint(int(bench.step() * (place + 1)), 20)
    qtbot.mousePress(bench, LEFT, pos=begin)
    qtbot.mouseMove(bench, end)
    qtbot.mouseRelease(bench, LEFT, pos=end)
    held = [node.name for node in frame.session.design.plan.network.nodes if node.frozen]
    assert held == ["convolution 1", "relu 1", "max pooling 1"]
    assert [plate.name for plate in bench.plates if plate.frozen] == ["convolution 1", "max pooling 1"]
    press(qtbot, frame, Key.Key_Home, Key.Key_Right, Key.Key_H)
    assert [plate.name for plate in bench.plates if plate.frozen] == ["max pooling 1"]
    bench.frost_moved.emit(0)
    assert not any(plate.frozen for plate in bench.plates)


def test_text_and_bench_show_each_others_changes(qtbot: QtBot, frame: Frame) -> None:
    click(qtbot, frame, "view text")
    editor = child(frame, QPlainTextEdit, "plan text")
    qtbot.waitUntil(editor.isVisible)
    assert "filters = 8" in editor.toPlainText()
    editor.setPlainText(editor.toPlainText().replace("filters = 8", "filters = 12"))
    qtbot.waitUntil(lambda: bench_of(frame).plates[1].shape[-1] == 12, timeout=3000)
    editor.setPlainText(editor.toPlainText().replace("filters = 12", "filters = 0"))
    problem = child(frame, QLabel, "plan text problem")
    qtbot.waitUntil(problem.isVisible, timeout=3000)
    line = next(k for k, text in enumerate(editor.toPlainText().split("\n"), 1) if text == "filters = 0")
    assert problem.text().startswith(f"Line {line}. convolution.filters: 0 is below the least, 1")
    assert bench_of(frame).plates[1].shape[-1] == 12, "the last sound plan stays"
    assert "fault" in child(frame, QLabel, "network about").text()
    frame.session.design.undo()
    assert "filters = 12" in editor.toPlainText()
    bench = bench_of(frame)
    bench.choose(place_of(frame, "max pooling 1"))
    press(qtbot, frame, Key.Key_Delete)
    assert "max pooling 1" not in editor.toPlainText()


def test_a_faulty_plate_offers_a_way_to_it_and_its_repairs(qtbot: QtBot, frame: Frame) -> None:
    bench = bench_of(frame)
    bench.choose(place_of(frame, "flatten 1"))
    press(qtbot, frame, Key.Key_Delete)
    runs = len(frame.session.runs.views)
    frame.session.start()
    assert "Not started, for the network on the bench has a fault" in frame.bottom.message.text()
    assert len(frame.session.workspace.runs()) == runs, "the last sound plan is not trained in its place"
    click(qtbot, frame, "go to fully connected 1")
    assert bench.plates[bench.current or 0].faulty
    assert frame.rail.buttons["network"].isVisible()
    click(qtbot, frame, "repair Put a flatten layer before it")
    assert frame.session.design.sound
    assert frame.action.isEnabled()


def test_every_verb_of_the_bench_does_something_or_says_why_not(qtbot: QtBot, frame: Frame) -> None:
    for verb in VERBS:
        bench = bench_of(frame)
        bench.choose(0)
        bench.perform(verb.word)
        bench.choose(2)
        bench.perform(verb.word)
        press(qtbot, frame, Key.Key_Escape)
    assert frame.findChild(QPushButton, "undo") is not None


def test_branches_share_no_track_and_nothing_leaves_the_card(qtbot: QtBot, frame: Frame) -> None:
    for kind in ("branches", "densely connected", "squeeze-and-excite", "residual"):
        bench_of(frame).choose(place_of(frame, "max pooling 1"))
        add_by_keyboard(qtbot, frame, kind)
    bench = bench_of(frame)
    layout = layout_of(bench.plates)
    standing = list(zip(layout.columns, layout.lanes, strict=True))
    assert len(set(standing)) == len(standing)
    assert layout.lane_count > 2
    for place in range(len(bench.plates)):
        glass, edge = bench.form(place)
        assert glass.boundingRect().top() >= 0
        assert edge.right() <= bench.width()
    for edge_of in bench.geometry_.edges:
        box = bench.way(edge_of)[0].boundingRect()
        assert box.top() >= 0
        assert box.bottom() <= bench.height()


def test_a_block_with_a_stranger_inside_does_not_fold() -> None:
    network = built([Convolution(), Relu(), Convolution(), BatchNormalisation(), Flatten(), Output()])
    nodes = tuple(
        type(node)(node.name, node.layer, node.after, part_of="stem" if k in (0, 2) else "")
        for k, node in enumerate(network.nodes)
    )
    assert blocks_of(nodes) == ()
    assert not any(plate.folded for plate in plates_of(nodes, {}, (8, 8, 3), folded={"stem"}))


def choose_shown(frame: Frame) -> str:
    return page_of(frame).sheet.node


def page_of(frame: Frame) -> NetworkPage:
    page = frame.page("network")
    assert isinstance(page, NetworkPage)
    return page


def test_a_layer_of_a_plate_is_added_in_its_usual_place_shown_swapped_and_removed_alone(
    qtbot: QtBot, frame: Frame
) -> None:
    before = kinds(frame)
    bench_of(frame).choose(place_of(frame, "convolution 1"))
    names = list(bench_of(frame).plates[place_of(frame, "convolution 1")].nodes)
    assert [kinds(frame)[k] for k in (0, 1)] == ["convolution", "relu"]
    add_by_keyboard(qtbot, frame, "batch")
    assert kinds(frame)[:3] == ["convolution", "batch normalisation", "relu"]
    assert choose_shown(frame) == "batch normalisation 1"
    assert child(frame, QPushButton, "layer batch normalisation 1").isChecked()
    click(qtbot, frame, "layer later")
    assert kinds(frame)[:3] == ["convolution", "relu", "batch normalisation"]
    assert choose_shown(frame) == "batch normalisation 1"
    press(qtbot, frame, Key.Key_Left, modifier=CONTROL | Qt.KeyboardModifier.ShiftModifier)
    assert kinds(frame)[:3] == ["convolution", "batch normalisation", "relu"]
    click(qtbot, frame, f"layer {names[1]}")
    press(qtbot, frame, Key.Key_Delete, modifier=Qt.KeyboardModifier.ShiftModifier)
    assert kinds(frame)[:2] == ["convolution", "batch normalisation"]
    assert kinds(frame)[2] != "relu"
    click(qtbot, frame, "layer batch normalisation 1")
    click(qtbot, frame, "remove layer")
    assert kinds(frame)[0] == "convolution"
    assert len(kinds(frame)) == len(before) - 1
    for _ in range(5):
        frame.session.step_back()
    assert kinds(frame) == before
    bench_of(frame).choose(len(bench_of(frame).plates) - 1)
    press(qtbot, frame, Key.Key_Right, modifier=CONTROL | Qt.KeyboardModifier.ShiftModifier)
    assert "cannot move later" in frame.bottom.message.text()


def test_the_picture_of_a_window_is_a_rectangle_where_the_window_is(qtbot: QtBot, frame: Frame) -> None:
    picture = page_of(frame).sheet.picture
    for layer, windows in (
        (Convolution(8, (5, 3), padding="valid"), ((0, 0, 3, 5), (1, 0, 3, 5))),
        (Convolution(8, 3, stride=2, padding="valid"), ((0, 0, 3, 3), (2, 0, 3, 3))),
        (Convolution(8, 3, padding="explicit", padding_width=(0, 0, 2, 0)), ((0, 0, 3, 3), (1, 0, 3, 3))),
        (Convolution(8, (1, 7), padding="explicit", padding_width=(5, 0, 0, 0)), ((0, 0, 7, 0), (1, 0, 7, 0))),
    ):
        picture.show_axes(layer.axes((20, 20, 3)))
        expected = tuple(each for each in windows if each[3])
        assert picture.windows() == expected, layer
        assert not picture.grab().isNull()
