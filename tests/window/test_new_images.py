"""New images on the Results stage: dropped or pasted, answered, saved, explained and added."""

from __future__ import annotations

import csv
from collections.abc import Callable
from pathlib import Path

import numpy as np
from PIL import Image
from PyQt6.QtCore import QMimeData, QPointF, Qt, QUrl
from PyQt6.QtGui import QDropEvent, QImage
from PyQt6.QtWidgets import QApplication, QLabel, QPushButton
from pytestqt.qtbot import QtBot
from tests.driving import LEFT, child, click, stage

from attentive_lens.core.jobs import finish
from attentive_lens.desk.images.collection import collection
from attentive_lens.desk.requests.models import AnswerNew
from attentive_lens.desk.tasks import carry_out
from attentive_lens.window.frame import Frame
from attentive_lens.window.pages.explain import ExplainPage
from attentive_lens.window.parts.bars import Bars
from attentive_lens.window.parts.sheet import ContactSheet
from attentive_lens.window.results.new_images import NewImagesView
from attentive_lens.workspace import Workspace

NONE = Qt.KeyboardModifier.NoModifier
OpenFrame = Callable[[Workspace], Frame]


def drawn_images(folder: Path) -> Path:
    """Leaves of no class that the station has, one blank, one broken."""
    folder.mkdir()
    random = np.random.default_rng(1)
    for k in range(3):
        Image.fromarray(random.integers(0, 256, (40, 40, 3)).astype(np.uint8)).save(folder / f"noise {k}.png")
    Image.new("RGB", (40, 40), (200, 190, 180)).save(folder / "plain.png")
    (folder / "words.png").write_text("no picture", "utf-8")
    return folder


def test_new_images_are_answered_told_apart_saved_and_explained(
    qtbot: QtBot, open_frame: OpenFrame, station: Workspace, tmp_path: Path
) -> None:
    frame = open_frame(station)
    stage(qtbot, frame, "results")
    click(qtbot, frame, "new images of scores")
    view, sheet = child(frame, NewImagesView, "new images view"), child(frame, ContactSheet, "new images")
    says = child(frame, QLabel, "new images say")
    assert "Drop images" in says.text()
    data = QMimeData()
    data.setUrls([QUrl.fromLocalFile(str(drawn_images(tmp_path / "new")))])
    drop = QDropEvent(QPointF(5, 5), Qt.DropAction.CopyAction, data, LEFT, NONE)
    view.dropEvent(drop)
    qtbot.waitUntil(lambda: "4 images answered" in says.text(), timeout=60_000)
    assert "words.png: its contents" in child(frame, QLabel, "new images unread").text()
    result = finish(carry_out(AnswerNew(str(station.folder), 1, (str(tmp_path / "new"),))))
    summary = {Path(each.file).name: each for each in result.answers}
    strange = {Path(each.file).name for each in result.answers if each.unlike is not None and each.unlike > 1}
    assert {f"noise {k}.png" for k in range(3)} <= strange
    assert len(sheet.flagged) == len(strange)
    assert sheet.groups[0].title == f"unlike all training images · {len(strange)}"
    sheet.select(sheet.groups[0].places[0])
    at_hand = view.details.answer
    assert at_hand is not None
    assert at_hand == summary[Path(at_hand.file).name]
    assert "times the usual distance" in child(frame, QLabel, "new unlike").text()
    assert child(frame, Bars, "new bars").bars[0].name == at_hand.predicted
    (tmp_path / "answers.csv").write_text("of an earlier model", "utf-8")
    view.save_answers(tmp_path / "answers.csv")
    view.save_answers(tmp_path / "answers.jsonl")
    (tmp_path / "kept.txt").write_text("not to be lost", "utf-8")
    view.save_answers(tmp_path / "kept.txt")
    assert (tmp_path / "kept.txt").read_text("utf-8") == "not to be lost"
    assert [file.name for file in tmp_path.iterdir() if file.name.startswith(".")] == []
    with (tmp_path / "answers.csv").open(newline="") as stream:
        rows = list(csv.DictReader(stream))
    assert {Path(row["file"]).name for row in rows if not row["error"]} == set(summary)
    qtbot.keyClick(sheet, Qt.Key.Key_E)
    assert frame.current == "explain"
    page = frame.page("explain")
    assert isinstance(page, ExplainPage)
    qtbot.waitUntil(lambda: "new image" in page.place.text(), timeout=60_000)
    second = sorted(at_hand.probabilities.items(), key=lambda item: -item[1])[1][0]
    assert child(frame, QLabel, "true name").text() == second
    assert child(frame, QLabel, "predicted name").text() == at_hand.predicted
    stage(qtbot, frame, "results")
    before = len(frame.session.images.collection.rows)
    view.details.add_as("spiny")
    assert len(frame.session.images.collection.rows) == before + 1
    assert frame.session.images.collection.rows[-1].file.startswith("added/spiny/")
    qtbot.waitUntil(
        lambda: frame.session.images.pixels is not None and len(frame.session.images.pixels) == before + 1,
        timeout=60_000,
    )


def test_a_picture_is_pasted_and_an_empty_clipboard_is_told(
    qtbot: QtBot, open_frame: OpenFrame, station: Workspace
) -> None:
    frame = open_frame(station)
    stage(qtbot, frame, "results")
    click(qtbot, frame, "new images of scores")
    says, clipboard = child(frame, QLabel, "new images say"), QApplication.clipboard()
    assert clipboard is not None
    clipboard.setText("words")
    click(qtbot, frame, "paste new image")
    assert "no picture" in says.text()
    picture = QImage(48, 40, QImage.Format.Format_RGB32)
    picture.fill(Qt.GlobalColor.darkMagenta)
    clipboard.setImage(picture)
    click(qtbot, frame, "paste new image")
    qtbot.waitUntil(lambda: "1 image answered" in says.text(), timeout=60_000)
    assert child(frame, QLabel, "new file").text() == "pasted 1.png"


def test_how_new_images_differ_from_held_out_ones_is_told(
    qtbot: QtBot, open_frame: OpenFrame, large_station_once: Path, tmp_path: Path
) -> None:
    place = Workspace.open(large_station_once)
    split = collection(place, place.run(1).plan(), place.run(1))
    for name, factor in (("alike", 1.0), ("dark", 0.4)):
        (tmp_path / name).mkdir()
        for row in [split.rows[at] for at in split.members("validation")]:
            picture = Image.open(place.path_of(row)).convert("RGB")
            dark = picture.point(lambda value, factor=factor: int(value * factor))  # type: ignore[misc]
            dark.save(tmp_path / name / f"{row.number}.png")
    frame = open_frame(place)
    stage(qtbot, frame, "results")
    click(qtbot, frame, "new images of scores")
    view, drift = child(frame, NewImagesView, "new images view"), child(frame, QLabel, "new images drift")
    assert not drift.isVisible()
    frame.resize(1100, 680)
    for name in ("open new images", "open new folder", "paste new image", "save new answers"):
        button = child(frame, QPushButton, name)
        assert button.width() >= button.sizeHint().width(), f"{button.text()} is cut"
    view.open_places([tmp_path / "dark"])
    qtbot.waitUntil(drift.isVisible, timeout=60_000)
    assert "farther from the training images" in drift.text()
    assert drift.property("role") == "warn"
    view.open_places([tmp_path / "alike"])
    qtbot.waitUntil(lambda: drift.isVisible() and drift.property("role") == "faint", timeout=60_000)
    assert "look as held-out ones do" in drift.text()
