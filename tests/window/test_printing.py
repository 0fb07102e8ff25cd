"""The report on paper: every picture and word of the page, and what cannot be written."""

from __future__ import annotations

import re
import shutil
from pathlib import Path

import pytest
from PyQt6.QtCore import QUrl
from PyQt6.QtGui import QImage, QTextDocument
from PyQt6.QtWidgets import QLabel
from pytestqt.qtbot import QtBot
from tests.answering import answer
from tests.driving import child, stage

from attentive_lens.desk.requests.reporting import WriteReport
from attentive_lens.errors import BadFile
from attentive_lens.window.frame import Frame
from attentive_lens.window.pages.results import ResultsPage
from attentive_lens.window.printing import on_paper, print_report
from attentive_lens.window.results.overview import OverviewView


@pytest.fixture(scope="module")
def report(qapp: object, station_once: Path, tmp_path_factory: pytest.TempPathFactory) -> Path:
    del qapp
    folder = tmp_path_factory.mktemp("report")
    station = shutil.copytree(station_once, folder / "pollen")  # what is scored is kept in it
    answer(WriteReport(str(station), 1, str(folder / "report.html"), "test", causes=False))
    return folder / "report.html"


def test_every_picture_and_chart_of_the_page_is_on_paper(report: Path) -> None:
    words = report.read_text("utf-8")
    document = on_paper(words)
    wanted = len(re.findall(r"<svg\b", words)) + len(re.findall(r"src=\"data:image", words))
    kind = QTextDocument.ResourceType.ImageResource.value
    pictures = [document.resource(kind, QUrl(f"picture:{k}")) for k in range(wanted)]
    assert wanted > 3
    assert all(isinstance(each, QImage) and not each.isNull() for each in pictures)
    assert document.resource(kind, QUrl(f"picture:{wanted}")) is None
    assert document.toHtml().count("picture:") == wanted
    text = document.toPlainText()
    for part in ("Training", "Scores", "precision", "spiny", "The surest mistakes", "Plan"):
        assert part in text


def test_a_report_is_printed_and_what_cannot_be_written_is_said(report: Path, tmp_path: Path) -> None:
    file = tmp_path / "report.pdf"
    pages = print_report(report, file)
    written = file.read_bytes()
    assert written.startswith(b"%PDF")
    assert written.rstrip().endswith(b"%%EOF")
    assert pages == len(re.findall(rb"/Type\s*/Page\b", written)) >= 2
    with pytest.raises(BadFile, match="could not be written"):
        print_report(report, tmp_path / "nowhere" / "report.pdf")
    with pytest.raises(BadFile, match="could not be read"):
        print_report(tmp_path / "none.html", file)


def test_the_results_write_the_page_and_print_it(qtbot: QtBot, shared: Frame, tmp_path: Path) -> None:
    stage(qtbot, shared, "results")
    page = shared.page("results")
    assert isinstance(page, ResultsPage)
    overview = page.view(OverviewView)
    overview.write_report(tmp_path / "run one.pdf")  # type: ignore[attr-defined]
    result = child(shared, QLabel, overview.result.objectName())  # type: ignore[attr-defined]
    qtbot.waitUntil(lambda: "Printed to" in result.text(), timeout=60_000)
    assert (tmp_path / "run one.html").exists()
    assert (tmp_path / "run one.pdf").read_bytes().startswith(b"%PDF")
