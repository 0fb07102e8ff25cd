"""Pictures that are not square, as they are drawn, pointed at and looked into in the window."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st
from PIL import Image
from PyQt6.QtCore import QPoint, QPointF, QRect, QRectF, QSize
from PyQt6.QtGui import QImage
from pytestqt.qtbot import QtBot
from tests.driving import LEFT, child, click, stage, to_explain

from attentive_lens.core.jobs import finish
from attentive_lens.desk.making import make_workspace
from attentive_lens.desk.network.usual import usual_plan
from attentive_lens.desk.training.executing import execute
from attentive_lens.plan.layers import Convolution, Flatten, Output
from attentive_lens.plan.network import NetworkPlan
from attentive_lens.window.bench.geometry import Geometry
from attentive_lens.window.bench.layout import layout_of
from attentive_lens.window.bench.plates import plates_of
from attentive_lens.window.frame import Frame
from attentive_lens.window.parts.basics import to_image
from attentive_lens.window.parts.drawn_sheet import DrawnSheet
from attentive_lens.window.parts.lens import Lens, strongest_place
from attentive_lens.window.parts.picture import PixelBox
from attentive_lens.window.parts.proportions import fitted
from attentive_lens.window.parts.sheet import ContactSheet, Group
from attentive_lens.window.parts.tiles import Tile, Tiles, enlarged
from attentive_lens.workspace import Workspace

OpenFrame = Callable[[Workspace], Frame]


def picture(rows: int, columns: int) -> QImage:
    return to_image(np.zeros((rows, columns, 3), np.uint8))


@given(st.integers(1, 300), st.integers(1, 300), st.integers(1, 300), st.integers(1, 300))
def test_a_picture_is_as_large_as_its_proportions_let_it_be_in_a_box(
    rows: int, columns: int, width: int, height: int
) -> None:
    box = QRect(3, 5, width, height)
    place = fitted(box, picture(rows, columns))
    assert QRectF(box).adjusted(-1e-9, -1e-9, 1e-9, 1e-9).contains(place)
    assert place.width() * rows == pytest.approx(place.height() * columns, rel=1e-9)
    assert place.width() == pytest.approx(width) or place.height() == pytest.approx(height)
    assert (place.center() - QRectF(box).center()).manhattanLength() < 1e-9
    assert fitted(QRect(0, 0, 9, 9), picture(5, 5)) == QRectF(0, 0, 9, 9)


def test_the_mouse_is_over_the_pixel_that_it_points_at(qtbot: QtBot) -> None:
    box = PixelBox("pixels", 100)
    qtbot.addWidget(box)
    box.show()
    box.show_image(picture(10, 20))  # 50 pixels high, in the middle
    over: list[tuple[int, int]] = []
    box.hovered.connect(lambda across, down: over.append((across, down)))
    for at in ((2, 27), (98, 73), (50, 10), (50, 90), (50, 50)):
        qtbot.mouseMove(box, QPoint(*at))
    assert over == [(0, 0), (19, 9), (10, 5)], "nothing above and below the picture"


def test_a_lens_is_told_in_parts_of_both_sides(qtbot: QtBot) -> None:
    lens = Lens("lens")
    qtbot.addWidget(lens)
    lens.resize(300, 400)
    assert lens.area() == QRectF(0, 0, 300, 300)
    lens.show_image(picture(20, 60), None)
    assert lens.area() == QRectF(0, 0, 300, 100)
    assert lens.side == pytest.approx(np.sqrt(300 * 100))
    qtbot.mouseClick(lens, LEFT, pos=QPoint(150, 25))
    assert (lens.across, lens.below) == (0.5, 0.25)
    map_ = np.zeros((20, 60, 4), np.uint8)
    map_[..., 0], map_[..., 3] = 255, 255
    lens.show_image(picture(20, 60), to_image(map_))
    lens.place_lens(0.8, 0.5, 0.1)
    shown = lens.grab().toImage()
    assert shown.pixelColor(240, 50).red() > 200 > shown.pixelColor(60, 50).red(), "the map is seen where the lens is"
    drawn: list[tuple[float, ...]] = []
    lens.region_drawn.connect(lambda *region: drawn.append(region))
    lens._from, lens._region = QPointF(30, 20), QRectF(30, 20, 60, 40)
    qtbot.mouseRelease(lens, LEFT, pos=QPoint(90, 60))
    assert drawn == [pytest.approx((0.2, 0.4, 0.2, 0.4))]
    map_ = np.zeros((20, 60), np.float32)
    map_[14:16, 50:52] = 1
    across, down = strongest_place(map_)
    assert abs(across - 51 / 60) < 0.05
    assert abs(down - 15 / 20) < 0.06


def test_sheets_give_pictures_room_in_their_proportions(qtbot: QtBot) -> None:
    sheet = ContactSheet("sheet", 60)
    qtbot.addWidget(sheet)
    sheet.show()
    sheet.resize(500, 300)
    sheet.show_groups(np.zeros((8, 5, 20, 3), np.uint8), (Group("all", "", tuple(range(8)), ()),))
    assert sheet.cell == QSize(120, 30), "as large as a square of the side"
    for place in range(8):
        box = sheet._rectangle(place)
        assert box is not None
        assert sheet._at(box.center()) == place
    sheet.resize(90, 300)
    assert sheet.columns == 1
    assert sheet.cell.width() <= 90, "no wider than the sheet"
    sheet.show_groups(np.zeros((8, 5, 5, 3), np.uint8), sheet.groups)
    assert sheet.cell == QSize(60, 60)
    drawn = DrawnSheet("drawn", "")
    qtbot.addWidget(drawn)
    drawn.resize(400, 400)
    drawn.show_images([np.zeros((5, 20, 3), np.uint8)] * 12)
    for place in range(12):
        box_ = drawn.box(place)
        assert box_.width() == pytest.approx(4 * box_.height())
        assert drawn.at(box_.center()) == place
        assert drawn.area().contains(box_)
    tiles = Tiles("tiles", "tiles", 90)
    qtbot.addWidget(tiles)
    tiles.resize(320, 300)
    tiles.show_tiles(tuple(Tile((picture(10, 30),), str(k)) for k in range(5)))
    assert tiles.box(0).height() == 30
    assert [tiles.at(tiles.box(k).center()) for k in range(5)] == list(range(5))
    assert enlarged(picture(10, 30), 90).size() == QSize(90, 30)


@pytest.mark.parametrize(("rows", "columns"), [(32, 96), (96, 32), (64, 64)])
def test_plates_have_the_proportions_of_their_maps(rows: int, columns: int) -> None:
    network = NetworkPlan.stack([Convolution(filters=4), Flatten(), Output()]).with_outputs(2)
    facts = {fact.name: fact for fact in network.facts((rows, columns, 3))}
    plates = plates_of(network.nodes, facts, (rows, columns, 3))
    geometry = Geometry(plates, layout_of(plates), 900, 400, 260)
    glass, _ = geometry.form(0)
    wide, high = glass.at(1).x() - glass.at(0).x(), glass.at(3).y() - glass.at(0).y()
    assert wide / high == pytest.approx(0.42 * columns / rows, rel=0.1)
    left, top, width, height = plates[1].field((rows, columns))
    assert width == pytest.approx(3 / columns)
    assert height == pytest.approx(3 / rows)
    assert (left, top) == pytest.approx(((columns / 2 - 1) / columns, (rows / 2 - 1) / rows))


@pytest.fixture
def strips(tmp_path: Path) -> Workspace:
    """Strips, 16×48, of two classes: a bright disc at the left or at the right; with a run of two epochs."""
    random, source = np.random.default_rng(5), tmp_path / "source"
    for number in range(60):
        name = ("left", "right")[number % 2]
        pixels = random.integers(60, 110, (16, 48, 3)).astype(np.uint8)
        column = 10 if name == "left" else 38
        pixels[4:12, column - 4 : column + 4] = 220
        (source / name).mkdir(parents=True, exist_ok=True)
        Image.fromarray(pixels).save(source / name / f"{number:03}.png")
    workspace = finish(make_workspace(tmp_path / "strips", source)).workspace
    plan = usual_plan(workspace)
    assert plan.preprocessing.sides == (16, 48)
    assert not [step for step in plan.augmentation if step.kind == "flip"], "mirrored, one looks like the other"
    plan = plan.changed({"training.epochs": 4, "training.batch_size": 8, "augmentation": "none"})
    finish(execute(workspace, workspace.claim_run(plan), lambda: False))
    return workspace


def test_strips_go_through_all_stages(qtbot: QtBot, open_frame: OpenFrame, strips: Workspace) -> None:
    frame = open_frame(strips)
    qtbot.waitUntil(lambda: frame.session.images.pixels is not None, timeout=30_000)
    pixels = frame.session.images.pixels
    assert pixels is not None
    assert pixels.shape[1:3] == (16, 48), "looked at in their own shape"
    to_explain(qtbot, frame, 1)
    said, true = child(frame, Lens, "lens predicted"), child(frame, Lens, "lens true")
    qtbot.waitUntil(lambda: said.picture is not None and said.map is not None, timeout=60_000)
    assert (said.picture.width(), said.picture.height()) == (48, 16)  # type: ignore[union-attr]
    assert (said.map.width(), said.map.height()) == (48, 16)  # type: ignore[union-attr]
    frame.grab()
    assert said.area().width() == pytest.approx(3 * said.area().height())
    below = true.mapTo(frame, QPoint(0, 0)).y() - said.mapTo(frame, QPoint(0, 0)).y()
    assert below >= said.area().height(), "wide ones stand one above the other"
    stage(qtbot, frame, "images")
    for view in ("view averages", "view sets", "view sizes", "view augmentation"):
        click(qtbot, frame, view)
        frame.grab()
