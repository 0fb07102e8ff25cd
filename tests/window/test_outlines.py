"""Outlines in the window: drawn by hand, taken in, undone; and what Results and Explain tell of them."""

from __future__ import annotations

import json
from collections.abc import Callable
from dataclasses import replace
from pathlib import Path

import numpy as np
import pytest
from PyQt6.QtCore import QPoint, QPointF, Qt
from PyQt6.QtGui import QAction, QStandardItemModel
from PyQt6.QtTest import QTest
from PyQt6.QtWidgets import QComboBox, QFileDialog, QLabel, QPushButton, QTableWidget
from pytestqt.qtbot import QtBot
from tests.driving import child, click, said, stage, to_explain

from attentive_lens.core.jobs import finish
from attentive_lens.desk.images.outlines import known_outlines
from attentive_lens.desk.requests.objects import MeasureObjects
from attentive_lens.desk.tasks import carry_out
from attentive_lens.images.outlines import Outline
from attentive_lens.window.explaining.twins import Twins
from attentive_lens.window.frame import Frame
from attentive_lens.window.images.canvas import Canvas
from attentive_lens.window.images.viewer import Viewer
from attentive_lens.window.pages.images import ImagesPage
from attentive_lens.window.pages.results import ResultsPage
from attentive_lens.window.parts.contour import contour
from attentive_lens.window.parts.tiles import Tiles
from attentive_lens.window.results.objects import ObjectsView
from attentive_lens.workspace import Workspace

OpenFrame = Callable[[Workspace], Frame]
LEFT, PLAIN = Qt.MouseButton.LeftButton, Qt.KeyboardModifier.NoModifier
PLACE, IMAGE = 2, 3


def opened(qtbot: QtBot, frame: Frame, place: int = PLACE) -> Canvas:
    """An image in full size."""
    stage(qtbot, frame, "images")
    page = frame.page("images")
    assert isinstance(page, ImagesPage)
    page.open_full(place)
    canvas = child(frame, Canvas, "full picture")
    qtbot.waitUntil(lambda: canvas.picture is not None, timeout=30_000)
    return canvas


def at(canvas: Canvas, across: float, down: float) -> QPoint:
    """Where a place of the picture is on the canvas."""
    return (canvas.corner + QPointF(across, down) * canvas.scale).toPoint()


def drag(canvas: Canvas, begin: tuple[float, float], end: tuple[float, float]) -> None:
    QTest.mousePress(canvas, LEFT, PLAIN, at(canvas, *begin))
    for part in (0.5, 1.0):
        between = [one + part * (other - one) for one, other in zip(begin, end, strict=True)]
        QTest.mouseMove(canvas, at(canvas, *between))
    QTest.mouseRelease(canvas, LEFT, PLAIN, at(canvas, *end))


def outline(frame: Frame, image: int = IMAGE) -> Outline:
    return known_outlines(Workspace.open(frame.session.workspace.folder)).get(image, Outline())


def test_a_rectangle_and_a_polygon_are_drawn_undone_and_taken_away(
    qtbot: QtBot, open_frame: OpenFrame, station: Workspace
) -> None:
    frame = open_frame(station)
    canvas = opened(qtbot, frame)
    first = outline(frame)
    assert said(frame, "outline state") == "Taken from a file."
    click(qtbot, frame, "remove outline")
    assert not outline(frame)
    assert said(frame, "outline state") == "No outline."
    assert not child(frame, QPushButton, "remove outline").isEnabled()
    drag(canvas, (8, 8), (30, 20))
    assert not outline(frame), "without a shape in hand the picture is moved"
    canvas.fit()
    click(qtbot, frame, "draw rectangle")
    drag(canvas, (10, 12), (30, 40))
    (corners,) = outline(frame).polygons
    assert np.allclose(corners, [(10, 12), (30, 12), (30, 40), (10, 40)], atol=0.2)
    assert said(frame, "outline state") == "Drawn by hand."
    QTest.mouseClick(canvas, LEFT, PLAIN, at(canvas, 50, 50))
    assert len(outline(frame).polygons) == 1, "a click is no rectangle"
    canvas.drawn.emit([(1.0, 1.0), (2.0, 2.0), (3.0, 3.0)])
    assert "lie on one line" in frame.bottom.message.text()
    assert len(outline(frame).polygons) == 1
    drag(canvas, (50, 50), (90, 90))
    assert np.allclose(outline(frame).polygons[1], [(50, 50), (64, 50), (64, 64), (50, 64)], atol=0.2), "to the edge"
    viewer = child(frame, Viewer, "viewer")
    qtbot.keyClick(viewer, Qt.Key.Key_P)
    assert child(frame, QPushButton, "draw polygon").isChecked()
    assert not child(frame, QPushButton, "draw rectangle").isChecked()
    for place in ((5, 5), (40, 5), (60, 60), (20, 30)):
        QTest.mouseClick(canvas, LEFT, PLAIN, at(canvas, *place))
    canvas.grab()
    qtbot.keyClick(viewer, Qt.Key.Key_Backspace)
    qtbot.keyClick(viewer, Qt.Key.Key_Return)
    assert np.allclose(outline(frame).polygons[2], [(5, 5), (40, 5), (60, 60)], atol=0.2)
    for place in ((1, 1), (9, 1), (9, 9)):
        QTest.mouseClick(canvas, LEFT, PLAIN, at(canvas, *place))
    QTest.mouseClick(canvas, LEFT, PLAIN, at(canvas, 1, 1))
    assert len(outline(frame).polygons) == 4, "a press on the first corner closes it"
    QTest.mouseClick(canvas, LEFT, PLAIN, at(canvas, 33, 33))
    for left in (0, 0):
        qtbot.keyClick(viewer, Qt.Key.Key_Escape)
        assert len(canvas.corners) == left
    assert canvas.draws == "", "the first takes the corners back, the second stops drawing"
    assert viewer.isVisible()
    for _ in range(5):
        qtbot.keyClick(frame, Qt.Key.Key_Z, Qt.KeyboardModifier.ControlModifier)
    assert outline(frame) == first
    assert said(frame, "outline state") == "Taken from a file."
    qtbot.keyClick(viewer, Qt.Key.Key_Escape)
    assert not viewer.isVisible()
    page = frame.page("images")
    assert isinstance(page, ImagesPage)
    page.browser.sheet.select(PLACE)
    assert "object outlined in a file" in said(frame, "image facts")


def test_another_image_takes_the_shape_out_of_the_hand(qtbot: QtBot, open_frame: OpenFrame, station: Workspace) -> None:
    frame = open_frame(station)
    canvas = opened(qtbot, frame)
    click(qtbot, frame, "draw polygon")
    QTest.mouseClick(canvas, LEFT, PLAIN, at(canvas, 5, 5))
    assert canvas.corners
    page = frame.page("images")
    assert isinstance(page, ImagesPage)
    page.open_full(PLACE + 1)
    assert (canvas.draws, canvas.corners) == ("", [])
    assert not child(frame, QPushButton, "draw polygon").isChecked()


def test_outlines_are_taken_in_and_written_by_the_menus(
    qtbot: QtBot, open_frame: OpenFrame, station: Workspace, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    frame = open_frame(station)
    stage(qtbot, frame, "images")
    message = frame.bottom.message
    shapes, masks = tmp_path / "some.json", tmp_path / "masks"
    shapes.write_text(json.dumps({"3": {"boxes": [[1, 2, 3, 4]]}, "nobody": {"boxes": [[1, 2, 3, 4]]}}))
    monkeypatch.setattr(QFileDialog, "getOpenFileName", lambda *_: (str(shapes), ""))
    monkeypatch.setattr(QFileDialog, "getSaveFileName", lambda *_: (str(tmp_path / "all"), ""))
    monkeypatch.setattr(QFileDialog, "getExistingDirectory", lambda *_: str(masks))
    child(frame, QAction, "take in shapes").trigger()
    qtbot.waitUntil(lambda: "1 image was taken" in message.text(), timeout=30_000)
    assert "nobody: no images here are called so" in message.text()
    assert outline(frame) == Outline.of_box(1, 2, 3, 4)
    child(frame, QAction, "save masks").trigger()
    qtbot.waitUntil(lambda: "90 outlines written to masks" in message.text(), timeout=30_000)
    child(frame, QAction, "save outlines").trigger()
    qtbot.waitUntil(lambda: "90 outlines written to all.json" in message.text(), timeout=30_000)
    child(frame, QAction, "take in masks").trigger()
    qtbot.waitUntil(lambda: "Outlines of 90 images were taken" in message.text(), timeout=30_000)
    assert outline(frame).mask(64, 64).sum() == 12
    shapes.write_text("{")
    child(frame, QAction, "take in shapes").trigger()
    qtbot.waitUntil(lambda: "it is no JSON" in message.text(), timeout=30_000)


def test_results_tell_what_answers_rest_on_and_show_it_on_an_image(
    qtbot: QtBot, open_frame: OpenFrame, station: Workspace
) -> None:
    frame = open_frame(station)
    stage(qtbot, frame, "results")
    page = frame.page("results")
    assert isinstance(page, ResultsPage)
    qtbot.waitUntil(lambda: frame.session.scores.current is not None, timeout=30_000)
    page.show_view("objects")
    view, table = page.view(ObjectsView), child(frame, QTableWidget, "objects table")
    qtbot.waitUntil(lambda: view.result is not None, timeout=60_000)
    result = finish(carry_out(MeasureObjects(str(station.folder), 1)))
    assert view.result == result
    assert table.rowCount() == len(result.rows)
    item = table.item(0, 0)
    assert item is not None
    assert item.text().startswith("all, right (")
    assert said(frame, "objects say") == " ".join(result.sentences())
    tiles = child(frame, Tiles, "object example")
    qtbot.waitUntil(lambda: len(tiles.tiles) == 3, timeout=30_000)
    table.selectRow(1)
    own = [each for each in result.images if each.predicted != each.true]
    qtbot.waitUntil(lambda: said(frame, "object example says") == f"Image {own[0].image}", timeout=30_000)
    assert [tile.caption.split(":")[0] for tile in tiles.tiles] == ["as it is", "without", "alone"]
    for tile, word in zip(tiles.tiles, (own[0].predicted, own[0].without, own[0].alone), strict=True):
        assert f": {word} " in tile.caption
    with qtbot.waitSignal(frame.session.explain_asked) as asking:
        tiles.chosen.emit(0)
    assert asking.args == [own[0].image]


def test_a_reason_beside_the_object_is_listed_and_leads_to_crops(
    qtbot: QtBot, open_frame: OpenFrame, station: Workspace, monkeypatch: pytest.MonkeyPatch
) -> None:
    real = finish(carry_out(MeasureObjects(str(station.folder), 1)))
    right = next(each for each in real.images if each.predicted == each.true)
    images = tuple(replace(each, on_rest=each is right) for each in real.images)
    frame = open_frame(station)
    stage(qtbot, frame, "results")
    page = frame.page("results")
    assert isinstance(page, ResultsPage)
    qtbot.waitUntil(lambda: frame.session.scores.current is not None, timeout=30_000)
    page.show_view("objects")
    view = page.view(ObjectsView)
    qtbot.waitUntil(lambda: view.result is not None, timeout=60_000)
    view._take(replace(real, images=images))
    assert view.figure() == "1 right by the rest"
    chip = child(frame, QPushButton, "wrong reason")
    assert chip.text() == "1 right for the wrong reason"
    assert not child(frame, QPushButton, "led astray").isVisible()
    with qtbot.waitSignal(view.chosen) as chosen:
        qtbot.mouseClick(chip, LEFT)
    assert chosen.args == ["1 right for the wrong reason", (right.image,)]
    assert frame.action.text() == "Train on crops to the object"
    qtbot.mouseClick(frame.action, LEFT)
    assert frame.session.design.plan.preprocessing.crop_to == "object"
    assert frame.current == "training"
    assert view.action() is None, "it is done"


def test_a_set_without_outlines_says_what_to_do(qtbot: QtBot, open_frame: OpenFrame, station: Workspace) -> None:
    station.catalogue.outlines.forget()
    frame = open_frame(station)
    stage(qtbot, frame, "results")
    page = frame.page("results")
    assert isinstance(page, ResultsPage)
    qtbot.waitUntil(lambda: frame.session.scores.current is not None, timeout=30_000)
    page.show_view("objects")
    qtbot.waitUntil(lambda: "no validation image has an outline" in said(frame, "objects say"), timeout=30_000)
    image = frame.session.scores.current.answers[0].image  # type: ignore[union-attr]
    box = Outline.of_box(8, 8, 40, 40)
    frame.session.images.decide("outlined an image", [image], lambda now: replace(now, outline=box))
    view = page.view(ObjectsView)
    qtbot.waitUntil(lambda: view.result is not None and view.result.outlined == 1, timeout=60_000)
    qtbot.keyClick(frame, Qt.Key.Key_Z, Qt.KeyboardModifier.ControlModifier)
    qtbot.waitUntil(lambda: "no validation image has an outline" in said(frame, "objects say"), timeout=30_000)
    assert not child(frame, QTableWidget, "objects table").isVisible()
    twins = to_explain(qtbot, frame, IMAGE).findChild(Twins)
    assert twins is not None
    qtbot.waitUntil(lambda: twins.explanation is not None, timeout=30_000)
    assert all(lens.outline.isEmpty() for lens in twins.lenses.values())
    assert not frame.findChildren(QLabel, "inside predicted")
    click(qtbot, frame, "evidence change")
    ways = child(frame, QComboBox, "change")
    model = ways.model()
    assert isinstance(model, QStandardItemModel)
    (item,) = [model.item(k) for k in range(ways.count()) if ways.itemData(k) == "cover_object"]
    assert item is not None
    assert not item.isEnabled()


def test_an_explained_image_has_its_outline_its_share_and_can_be_covered(
    qtbot: QtBot, open_frame: OpenFrame, station: Workspace
) -> None:
    frame = open_frame(station)
    page = to_explain(qtbot, frame, IMAGE)
    twins = page.findChild(Twins)
    assert twins is not None
    qtbot.waitUntil(lambda: twins.explanation is not None, timeout=30_000)
    assert twins.explanation is not None
    inside = twins.explanation.maps[0].trust.inside
    chip = child(frame, QLabel, "inside predicted")
    assert chip.text() == f"object {inside:.0%}"
    assert "lies in the object, which is" in chip.toolTip()
    assert all(not lens.outline.isEmpty() for lens in twins.lenses.values())
    twins.grab()
    click(qtbot, frame, "evidence change")
    ways = child(frame, QComboBox, "change")
    ways.setCurrentIndex(ways.findData("cover_object"))
    says = child(frame, QLabel, "change says")
    qtbot.waitUntil(lambda: says.text().startswith("cover the object: "), timeout=30_000)
    before = twins.lenses["true"].outline
    box = Outline.of_box(0, 0, 32, 32)
    frame.session.images.decide("outlined image 3", [IMAGE], lambda now: replace(now, outline=box))
    qtbot.waitUntil(lambda: twins.lenses["true"].outline != before, timeout=30_000)
    bounds = twins.lenses["true"].outline.boundingRect()
    assert (bounds.width(), bounds.height()) == (0.5, 0.5)
    qtbot.keyClick(frame, Qt.Key.Key_Z, Qt.KeyboardModifier.ControlModifier)
    qtbot.waitUntil(lambda: twins.lenses["true"].outline == before, timeout=30_000)
    file = station.folder.parent / "one.json"
    file.write_text(json.dumps({str(IMAGE): box.write()}))
    images = frame.page("images")
    assert isinstance(images, ImagesPage)
    images.beside.take_outlines(file)
    qtbot.waitUntil(lambda: twins.lenses["true"].outline != before, timeout=30_000)


def test_a_contour_runs_between_what_is_inside_and_what_is_not() -> None:
    inside = np.zeros((4, 8), bool)
    inside[1:3, 2:6] = True
    path = contour(inside)
    assert path.elementCount() == 8, "four lines, each drawn as one"
    box = path.boundingRect()
    assert (box.left(), box.top(), box.right(), box.bottom()) == (0.25, 0.25, 0.75, 0.75)
    whole = contour(np.ones((3, 3), bool)).boundingRect()
    assert (whole.width(), whole.height()) == (1, 1)
    assert contour(np.zeros((3, 3), bool)).isEmpty()
    ring = inside.copy()
    ring[1:3, 3:5] = False
    assert contour(ring).elementCount() == 2 * (4 + 4)
