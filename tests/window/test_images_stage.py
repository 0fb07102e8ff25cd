"""The Images stage driven by hand: filter, sort, decide, undo, part, prepare, import."""

from __future__ import annotations

import csv
from collections.abc import Callable
from pathlib import Path

import numpy as np
import pytest
from PIL import Image
from PyQt6.QtCore import QMimeData, QPointF, Qt, QUrl
from PyQt6.QtGui import QDropEvent
from PyQt6.QtWidgets import (
    QComboBox,
    QLabel,
    QMenu,
    QPushButton,
    QWidget,
)
from pytestqt.qtbot import QtBot
from tests.driving import LEFT, child, click, stage

from attentive_lens.desk import remembering
from attentive_lens.window.application import open_folder
from attentive_lens.window.frame import Frame
from attentive_lens.window.images.averages import ClassRows
from attentive_lens.window.images.sizes import ResizeRows
from attentive_lens.window.images.table import ImageTable
from attentive_lens.window.images.viewer import Canvas
from attentive_lens.window.importing import ImportWindow
from attentive_lens.window.pages.images import ImagesPage
from attentive_lens.window.parts.picture import PixelBox
from attentive_lens.window.parts.range import RangeSlider
from attentive_lens.window.parts.sheet import ContactSheet
from attentive_lens.window.parts.workspace_card import WorkspaceCard
from attentive_lens.window.welcome import Welcome
from attentive_lens.workspace import Workspace

OpenFrame = Callable[[Workspace], Frame]
SHIFT = Qt.KeyboardModifier.ShiftModifier
CONTROL = Qt.KeyboardModifier.ControlModifier


def images_stage(qtbot: QtBot, open_frame: OpenFrame, workspace: Workspace) -> tuple[Frame, ContactSheet]:
    frame = open_frame(workspace)
    stage(qtbot, frame, "images")
    sheet = child(frame, ContactSheet, "contact sheet")
    sheet.setFocus()
    return frame, sheet


def shown(sheet: ContactSheet) -> list[int]:
    return [place for group in sheet.groups for place in group.places]


def choose(frame: QWidget, name: str, word: str) -> None:
    box = child(frame, QComboBox, name)
    box.setCurrentText(word)
    box.textActivated.emit(word)


def test_a_selection_is_relabelled_excluded_and_flagged_by_keys_and_undone(
    qtbot: QtBot, open_frame: OpenFrame, station: Workspace
) -> None:
    frame, sheet = images_stage(qtbot, open_frame, station)
    before = frame.session.images.collection
    order = shown(sheet)
    sheet.select(order[0])
    qtbot.keyClick(sheet, Qt.Key.Key_Right, SHIFT)
    qtbot.keyClick(sheet, Qt.Key.Key_Right, SHIFT)
    assert sheet.selection == frozenset(order[:3])
    assert child(frame, QLabel, "selected count").text() == "3 images selected"
    qtbot.keyClick(sheet, Qt.Key.Key_F)
    assert [row.flagged for row in frame.session.images.collection.rows].count(True) == 3
    qtbot.keyClick(sheet, Qt.Key.Key_X)
    assert frame.session.images.collection.count("excluded") == 3
    assert sheet.faded == sheet.flagged == frozenset(order[:3])
    assert child(frame, QPushButton, "set excluded").isVisible()
    qtbot.keyClick(sheet, Qt.Key.Key_L)
    menu = child(frame, QMenu, "label menu")
    qtbot.waitUntil(menu.isVisible)
    qtbot.keyClick(menu, Qt.Key.Key_3)
    third = frame.session.images.collection.classes[2]
    assert {frame.session.images.collection.rows[k].label for k in sheet.selection} == {2}
    assert f"{third} (was {before.classes[before.rows[order[0]].label]})" in child(frame, QLabel, "image facts").text()
    assert "relabelled 3 images" in child(frame, QLabel, "message").text()
    for _ in range(3):
        qtbot.keyClick(frame, Qt.Key.Key_Z, CONTROL)
    assert frame.session.images.collection == before
    assert not child(frame, QPushButton, "undo").isVisible()
    qtbot.keyClick(frame, Qt.Key.Key_Z, CONTROL | SHIFT)
    assert [row.flagged for row in frame.session.images.collection.rows].count(True) == 3
    assert station.catalogue.corrections().keys() == {k + 1 for k in order[:3]}


def test_images_move_to_another_set_and_back(qtbot: QtBot, open_frame: OpenFrame, station: Workspace) -> None:
    frame, sheet = images_stage(qtbot, open_frame, station)
    place = frame.session.images.collection.sets.index("training")
    sheet.select(place)
    qtbot.keyClick(sheet, Qt.Key.Key_S)
    menu = child(frame, QMenu, "set menu")
    qtbot.waitUntil(menu.isVisible)
    qtbot.keyClick(menu, Qt.Key.Key_3)
    assert frame.session.images.collection.sets[place] == "test"
    sheet.select(place)
    qtbot.keyClick(sheet, Qt.Key.Key_S)
    qtbot.waitUntil(lambda: len(frame.findChildren(QMenu, "set menu")) == 2)
    qtbot.keyClick(frame.findChildren(QMenu, "set menu")[-1], Qt.Key.Key_4)
    assert station.catalogue.corrections() == {}


def test_images_are_filtered_and_sorted_by_measure_set_flag_and_answer(
    qtbot: QtBot, open_frame: OpenFrame, station: Workspace
) -> None:
    frame, sheet = images_stage(qtbot, open_frame, station)
    qtbot.waitUntil(lambda: "sharpness" in frame.session.images.measures, timeout=30_000)
    choose(frame, "order", "sharpness")
    values = frame.session.images.measures["sharpness"][shown(sheet)]
    assert (np.diff(values) >= 0).all()
    click(qtbot, frame, "order direction")
    assert (np.diff(frame.session.images.measures["sharpness"][shown(sheet)]) <= 0).all()
    slider = child(frame, RangeSlider, "measure range")
    slider.setFocus()
    for _ in range(8):
        qtbot.keyClick(slider, Qt.Key.Key_Right)
    stored = frame.session.images.measures["brightness"][shown(sheet)]
    assert 0 < len(stored) < 90
    assert stored.min() >= slider.values[0]
    choose(frame, "measure", "contrast")
    assert len(shown(sheet)) == 90
    click(qtbot, frame, "set training")
    assert {frame.session.images.collection.sets[k] for k in shown(sheet)} == {"validation", "test"}
    frame.session.scores.want("test")
    answers = child(frame, QComboBox, "answers filter")
    qtbot.waitUntil(answers.isVisible, timeout=30_000)
    choose(frame, "order", "answer")
    assert sheet.groups[0].title == "wrong"
    choose(frame, "answers filter", "wrong")
    known = frame.session.scores.known
    qtbot.waitUntil(lambda: {on for _, on in known} >= {"validation", "test"}, timeout=30_000)
    answered = [answer for (_, on), table in known.items() if on != "training" for answer in table.answers]
    wrong = {answer.image for answer in answered if answer.predicted != answer.true}
    qtbot.waitUntil(lambda: {k + 1 for k in shown(sheet)} == wrong, timeout=10_000)


def test_the_table_shows_the_same_images_and_selects_them(
    qtbot: QtBot, open_frame: OpenFrame, station: Workspace
) -> None:
    frame, sheet = images_stage(qtbot, open_frame, station)
    click(qtbot, frame, "view table")
    table = child(frame, ImageTable, "image table")
    model = table.rows_
    assert table.isVisible()
    assert model.places.tolist() == shown(sheet)
    assert model.data(model.index(0, 1)) == frame.session.images.collection.rows[shown(sheet)[0]].name
    table.selectRow(2)
    place = shown(sheet)[2]
    assert f"image {place + 1}" in child(frame, QLabel, "image facts").text()
    click(qtbot, frame, "exclude")
    assert frame.session.images.collection.sets[place] == "excluded"


def test_an_image_is_seen_in_full_size_with_its_pixel_values(
    qtbot: QtBot, open_frame: OpenFrame, station: Workspace
) -> None:
    frame, sheet = images_stage(qtbot, open_frame, station)
    row = frame.session.images.collection.rows[shown(sheet)[0]]
    Image.new("RGB", (300, 200), (11, 22, 33)).save(station.folder / row.file)
    sheet.select(shown(sheet)[0])
    box = child(frame, PixelBox, "image preview")
    qtbot.mouseMove(box, box.rect().center())
    box.hovered.emit(5, 6)
    assert child(frame, QLabel, "pixel values").text().startswith("column 5, row 6: ")
    qtbot.keyClick(sheet, Qt.Key.Key_Space)
    canvas = child(frame, Canvas, "full picture")
    qtbot.waitUntil(lambda: canvas.picture is not None and canvas.picture.width() == 300, timeout=30_000)
    canvas.hovered.emit(299, 199)
    assert child(frame, QLabel, "viewer values").text() == "column 299, row 199: 11 22 33"
    viewer = child(frame, QWidget, "viewer")
    scale = canvas.scale
    qtbot.keyClick(viewer, Qt.Key.Key_Plus)
    assert canvas.scale == pytest.approx(scale * 1.25)
    qtbot.keyClick(viewer, Qt.Key.Key_Right)
    qtbot.waitUntil(lambda: canvas.picture is not None and canvas.picture.width() == 64, timeout=30_000)
    assert sheet.current == shown(sheet)[1]
    qtbot.keyClick(viewer, Qt.Key.Key_Escape)
    assert sheet.isVisible()


def test_sizes_and_levels_are_seen_side_by_side_and_checked(
    qtbot: QtBot, open_frame: OpenFrame, station: Workspace
) -> None:
    frame, _ = images_stage(qtbot, open_frame, station)
    click(qtbot, frame, "view sizes")
    rows = child(frame, ResizeRows, "resize rows")
    verdict = child(frame, QLabel, "batch verdict")
    qtbot.waitUntil(lambda: "Mean about 0" in verdict.text(), timeout=30_000)
    assert set(rows.images) == {"stretch", "letterbox", "centre crop", "none", "network"}
    box = child(frame, QComboBox, "preprocessing.normalisation")
    box.setCurrentIndex(box.findData("0-1"))
    qtbot.waitUntil(lambda: "Only scaled" in verdict.text(), timeout=30_000)
    box = child(frame, QComboBox, "preprocessing.colour_space")
    box.setCurrentIndex(box.findData("grey"))
    qtbot.waitUntil(lambda: rows.images["centre crop"].shape[3] == 1, timeout=30_000)
    assert frame.session.design.plan.preprocessing.colour_space == "grey"
    click(qtbot, frame, "view averages")
    averages = child(frame, ClassRows, "class averages")
    qtbot.waitUntil(lambda: averages.mean is not None, timeout=30_000)
    averages.grab()


def test_the_list_is_saved_and_new_files_are_found(
    qtbot: QtBot, open_frame: OpenFrame, station: Workspace, tmp_path: Path
) -> None:
    frame, sheet = images_stage(qtbot, open_frame, station)
    place = shown(sheet)[0]
    sheet.select(place)
    qtbot.keyClick(sheet, Qt.Key.Key_X)
    page = frame.page("images")
    assert isinstance(page, ImagesPage)
    page.beside.save_list(tmp_path / "list.csv")
    with (tmp_path / "list.csv").open(newline="") as stream:
        lines = list(csv.DictReader(stream))
    assert [line["image"] for line in lines if line["set"] == "excluded"] == [str(place + 1)]
    page.beside.save_list(tmp_path / "nowhere" / "list.csv")
    assert "could not be written" in child(frame, QLabel, "message").text()
    Image.new("RGB", (64, 64), (200, 10, 10)).save(station.folder / "images" / "training" / "smooth" / "new.png")
    click(qtbot, frame, "rescan")
    qtbot.waitUntil(lambda: len(frame.session.images.collection.rows) == 91, timeout=30_000)
    qtbot.waitUntil(
        lambda: frame.session.images.pixels is not None and len(frame.session.images.pixels) == 91, timeout=30_000
    )
    assert "1 added" in child(frame, QLabel, "message").text()


def drop(widget: QWidget, place: Path) -> None:
    data = QMimeData()
    data.setUrls([QUrl.fromLocalFile(str(place))])
    event = QDropEvent(
        QPointF(9, 9), Qt.DropAction.CopyAction, data, Qt.MouseButton.LeftButton, Qt.KeyboardModifier.NoModifier
    )
    widget.dropEvent(event)


def test_a_dropped_file_is_looked_at_chosen_and_becomes_a_workspace(
    qtbot: QtBot, tmp_path: Path, station: Workspace, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setenv("XDG_STATE_HOME", str(tmp_path / "state"))
    pixels = np.load(next((station.folder / "cache").glob("prepared-*.npy")))[:30]
    np.savez(tmp_path / "grains.npz", images=pixels.reshape(30, -1), labels=np.arange(30) % 2)
    welcome = Welcome(open_folder)
    qtbot.addWidget(welcome)
    welcome.show()
    drop(welcome, tmp_path / "grains.npz")
    window = welcome.importing
    assert isinstance(window, ImportWindow)
    qtbot.addWidget(window)
    qtbot.waitUntil(lambda: len(window.ways) == 2, timeout=30_000)
    assert window.ways[window.current].title == "row by row, colours together"
    assert "30 images, 2 classes" in child(window, QLabel, "class counts").text()
    qtbot.mouseClick(window.ways[0], LEFT)
    assert window.current == 0
    qtbot.mouseClick(window.ways[1], LEFT)
    window.grab()
    click(qtbot, window, "make workspace")
    qtbot.waitUntil(lambda: isinstance(welcome.frame, Frame), timeout=30_000)
    assert isinstance(welcome.frame, Frame)
    images = welcome.frame.session.images
    assert len(images.collection.rows) == 30
    qtbot.waitUntil(lambda: images.pixels is not None, timeout=30_000)
    welcome.frame.close()
    assert remembering.recent_sources() == [tmp_path / "grains.npz"]
    assert remembering.recent_workspaces() == [tmp_path / "grains-workspace"]
    again = Welcome(open_folder)
    qtbot.addWidget(again)
    assert child(again, QPushButton, "recent grains.npz").isVisibleTo(again)
    again.show()
    qtbot.waitUntil(lambda: again.findChild(WorkspaceCard, "recent grains-workspace") is not None, timeout=10_000)
    card = child(again, WorkspaceCard, "recent grains-workspace")
    assert (card.card.images, card.card.classes, card.card.runs, card.card.open) == (30, 2, 0, False)
    assert len(card.card.pictures) == 2
    qtbot.mouseClick(card, LEFT)
    assert isinstance(again.frame, Frame)
    assert again.frame.session.workspace.folder == tmp_path / "grains-workspace"
    again.frame.close()


def test_a_source_that_cannot_be_read_says_why_and_offers_nothing(qtbot: QtBot, tmp_path: Path) -> None:
    (tmp_path / "broken.npz").write_bytes(b"PK\x03\x04 and no more")
    window = ImportWindow(tmp_path / "broken.npz", lambda _: None)
    qtbot.addWidget(window)
    window.show()
    qtbot.waitUntil(lambda: "damaged or cut off" in child(window, QLabel, "source told").text(), timeout=30_000)
    assert not child(window, QPushButton, "make workspace").isEnabled()
    window.close()


def test_labels_changed_since_a_run_are_told_with_its_results(
    qtbot: QtBot, open_frame: OpenFrame, station: Workspace
) -> None:
    frame, sheet = images_stage(qtbot, open_frame, station)
    row = frame.session.images.collection.rows[shown(sheet)[0]]
    stage(qtbot, frame, "results")
    qtbot.waitUntil(lambda: frame.session.scores.current is not None, timeout=30_000)
    assert frame.session.scores.on == "validation"
    caution = child(frame, QLabel, "results caution")
    assert not caution.isVisible()
    frame.session.images.relabel("relabel", [row.number], (row.label + 1) % 6)
    qtbot.waitUntil(caution.isVisible, timeout=30_000)
    assert f"than run 1 knew: {row.number}." in caution.text()
    click(qtbot, frame, "show relabelled")
    assert shown(child(frame, ContactSheet, "cell images")) == [row.number - 1]
    frame.session.images.undo()
    qtbot.waitUntil(lambda: not caution.isVisible(), timeout=30_000)
