"""The Explain stage: maps side by side, activations opened, numbers, classes, the strip, evidence seen again."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import pytest
from PyQt6.QtCore import QPoint, Qt
from PyQt6.QtGui import QGuiApplication
from PyQt6.QtWidgets import QComboBox, QLabel, QSpinBox, QTableView
from pytestqt.qtbot import QtBot
from tests.answering import answer, by
from tests.driving import LEFT, child, click

from attentive_lens.desk.requests.explaining import Activations, Explain
from attentive_lens.desk.requests.inspecting import Channels, Neighbours
from attentive_lens.desk.requests.subjects import RunImage
from attentive_lens.explaining.methods import MAP_METHODS
from attentive_lens.formats.reading import read_model
from attentive_lens.window.bench.bench import Bench
from attentive_lens.window.explaining.activations import ActivationsPanel
from attentive_lens.window.explaining.change import ChangePanel
from attentive_lens.window.explaining.channel import ChannelView, Overlays
from attentive_lens.window.explaining.classes import ClassesPanel
from attentive_lens.window.explaining.maps import MapsPanel
from attentive_lens.window.explaining.numbers import NumbersModel, NumbersPanel
from attentive_lens.window.explaining.twins import Twins
from attentive_lens.window.frame import Frame
from attentive_lens.window.pages.explain import ExplainPage
from attentive_lens.window.parts.bars import Bars
from attentive_lens.window.parts.basics import OneLine
from attentive_lens.window.parts.lens import Lens
from attentive_lens.window.parts.map_scale import MapScale
from attentive_lens.window.parts.tiles import Tiles


def choose(box: QComboBox, words: str) -> None:
    at = box.findText(words)
    assert at >= 0, [box.itemText(k) for k in range(box.count())]
    box.setCurrentIndex(at)
    box.activated.emit(at)


def folder_of(frame: Frame) -> str:
    return str(frame.session.workspace.folder)


def test_every_method_has_a_tile_and_a_click_puts_its_map_under_the_lens(
    qtbot: QtBot, shared: Frame, page: ExplainPage, tmp_path: Path
) -> None:
    click(qtbot, shared, "evidence maps")
    tiles, panel = child(shared, Tiles, "map tiles"), page.evidence.of(MapsPanel)
    made = panel.made
    qtbot.waitUntil(lambda: len(tiles.tiles) == len(MAP_METHODS), timeout=60_000)
    qtbot.waitUntil(lambda: panel.made is not None and panel.made.tested, timeout=60_000)
    made = panel.made
    assert made is not None
    assert ("pass" if any(each.passed is not None for each in made.maps) else "decide") in panel.says.text()
    number = next(k for k, each in enumerate(made.maps) if each.method.kind == "gradient")
    qtbot.mouseClick(tiles.viewport(), LEFT, pos=tiles.box(number).center())
    qtbot.waitUntil(lambda: page.explanation is not None and page.explanation.method.kind == "gradient", timeout=30_000)
    assert child(shared, QComboBox, "method").currentData() == "gradient"
    assert tiles.marked == number
    panel.write(tmp_path)
    shown = page.explanation
    assert shown is not None
    stem = f"image-{shown.image:05d}-{shown.predicted}-gradient"
    assert np.load(tmp_path / f"{stem}.npy") == pytest.approx(shown.maps[0].values, abs=1e-5)
    assert (tmp_path / f"{stem}.png").exists()
    choose(child(shared, QComboBox, "maps target"), "said − true")
    qtbot.waitUntil(lambda: panel.made is not None and bool(panel.made.against), timeout=30_000)
    click(qtbot, shared, "pin maps")
    evidence = shared.session.cases.book.cases[-1].evidence[-1]
    assert (evidence.kind, evidence.settings) == ("maps", {"for": "said − true"})


def test_the_pair_shows_any_class_both_signs_their_scale_and_the_value_under_the_mouse(
    qtbot: QtBot, shared: Frame, page: ExplainPage
) -> None:
    twins = shared.findChild(Twins)
    assert twins is not None
    shown = page.explanation
    assert shown is not None
    choose(child(shared, QComboBox, "method"), "integrated gradients")
    qtbot.waitUntil(lambda: page.explanation is not None and page.explanation.method.kind != "gradient", timeout=30_000)
    other = next(name for name in shown.probabilities if name not in (shown.predicted, shown.true))
    choose(child(shared, QComboBox, "right map"), f"for {other}")
    name = child(shared, QLabel, "true name")
    qtbot.waitUntil(lambda: name.text() == other, timeout=30_000)
    shown = page.explanation
    assert shown is not None
    wanted = answer(Explain(RunImage(folder_of(shared), 1, shown.image), target=other)).map("for")
    lens, right = child(shared, Lens, "lens predicted"), child(shared, Lens, "lens true")
    positive = right.map
    click(qtbot, shared, "both signs")
    scale = child(shared, MapScale, "scale predicted")
    assert scale.signed
    assert right.map != positive
    side = right.area().width()
    at = QPoint(int(side * 0.4), int(side * 0.7))
    qtbot.mouseMove(right, at)
    size = wanted.values.shape[0]
    row, column = int((at.y()) / side * size), int((at.x()) / side * size)
    value = child(shared, QLabel, "method shows")
    qtbot.waitUntil(lambda: value.text().startswith(f"pixel {column}, {row}: "), timeout=5_000)
    figure = f"for {other} {float(wanted.values[row, column]):+.3g}".replace("-", "\u2212")
    assert value.text().endswith(figure)
    assert scale.top == pytest.approx(max(np.abs(m.values).max() for m in shown.maps), rel=0.6)
    assert lens.map != right.map
    choose(child(shared, QComboBox, "map baseline"), "from black")
    black = (
        answer(Explain(RunImage(folder_of(shared), 1, shown.image), by("integrated_gradients", baseline="black")))
        .maps[0]
        .values
    )

    def is_black() -> bool:
        return page.explanation is not None and np.allclose(page.explanation.maps[0].values, black, atol=1e-6)

    qtbot.waitUntil(is_black, timeout=30_000)
    click(qtbot, shared, "pin map")
    settings = shared.session.cases.book.of_image(shown.image).evidence[-1].settings
    assert settings == {"kind": "integrated_gradients", "channel": "", "baseline": "black", "for": other}
    choose(child(shared, QComboBox, "right map"), "true")
    choose(child(shared, QComboBox, "method"), "gradient")
    qtbot.waitUntil(lambda: page.explanation is not None and page.explanation.method.kind == "gradient", timeout=30_000)
    place = len(shared.session.cases.book.of_image(shown.image).evidence) - 1
    click(qtbot, shared, f"show evidence {place}")
    qtbot.waitUntil(is_black, timeout=30_000)
    assert page.explanation is not None
    assert page.explanation.map("for") is not None
    assert child(shared, QComboBox, "map baseline").currentData() == "black"
    choose(child(shared, QComboBox, "map baseline"), "from blurred")


def test_a_region_drawn_with_shift_is_covered_and_shown_again_from_the_case(
    qtbot: QtBot, shared: Frame, page: ExplainPage
) -> None:
    lens = child(shared, Lens, "lens predicted")
    side = lens.area().width()
    shift = Qt.KeyboardModifier.ShiftModifier
    first, last = QPoint(int(side * 0.2), int(side * 0.1)), QPoint(int(side * 0.6), int(side * 0.3))
    before = (lens.across, lens.below)
    qtbot.mousePress(lens, LEFT, shift, first)
    qtbot.mouseMove(lens, last)
    qtbot.mouseRelease(lens, LEFT, shift, last)
    assert (lens.across, lens.below) == before
    panel = page.evidence.of(ChangePanel)
    assert panel.isVisible()
    change = panel.change()
    assert (change.kind, change.across, change.side) == (
        "cover",
        pytest.approx((last.x() - first.x()) / side, abs=1e-3),
        pytest.approx((last.y() - first.y()) / side, abs=1e-3),
    )
    qtbot.waitUntil(lambda: panel.tried is not None and panel.tried.after[0].change == change, timeout=30_000)
    tried = panel.tried
    assert tried is not None
    click(qtbot, shared, "map of change")
    qtbot.waitUntil(lambda: panel.tried is not None and panel.tried.maps is not None, timeout=30_000)
    click(qtbot, shared, "map of change")
    click(qtbot, shared, "pin change")
    choose(child(shared, QComboBox, "change"), "mix with another image")
    qtbot.waitUntil(lambda: panel.tried is not None and panel.tried.after[0].change.kind == "mix", timeout=30_000)
    place = len(shared.session.cases.book.of_image(page.image or 0).evidence) - 1
    click(qtbot, shared, "evidence maps")
    click(qtbot, shared, f"show evidence {place}")
    qtbot.waitUntil(lambda: panel.tried is not None and panel.tried.after[0].change == change, timeout=30_000)
    assert np.array_equal(panel.tried.pixels, tried.pixels)


def test_feature_maps_are_sorted_opened_beside_another_image_and_switched_off(
    qtbot: QtBot, shared: Frame, page: ExplainPage
) -> None:
    click(qtbot, shared, "evidence layers")
    click(qtbot, shared, "view activations")
    panel, tiles = page.evidence.of(ActivationsPanel), child(shared, Tiles, "channels")
    qtbot.waitUntil(lambda: bool(tiles.tiles), timeout=30_000)
    layer = panel.layer
    image = page.image or 0
    maps = answer(Activations(RunImage(folder_of(shared), 1, image), (layer,))).outputs[layer]
    assert panel.order == np.argsort(-np.abs(maps).mean(axis=(0, 1)), kind="stable").tolist()
    choose(child(shared, QComboBox, "channels order"), "by number")
    assert panel.order == list(range(maps.shape[2]))
    seen = answer(Channels(RunImage(folder_of(shared), 1, image), layer, 0))
    choose(child(shared, QComboBox, "channels order"), "what they add")
    adds = [each.channel for each in seen.channels]
    qtbot.waitUntil(lambda: panel.order == adds, timeout=30_000)
    assert tiles.tiles[0].caption.startswith(f"{adds[0]}  ")
    result = answer(Neighbours(RunImage(folder_of(shared), 1, image), count=1))
    name, near = next(iter(result.right.items()))
    choose(child(shared, QComboBox, "image beside"), f"nearest right {name}")
    qtbot.waitUntil(lambda: panel.beside == near.image and bool(panel.beside_maps), timeout=30_000)
    assert len(tiles.tiles[0].pictures) == 2
    qtbot.mouseClick(tiles.viewport(), LEFT, pos=tiles.box(0).center())
    view = child(shared, ChannelView, "channel view")
    assert panel.open_channel == adds[0]
    qtbot.waitUntil(lambda: view.seen is not None, timeout=30_000)
    assert [words for words, _ in child(shared, Overlays, "channel pictures").pictures] == [
        "this image",
        f"image {near.image}",
        "difference",
    ]
    summary = answer(Channels(RunImage(folder_of(shared), 1, image), layer, adds[0]))
    click(qtbot, shared, "channel off")
    off = next(each.probabilities for each in summary.answers if each.factor == 0)
    for bar in child(shared, Bars, "channel answers").bars:
        assert bar.figure.startswith(f"{off[bar.name]:.2f} ")
    qtbot.waitUntil(lambda: view.chart.seen is not None, timeout=30_000)
    assert view.chart.own is not None
    assert int(view.chart.own.sum()) == maps.size
    click(qtbot, shared, "pin activations")
    evidence = shared.session.cases.book.of_image(image).evidence
    assert evidence[-1].settings == {"layer": layer, "channel": adds[0], "factor": 0.0}
    qtbot.keyClick(view, Qt.Key.Key_Right)
    assert panel.open_channel == adds[1]
    qtbot.keyClick(view, Qt.Key.Key_Escape)
    assert panel.open_channel is None
    click(qtbot, shared, "evidence change")
    click(qtbot, shared, f"show evidence {len(evidence) - 1}")
    qtbot.waitUntil(lambda: panel.open_channel == adds[0] and view.seen is not None, timeout=30_000)
    assert view.factor == 0.0
    choose(child(shared, QComboBox, "image beside"), "no other image")
    qtbot.waitUntil(lambda: view.shown is not None and view.shown.other is None, timeout=10_000)
    click(qtbot, shared, "all channels")


def test_raw_numbers_stand_in_a_table_that_is_copied_and_saved(
    qtbot: QtBot, shared: Frame, page: ExplainPage, tmp_path: Path
) -> None:
    click(qtbot, shared, "evidence layers")
    click(qtbot, shared, "view numbers")
    panel, model = page.evidence.of(NumbersPanel), page.evidence.of(NumbersPanel).model
    bench = child(shared, Bench, "explain bench")
    bench.choose(next(k for k, plate in enumerate(bench.plates) if plate.name == "convolution 2"))
    qtbot.waitUntil(lambda: panel.seen is not None and panel.seen.layer == "convolution 2", timeout=30_000)
    assert isinstance(model, NumbersModel)
    kernel = read_model(shared.session.workspace.run(1).model).weights["convolution 2"]["kernel"]
    child(shared, QSpinBox, "numbers channel").setValue(3)
    assert model.rowCount() == kernel[..., 3].size
    heads = model.headings()
    assert heads[:6] == ["row", "column", "input", "channel", "kernel", "gradient"]
    for row in (0, 7, model.rowCount() - 1):
        place = tuple(int(model.text(row, k)) for k in range(4))
        assert float(model.text(row, 4, ".9g")) == pytest.approx(float(kernel[place]), rel=1e-7)
    table = child(shared, QTableView, "numbers table")
    table.selectRow(2)
    qtbot.keyClick(table, Qt.Key.Key_C, Qt.KeyboardModifier.ControlModifier)
    clipboard = QGuiApplication.clipboard()
    assert clipboard is not None
    assert clipboard.text().splitlines() == [line.replace(",", "\t") for line in model.written([2]).splitlines()]
    panel.write(tmp_path / "numbers.csv")
    assert (tmp_path / "numbers.csv").read_text("utf-8") == model.written()
    panel.write(tmp_path / "numbers.npy")
    assert np.array_equal(np.load(tmp_path / "numbers.npy"), kernel)
    messages: list[tuple[str, bool]] = []
    shared.session.message.connect(lambda sentence, bad: messages.append((sentence, bad)))
    panel.write(tmp_path / "nowhere" / "numbers.npy")
    assert messages[-1][1]
    assert "could not be written" in messages[-1][0]
    array = child(shared, QComboBox, "numbers array")
    choose(array, "bias")
    qtbot.waitUntil(lambda: panel.seen is not None and panel.seen.array == "bias", timeout=30_000)
    assert model.headings()[0] == "channel"


def test_classes_are_looked_at_and_walked_through(qtbot: QtBot, shared: Frame, page: ExplainPage) -> None:
    click(qtbot, shared, "evidence causes")
    click(qtbot, shared, "view of right answers")
    panel, tiles = page.evidence.of(ClassesPanel), child(shared, Tiles, "class tiles")
    qtbot.waitUntil(lambda: panel.result is not None or panel.ask_button.isVisible(), timeout=60_000)
    result = panel.result
    assert result is not None, panel.says.text()
    assert [tile.caption.removeprefix("! ") for tile in tiles.tiles] == [each.name for each in result.classes]
    qtbot.mouseClick(tiles.viewport(), LEFT, pos=tiles.box(0).center())
    images = list(result.classes[0].images)
    assert page.walked == images
    qtbot.waitUntil(lambda: page.explanation is not None and page.explanation.image == images[0], timeout=30_000)
    assert child(shared, OneLine, "mistake place").text().startswith(f"chosen 1 of {len(images)}")
    assert page.explanation is not None
    assert page.explanation.predicted == page.explanation.true
    page.walk_through([])
