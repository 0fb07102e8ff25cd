"""The Explain stage: maps side by side, activations opened, numbers, classes, the strip, evidence seen again."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import pytest
from PyQt6.QtCore import QPoint, Qt
from PyQt6.QtGui import QGuiApplication
from PyQt6.QtWidgets import QComboBox, QFileDialog, QLabel, QMenu, QPushButton, QSpinBox, QTableView
from pytestqt.qtbot import QtBot
from tests.answering import answer, by
from tests.driving import LEFT, child, click, stage

from attentive_lens.desk.requests import table as ask
from attentive_lens.desk.requests.causes import Cause, CausesFound, Remedy
from attentive_lens.explaining.methods import MAP_METHODS
from attentive_lens.formats.reading import read_model
from attentive_lens.window.explaining.activations import ActivationsPanel
from attentive_lens.window.explaining.causes import CausesPanel
from attentive_lens.window.explaining.change import ChangePanel
from attentive_lens.window.explaining.channel import ChannelView, Overlays
from attentive_lens.window.explaining.classes import ClassesPanel
from attentive_lens.window.explaining.maps import MapsPanel
from attentive_lens.window.explaining.neighbours import NeighboursPanel
from attentive_lens.window.explaining.numbers import NumbersModel, NumbersPanel
from attentive_lens.window.explaining.twins import Twins
from attentive_lens.window.frame import Frame
from attentive_lens.window.pages.explain import ExplainPage
from attentive_lens.window.pages.results import ResultsPage
from attentive_lens.window.parts.bars import Bars
from attentive_lens.window.parts.lens import Lens
from attentive_lens.window.parts.sheet import ContactSheet
from attentive_lens.window.parts.tiles import Tiles


@pytest.fixture
def page(qtbot: QtBot, shared: Frame) -> ExplainPage:
    """The stage with the surest mistake under the lens."""
    stage(qtbot, shared, "explain")
    page = shared.page("explain")
    assert isinstance(page, ExplainPage)
    first = shared.session.scores.mistakes()[0]
    page.open_image(first)
    qtbot.waitUntil(lambda: page.explanation is not None and page.explanation.image == first, timeout=30_000)
    return page


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
    click(qtbot, shared, "drawer maps")
    tiles, panel = child(shared, Tiles, "map tiles"), page.drawer.of(MapsPanel)
    made = panel.made
    qtbot.waitUntil(lambda: len(tiles.tiles) == len(MAP_METHODS), timeout=60_000)
    qtbot.waitUntil(lambda: "pass" in panel.says.text(), timeout=60_000)
    made = panel.made
    assert made is not None
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
    wanted = answer(ask.Explain(ask.RunImage(folder_of(shared), 1, shown.image), target=other)).map("for")
    lens, right = child(shared, Lens, "lens predicted"), child(shared, Lens, "lens true")
    positive = right.map
    click(qtbot, shared, "both signs")
    assert right.signed
    assert right.map != positive
    side = right.square().width()
    at = QPoint(int(side * 0.4), int(side * 0.7))
    qtbot.mouseMove(right, at)
    size = wanted.values.shape[0]
    row, column = int((at.y()) / side * size), int((at.x()) / side * size)
    value = child(shared, QLabel, "map value")
    qtbot.waitUntil(lambda: value.text().startswith(f"pixel {column}, {row}: "), timeout=5_000)
    figure = f"for {other} {float(wanted.values[row, column]):+.3g}".replace("-", "\u2212")
    assert value.text().endswith(figure)
    assert lens.top == right.top == pytest.approx(max(np.abs(m.values).max() for m in shown.maps), rel=0.6)
    choose(child(shared, QComboBox, "map baseline"), "from black")
    black = (
        answer(
            ask.Explain(ask.RunImage(folder_of(shared), 1, shown.image), by("integrated_gradients", baseline="black"))
        )
        .maps[0]
        .values
    )

    def is_black() -> bool:
        return page.explanation is not None and np.allclose(page.explanation.maps[0].values, black, atol=1e-6)

    qtbot.waitUntil(is_black, timeout=30_000)
    click(qtbot, shared, "pin map")
    settings = shared.session.cases.book.of_image(shown.image).evidence[-1].settings
    assert settings == {"kind": "integrated_gradients", "baseline": "black", "for": other}
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
    side = lens.square().width()
    shift = Qt.KeyboardModifier.ShiftModifier
    first, last = QPoint(int(side * 0.2), int(side * 0.1)), QPoint(int(side * 0.6), int(side * 0.3))
    before = (lens.across, lens.below)
    qtbot.mousePress(lens, LEFT, shift, first)
    qtbot.mouseMove(lens, last)
    qtbot.mouseRelease(lens, LEFT, shift, last)
    assert (lens.across, lens.below) == before
    panel = page.drawer.of(ChangePanel)
    assert page.drawer.panels.currentWidget() is panel
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
    click(qtbot, shared, "drawer maps")
    click(qtbot, shared, f"show evidence {place}")
    qtbot.waitUntil(lambda: panel.tried is not None and panel.tried.after[0].change == change, timeout=30_000)
    assert np.array_equal(panel.tried.pixels, tried.pixels)


def test_feature_maps_are_sorted_opened_beside_another_image_and_switched_off(
    qtbot: QtBot, shared: Frame, page: ExplainPage
) -> None:
    click(qtbot, shared, "drawer activations")
    panel, tiles = page.drawer.of(ActivationsPanel), child(shared, Tiles, "channels")
    qtbot.waitUntil(lambda: bool(tiles.tiles), timeout=30_000)
    layer = panel.layer
    image = page.image or 0
    maps = answer(ask.Activations(ask.RunImage(folder_of(shared), 1, image), (layer,))).outputs[layer]
    assert panel.order == np.argsort(-np.abs(maps).mean(axis=(0, 1)), kind="stable").tolist()
    choose(child(shared, QComboBox, "channels order"), "by number")
    assert panel.order == list(range(maps.shape[2]))
    seen = answer(ask.Channels(ask.RunImage(folder_of(shared), 1, image), layer, 0))
    choose(child(shared, QComboBox, "channels order"), "what they add")
    adds = [each.channel for each in seen.channels]
    qtbot.waitUntil(lambda: panel.order == adds, timeout=30_000)
    assert tiles.tiles[0].caption.startswith(f"{adds[0]}  ")
    found = answer(ask.Neighbours(ask.RunImage(folder_of(shared), 1, image), count=1))
    name, near = next(iter(found.right.items()))
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
    told = answer(ask.Channels(ask.RunImage(folder_of(shared), 1, image), layer, adds[0]))
    click(qtbot, shared, "channel off")
    off = next(each.probabilities for each in told.answers if each.factor == 0)
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
    click(qtbot, shared, "drawer change")
    click(qtbot, shared, f"show evidence {len(evidence) - 1}")
    qtbot.waitUntil(lambda: panel.open_channel == adds[0] and view.seen is not None, timeout=30_000)
    assert view.factor == 0.0
    choose(child(shared, QComboBox, "image beside"), "alone")
    qtbot.waitUntil(lambda: view.shown is not None and view.shown.other is None, timeout=10_000)
    click(qtbot, shared, "all channels")


def test_raw_numbers_stand_in_a_table_that_is_copied_and_saved(
    qtbot: QtBot, shared: Frame, page: ExplainPage, tmp_path: Path
) -> None:
    click(qtbot, shared, "drawer numbers")
    panel, model = page.drawer.of(NumbersPanel), page.drawer.of(NumbersPanel).model
    choose(child(shared, QComboBox, "numbers layer"), "convolution 2")
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
    click(qtbot, shared, "drawer classes")
    click(qtbot, shared, "look at classes")
    panel, tiles = page.drawer.of(ClassesPanel), child(shared, Tiles, "class tiles")
    qtbot.waitUntil(lambda: panel.found is not None or panel.ask_button.isEnabled(), timeout=60_000)
    found = panel.found
    assert found is not None, panel.says.text()
    assert [tile.caption.removeprefix("! ") for tile in tiles.tiles] == [each.name for each in found.classes]
    qtbot.mouseClick(tiles.viewport(), LEFT, pos=tiles.box(0).center())
    images = list(found.classes[0].images)
    assert page.walked == images
    qtbot.waitUntil(lambda: page.explanation is not None and page.explanation.image == images[0], timeout=30_000)
    assert child(shared, QLabel, "mistake place").text().startswith(f"chosen 1 of {len(images)}")
    assert page.explanation is not None
    assert page.explanation.predicted == page.explanation.true
    page.walk_through([])


def test_the_strip_leads_from_mistake_to_mistake(qtbot: QtBot, shared: Frame, page: ExplainPage) -> None:
    strip = child(shared, ContactSheet, "image strip")
    mistakes = shared.session.scores.mistakes()
    assert [place + 1 for group in strip.groups for place in group.places] == list(mistakes)
    assert strip.current == mistakes[0] - 1
    qtbot.keyClick(strip, Qt.Key.Key_Down)
    qtbot.waitUntil(lambda: page.image == mistakes[1], timeout=30_000)
    click(qtbot, shared, "next mistake")
    qtbot.waitUntil(lambda: strip.current == mistakes[2 % len(mistakes)] - 1, timeout=30_000)


def test_a_missing_kind_is_one_key_from_a_note(qtbot: QtBot, shared: Frame, page: ExplainPage) -> None:
    click(qtbot, shared, "drawer neighbours")
    panel = page.drawer.of(NeighboursPanel)
    qtbot.waitUntil(lambda: panel.found is not None, timeout=30_000)
    click(qtbot, shared, "maps of neighbours")
    numbers = {each.image for rows in panel.found.near.values() for each in rows}  # type: ignore[union-attr]
    qtbot.waitUntil(lambda: numbers <= panel.maps.keys(), timeout=30_000)
    number = min(numbers)
    wanted = answer(ask.Explain(ask.RunImage(folder_of(shared), 1, number), by("gradient_times_input"))).maps[0].values
    assert panel.maps[number] == pytest.approx(wanted, abs=1e-4 * float(np.abs(wanted).max()))
    sheet = child(shared, ContactSheet, "neighbours sheet")
    assert {place + 1 for place in sheet.maps} >= numbers
    over = sheet.grab().toImage()
    click(qtbot, shared, "maps of neighbours")
    assert sheet.maps == {}
    assert sheet.grab().toImage() != over
    qtbot.keyClick(panel, Qt.Key.Key_M)
    case = shared.session.cases.book.of_image(page.image or 0)
    assert case is not None
    assert case.note.startswith("training images like this one are missing")
    assert shared.findChild(QPushButton, "kind is missing").isEnabled()


def test_a_remedy_relabels_shows_images_to_decide_about_or_stands_with_their_cases(
    qtbot: QtBot, shared: Frame, page: ExplainPage
) -> None:
    panel, images = page.drawer.of(CausesPanel), shared.session.images
    click(qtbot, shared, "drawer causes")
    panel.check()
    mistakes = shared.session.scores.mistakes()[:3]
    rows = images.collection.rows
    gone, kept = images.collection.classes[:2]
    remedies = (
        Remedy("merge", f"Make {gone} part of {kept}", "As one class 3 of 3", 1.0, merges=(gone, kept)),
        Remedy("collect", "Collect such images", "Not tried: only training tells. Wanted are more"),
        Remedy("decide", "Look at each", "One by one"),
    )
    group = Cause("overlap", "confuse two", tuple(mistakes), {kept: 3}, "why", "what", {}, None, None, 1.0, remedies)
    panel._take(CausesFound(1, shared.session.scores.on, 3, (group,)))
    qtbot.waitUntil(lambda: bool(panel.rows[0].pictures.pictures), timeout=10_000)
    row = panel.rows[0].pictures
    qtbot.mouseClick(row, LEFT, pos=QPoint(row.side + 4 + 5, 5))
    qtbot.waitUntil(lambda: page.image == mistakes[1], timeout=30_000)
    assert page.walked == list(mistakes)
    qtbot.waitUntil(lambda: page.explanation is not None and page.explanation.image == mistakes[1], timeout=30_000)
    page.case.open_case()
    click(qtbot, shared, "remedy 0 collect")
    assert shared.session.cases.book.of_image(mistakes[1]).remedy == "collect such images"
    before = [each.label for each in rows]
    click(qtbot, shared, "remedy 0 merge")
    one, other = (images.collection.classes.index(name) for name in (gone, kept))
    after = [each.label for each in images.collection.rows]
    assert after == [other if label == one else label for label in before]
    images.undo()
    assert [each.label for each in images.collection.rows] == before
    click(qtbot, shared, "remedy 0 decide")
    sheet = child(shared, ContactSheet, "cause sheet")
    assert [place + 1 for part in sheet.groups for place in part.places] == list(mistakes)
    sheet.select(mistakes[0] - 1)
    assert panel.decisions.places == (mistakes[0] - 1,)
    qtbot.keyClick(panel, Qt.Key.Key_F)
    assert images.collection.rows[mistakes[0] - 1].flagged
    click(qtbot, shared, "all causes")
    assert panel.pages.currentIndex() == 0
    panel.choose(0)


def test_images_chosen_in_the_results_are_walked_through(qtbot: QtBot, shared: Frame, page: ExplainPage) -> None:
    results = shared.page("results")
    assert isinstance(results, ResultsPage)
    stage(qtbot, shared, "results")
    results.behind.wrong()
    wanted = [place + 1 for part in results.chosen.parts for place in part.places]
    assert len(wanted) > 2
    results._open(wanted[2] - 1)
    qtbot.waitUntil(lambda: shared.current == "explain" and page.image == wanted[2], timeout=30_000)
    assert page.walked == wanted
    assert list(page.strip.images) == wanted
    page.walk_through([])


def test_a_map_is_saved_from_its_menu_and_a_place_that_cannot_be_written_is_said(
    shared: Frame, page: ExplainPage, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    messages: list[tuple[str, bool]] = []
    shared.session.message.connect(lambda sentence, bad: messages.append((sentence, bad)))
    lens = child(shared, Lens, "lens predicted")
    for file, bad in ((tmp_path / "map.npy", False), (tmp_path / "nowhere" / "map.npy", True)):
        monkeypatch.setattr(QFileDialog, "getSaveFileName", lambda *_, file=file: (str(file), ""))
        lens.customContextMenuRequested.emit(QPoint(5, 5))
        menu = lens.findChildren(QMenu, "picture menu")[-1]
        picture, values = menu.actions()
        values.trigger()
        menu.close()
        assert messages[-1][1] is bad
        assert str(file) in messages[-1][0]
    shown = page.explanation
    assert shown is not None
    assert np.array_equal(np.load(tmp_path / "map.npy"), shown.maps[0].values)
    monkeypatch.setattr(QFileDialog, "getSaveFileName", lambda *_: (str(tmp_path / "map.svg"), ""))
    picture.trigger()
    assert "<svg" in (tmp_path / "map.svg").read_text("utf-8")
