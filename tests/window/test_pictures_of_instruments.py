"""Pictures of many bits and channels in the window: imported, shown as one chooses, learned from, explained."""

from __future__ import annotations

import json
from collections.abc import Callable
from pathlib import Path

import numpy as np
import pytest
from PyQt6.QtCore import QPoint, QPointF, Qt
from PyQt6.QtGui import QImage
from PyQt6.QtWidgets import QComboBox, QLabel, QPushButton, QSlider
from pytestqt.qtbot import QtBot
from tests.driving import child, click, said, stage, to_explain
from tests.images.instruments import CHANNELS, FIVE, TOP, write_kind

from attentive_lens.core.jobs import finish
from attentive_lens.desk.making import make_workspace
from attentive_lens.desk.network.usual import usual_plan
from attentive_lens.desk.training.executing import execute
from attentive_lens.images.display import Display, shown_as
from attentive_lens.images.reading import Reading
from attentive_lens.window.explaining.activations import ActivationsPanel
from attentive_lens.window.explaining.layers import LayersPanel
from attentive_lens.window.frame import Frame
from attentive_lens.window.images.details import Details
from attentive_lens.window.images.display_box import DisplayBox
from attentive_lens.window.images.viewer import Canvas, Viewer
from attentive_lens.window.importing import ImportWindow, Levels
from attentive_lens.window.parts.sheet import ContactSheet
from attentive_lens.workspace import Workspace

OpenFrame = Callable[[Workspace], Frame]


@pytest.fixture
def instrument(tmp_path: Path) -> Workspace:
    """Five channels of 12 bits, with a short run."""
    source = write_kind(tmp_path / "pictures", "five channels", 12)
    workspace = finish(make_workspace(tmp_path / "work", source, "", Reading(channels=FIVE))).workspace
    plan = usual_plan(workspace).changed({"network": "two blocks", "training.epochs": 3, "training.batch_size": 8})
    finish(execute(workspace, workspace.claim_run(plan), lambda: False))
    return workspace


def mean_of(image: QImage) -> float:
    few = image.scaled(40, 40)
    return float(np.mean([few.pixelColor(k, j).lightnessF() for k in range(40) for j in range(40)]))


def test_a_source_of_many_bits_shows_its_levels_before_it_is_imported(qtbot: QtBot, tmp_path: Path) -> None:
    made: list[Path] = []
    window = ImportWindow(write_kind(tmp_path / "pictures", "five channels", 6), made.append)
    qtbot.addWidget(window)
    window.show()
    qtbot.waitUntil(lambda: bool(window.ways), timeout=30_000)
    levels = child(window, Levels, "levels")
    assert levels.isVisible()
    assert sum(levels.levels) == 10 * 32 * 32 * 5
    assert levels.ends == ("0", "4095")
    levels.grab()
    box = child(window, QComboBox, "reading.scale")
    box.setCurrentText("type")
    qtbot.waitUntil(lambda: levels.ends == ("0", "65535"), timeout=30_000)
    assert sum(levels.levels[5:]) == 0, "twelve bits fill a sixteenth of sixteen"
    assert "white is 65535" in said(window, "class counts")
    window.folder.setText(str(tmp_path / "made"))
    click(qtbot, window, "make workspace")
    qtbot.waitUntil(lambda: bool(made), timeout=60_000)
    assert Workspace.open(made[0]).catalogue.origins()[1].reading["white"] == 65_535


def test_what_is_shown_is_chosen_for_all_views_and_kept(
    qtbot: QtBot, open_frame: OpenFrame, instrument: Workspace
) -> None:
    frame = open_frame(instrument)
    stage(qtbot, frame, "images")
    page = frame.page("images")
    sheet, box = child(frame, ContactSheet, "contact sheet"), child(frame, Details, "image panel").display
    assert shown_as().channels == (3, 2, 1), "red, green and blue are shown as what they are"
    qtbot.waitUntil(lambda: bool(sheet.groups) and sheet.pixels is not None, timeout=10_000)
    before = sheet.grab().toImage()
    box.unfold(True)
    mode = child(box, QComboBox, "shown channels")
    assert [mode.itemText(k) for k in range(mode.count())] == ["in colour", *(f"«{name}» alone" for name in CHANNELS)]
    mode.setCurrentIndex(5)
    mode.activated.emit(5)
    assert shown_as().channels == (5,)
    assert "infrared alone" in said(box, "display says")
    grey = sheet.grab().toImage()
    assert grey != before
    child(box, QSlider, "display level").setValue(900)
    assert shown_as().level == 0.9
    assert mean_of(sheet.grab().toImage()) < mean_of(grey)
    click(qtbot, box, "whole scale")
    assert (shown_as().level, shown_as().width) == (0.5, 1.0)
    page.browser.sheet.select(0)  # type: ignore[attr-defined]
    click(qtbot, box, "levels of image")
    assert 0 < shown_as().width < 0.9, "this image alone does not fill the scale"
    for word, channel in (("red", 4), ("green", 0), ("blue", 1)):
        child(box, QComboBox, f"{word} from").setCurrentIndex(channel)
    mode.setCurrentIndex(0)
    mode.activated.emit(0)
    assert shown_as().channels == (5, 1, 2)
    kept_in = instrument.folder / "display.json"
    qtbot.waitUntil(lambda: kept_in.exists() and json.loads(kept_in.read_text())["channels"] == [5, 1, 2], timeout=5000)
    rows = finish_rows(instrument)
    assert rows == finish_rows(Workspace.open(instrument.folder)), "no pixel that is learned from is another"


def finish_rows(workspace: Workspace) -> list[int]:
    return [row.digest for row in workspace.catalogue.images()]


def test_in_full_size_the_right_button_moves_the_levels_and_values_are_those_of_the_file(
    qtbot: QtBot, open_frame: OpenFrame, instrument: Workspace
) -> None:
    frame = open_frame(instrument)
    stage(qtbot, frame, "images")
    frame.page("images").browser.opened.emit(0)  # type: ignore[attr-defined]
    viewer, canvas = child(frame, Viewer, "viewer"), child(frame, Canvas, "full picture")
    qtbot.waitUntil(lambda: canvas.picture is not None, timeout=30_000)
    assert child(viewer, DisplayBox, "").is_unfolded
    frame.session.show_images_as(Display(channels=(5,)))
    middle = canvas.rect().center()
    qtbot.mousePress(canvas, Qt.MouseButton.RightButton, pos=middle)
    moved = middle + QPoint(-canvas.width() // 4, -canvas.height() // 8)
    qtbot.mouseMove(canvas, moved)
    qtbot.waitUntil(lambda: shown_as().width < 1, timeout=5000)
    assert shown_as().width == pytest.approx(0.75, abs=0.02)
    assert shown_as().level == pytest.approx(0.625, abs=0.02)
    qtbot.mouseRelease(canvas, Qt.MouseButton.RightButton, pos=moved)
    corner = canvas.corner + QPointF(canvas.scale / 2, canvas.scale / 2)
    canvas.hovered.emit(0, 0)
    pixels = viewer.pixels
    assert pixels is not None
    assert corner.x() >= 0
    values = ", ".join(f"{name} {float(v) * TOP:.0f}" for name, v in zip(CHANNELS, pixels[0, 0], strict=True))
    assert said(frame, "viewer values") == f"column 0, row 0: {values}"


def test_channels_are_left_out_and_steps_for_colours_stand_aside(
    qtbot: QtBot, open_frame: OpenFrame, instrument: Workspace
) -> None:
    frame = open_frame(instrument)
    stage(qtbot, frame, "images")
    click(qtbot, frame, "view sizes")
    qtbot.waitUntil(lambda: "infrared: mean" in said(frame, "batch check"), timeout=30_000)
    click(qtbot, frame, "channel infrared")
    assert frame.session.design.plan.preprocessing.channel_names == CHANNELS[:-1]
    qtbot.waitUntil(lambda: "infrared" not in said(frame, "batch check"), timeout=30_000)
    for name in CHANNELS[:-1]:
        click(qtbot, frame, f"channel {name}")
    assert frame.session.design.plan.preprocessing.channel_names == ("red edge",), "the last one stays"
    assert child(frame, QPushButton, "channel red edge").isChecked()
    click(qtbot, frame, "view augmentation")
    click(qtbot, frame, "augmentation step hue")
    assert "Stands aside" in said(frame, "augmentation caution")
    click(qtbot, frame, "augmentation step gamma")
    assert not child(frame, QLabel, "augmentation caution").isVisible()
    for view in ("view averages", "view sets", "view table"):
        click(qtbot, frame, view)
        frame.grab()


def test_every_channel_of_an_image_says_what_it_adds(
    qtbot: QtBot, open_frame: OpenFrame, instrument: Workspace
) -> None:
    frame = open_frame(instrument)
    page = to_explain(qtbot, frame, 1)
    panel = page.evidence.open(ActivationsPanel)
    qtbot.waitUntil(lambda: "image" in panel.maps, timeout=60_000)
    page.evidence.of(LayersPanel).bench.choose(0)
    panel.by.setCurrentIndex(1)
    panel.by.activated.emit(1)
    qtbot.waitUntil(lambda: panel._effects_of_layer() is not None, timeout=30_000)
    tiles = [tile.caption for tile in panel.channels.tiles]
    assert sorted(tile.split("  ")[0] for tile in tiles) == sorted(CHANNELS)
    assert all(tile.split("  ")[1][0] in "+\u2212" for tile in tiles)
    panel.open_place(0)
    assert panel.view.title.text() == f"image · {tiles[0].split('  ')[0]}"
    frame.grab()


def test_a_map_of_one_channel_is_chosen_where_channels_have_names(
    qtbot: QtBot, open_frame: OpenFrame, instrument: Workspace
) -> None:
    frame = open_frame(instrument)
    page = to_explain(qtbot, frame, 1)
    qtbot.waitUntil(lambda: page.explanation is not None, timeout=30_000)
    box = child(frame, QComboBox, "map channel")
    assert box.isVisible()
    assert [box.itemText(row) for row in range(box.count())] == [
        "of all channels",
        *(f"of channel {c}" for c in CHANNELS),
    ]
    before = page.explanation
    assert before is not None
    box.setCurrentIndex(box.findData("infrared"))
    box.activated.emit(box.currentIndex())
    qtbot.waitUntil(lambda: page.explanation is not None and page.explanation is not before, timeout=30_000)
    after = page.explanation
    assert after is not None
    assert after.method.with_(channel="") == before.method
    assert "channel infrared" in after.method.words
    assert not np.array_equal(after.maps[0].values, before.maps[0].values)
    methods = child(frame, QComboBox, "method")
    methods.setCurrentIndex(methods.findData("occlusion"))
    methods.activated.emit(methods.currentIndex())
    assert not box.isVisible()
