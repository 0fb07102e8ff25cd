"""Scores from elsewhere stand beside a run's: typed, by class, or as a matrix."""

from __future__ import annotations

from pathlib import Path

import pytest
from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import QLabel, QLineEdit
from pytestqt.qtbot import QtBot

from attentive_lens.desk.results.reference_scores import read_reference_scores, typed_reference
from attentive_lens.errors import BadFile, BadValue
from attentive_lens.window.results.classes import HEADS, ClassesView
from attentive_lens.window.session import Session
from attentive_lens.workspace import Workspace


def written(folder: Path, text: str) -> Path:
    file = folder / "paper.csv"
    file.write_text(text, "utf-8")
    return file


@pytest.mark.parametrize(
    "text",
    [
        "class,accuracy,images\nsmooth,0.5,10\nspiny,0.9,30\n",
        "class;accuracy;images\nsmooth;50,0;10\nspiny;90;30\n",
        ",smooth,spiny\nsmooth,5,5\nspiny,3,27\n",
    ],
)
def test_a_table_by_class_and_a_matrix_say_the_same(text: str, tmp_path: Path) -> None:
    result = read_reference_scores(written(tmp_path, text))
    assert dict(result.by_class) == pytest.approx({"smooth": 0.5, "spiny": 0.9})
    assert result.accuracy == pytest.approx(0.8)
    assert result.name == "paper"


@pytest.mark.parametrize(
    ("text", "words"),
    [
        ("epoch,loss\n1,2\n", "its first line has epoch, loss"),
        ("class,accuracy\nsmooth,much\n", "«much» in line 2 is no number"),
        ("class,accuracy\nsmooth,-0.5\n", "from 0 to 1"),
        ("class,accuracy\n", "it has 1 lines"),
        ("class,accuracy\n\n,\n", "it has 1 lines"),
        ("accuracy,class\n0.5,smooth\n\nmuch,spiny\n", "«much» in line 4 is no number"),
        ("accuracy,class\n0.5,smooth\n0.5\n", "line 3 names no class"),
        ("class,accuracy\nsmooth,0.5\nsmooth,0.9\n", "«smooth» in line 3 stands above too"),
        ("class,accuracy,images\nsmooth,0.5,-4\n", "images is below zero"),
        (",a,b\na,1,2\nb,3\n", "«» in line 3 is no number"),
    ],
)
def test_what_is_none_is_a_sentence(text: str, words: str, tmp_path: Path) -> None:
    with pytest.raises(BadFile, match=words):
        read_reference_scores(written(tmp_path, text))


def test_a_matrix_of_classes_with_dashes_blanks_and_capitals_is_read(tmp_path: Path) -> None:
    result = read_reference_scores(written(tmp_path, ",Half-open pore,B\nHalf-open pore,3,1\n\nB,0,4\n"))
    assert dict(result.by_class) == {"Half-open pore": 0.75, "B": 1.0}


def test_an_accuracy_is_typed_as_people_write_it() -> None:
    assert [typed_reference(words).accuracy for words in ("0.93", "93", "93 %", "93,0%", "1", "1 %")] == pytest.approx(
        [0.93, 0.93, 0.93, 0.93, 1.0, 0.01]
    )
    for words in ("", "good", "-1", "101"):
        with pytest.raises(BadValue):
            typed_reference(words)


def test_the_classes_view_sets_them_side_by_side(
    qtbot: QtBot, qapp: object, station: Workspace, tmp_path: Path
) -> None:
    session = Session(station)
    session.start_worker()
    view = ClassesView(session)
    qtbot.addWidget(view)
    session.scores.want("validation")
    qtbot.waitUntil(lambda: session.scores.current is not None, timeout=60_000)
    view.refresh()
    usual = len(HEADS) - 1
    assert view.table.columnCount() == usual, "among so few classes nobody asks for the first five"
    view.take_reference(written(tmp_path, "class,accuracy,images\nsmooth,0.25,4\nspiny,1.0,4\n"))
    names = [view.table.item(row, 0).text() for row in range(view.table.rowCount())]
    shown = {name: view.table.item(row, usual).text() for row, name in enumerate(names)}
    assert (shown["smooth"], shown["spiny"], shown["winged"]) == ("25.0\u202f%", "100.0\u202f%", "–")
    scores = session.scores.current
    assert scores is not None
    points = f"{(scores.accuracy - 0.625) * 100:+.1f}".replace("-", "\u2212")
    compared = view.findChild(QLabel, "reference compared")
    assert compared is not None
    assert f"{points} points off" in compared.text()
    field = view.findChild(QLineEdit, "reference accuracy")
    assert field is not None
    field.setText("1 %")
    qtbot.keyClick(field, Qt.Key.Key_Return)
    assert "outside its own" in compared.text()
    assert view.table.columnCount() == usual
    session.close()
