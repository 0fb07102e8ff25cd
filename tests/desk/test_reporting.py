"""The report: one file that needs nothing else, with the figures of the run, and words that are never markup."""

from __future__ import annotations

import re
from base64 import b64decode
from html.parser import HTMLParser
from io import BytesIO
from pathlib import Path
from xml.etree import ElementTree

import numpy as np
import pytest
from PIL import Image
from tests.cli.running import command, last_object

from attentive_lens.core.jobs import finish
from attentive_lens.desk.explaining.casebook import OpenCases
from attentive_lens.desk.requests.models import Score
from attentive_lens.desk.requests.objects import MeasureObjects
from attentive_lens.desk.requests.reporting import WriteReport
from attentive_lens.desk.results.figures import (
    Curve,
    as_svg,
    by_confidence,
    by_epoch,
    confusion_matrix,
    counts_by_confidence,
)
from attentive_lens.desk.tasks import carry_out
from attentive_lens.scoring.measures import Bin
from attentive_lens.scoring.scores import scored
from attentive_lens.workspace import Workspace


class Read(HTMLParser):
    """Every tag with its attributes, and all words."""

    def __init__(self) -> None:
        super().__init__()
        self.tags: list[tuple[str, dict[str, str | None]]] = []
        self.words: list[str] = []

    def handle_starttag(self, tag: str, attrs: list[tuple[str, str | None]]) -> None:
        self.tags.append((tag, dict(attrs)))

    def handle_data(self, data: str) -> None:
        self.words.append(data)


def read(file: Path) -> tuple[Read, str]:
    page = Read()
    page.feed(file.read_text("utf-8"))
    return page, re.sub(r"\s+", " ", " ".join(page.words))


def test_a_report_needs_nothing_else_and_tells_the_run_s_figures(station: Workspace, tmp_path: Path) -> None:
    scores = finish(carry_out(Score(str(station.folder), 1)))
    wrong = scores.wrong[0]
    book = OpenCases(station)
    case = book.open_case(wrong.image, 1, scores.classes[wrong.predicted], scores.classes[wrong.true])
    assert case is not None
    result = last_object(command("report", station.folder, 1, "--out", tmp_path / "r.html", "--mistakes", 2, "--json"))
    page, words = read(Path(result["file"]))
    assert (result["mistakes"], result["cases"], result["bytes"]) == (2, 1, Path(result["file"]).stat().st_size)
    for tag, attributes in page.tags:
        assert tag not in ("script", "link", "iframe")
        for name, value in attributes.items():
            assert name != "href"
            assert name != "src" or (value or "").startswith("data:image/png;base64,")
    assert f"{scores.accuracy:.1%}" in words
    assert f"image {wrong.image}: said {scores.classes[wrong.predicted]}" in words
    assert all(name in words for name in scores.classes)
    assert "optimiser.learning_rate" in words
    assert "not re-tried" in words
    pictures = [value for tag, each in page.tags if tag == "img" and (value := each["src"])]
    assert len(pictures) >= 2 * 3 + 1
    with Image.open(BytesIO(b64decode(pictures[0].partition(",")[2]))) as picture:
        assert np.asarray(picture).std() > 1
    cells = [int(n) for n in re.findall(r"<td style=[^>]*>(\d+)</td>", Path(result["file"]).read_text("utf-8"))]
    assert sum(cells) == scores.images
    assert "mistakes" in command(
        "report", station.folder, 1, "--out", tmp_path / "s.html", "--no-causes", "--mistakes", 0
    )


def test_names_are_words_and_never_markup(station: Workspace, tmp_path: Path) -> None:
    scores = finish(carry_out(Score(str(station.folder), 1)))
    book = OpenCases(station)
    case = book.open_case(scores.wrong[0].image, 1, "<script>alert(1)</script>", "b")
    assert case is not None
    command("cases", station.folder, "--case", 1, "--note", '<img src=x> & "quoted"', "--cause", "<b>bold</b>")
    command("report", station.folder, 1, "--out", tmp_path / "r.html", "--no-causes", "--mistakes", 0)
    page, words = read(tmp_path / "r.html")
    assert not any(tag in ("script", "b") for tag, _ in page.tags)
    assert "<script>alert(1)</script>" in words
    assert '<img src=x> & "quoted"' in words


@pytest.mark.parametrize("place", ["/dev/null/r.html", "/proc/r.html"])
def test_a_report_that_cannot_be_written_is_a_sentence(station: Workspace, place: str) -> None:
    words = ("report", station.folder, 1, "--out", place, "--no-causes", "--mistakes", 0, "--json")
    assert "written" in last_object(command(*words, code=1))["error"]["what"]


def test_figures_are_drawings_with_their_words() -> None:
    curves = [
        Curve("training <1> $x$", [(1, 2.0), (2, 1.0)], "#000000"),
        Curve("none", [], "#111111"),
        Curve("b", [(1, 0.5)], "#222222"),
    ]
    bins = (Bin(0.4, 0.5, 3, 4, 0.45), Bin(0.8, 0.9, 0, 0, None), Bin(0.9, 1.0, 7, 7, 0.95))
    drawn = as_svg(by_epoch("loss", curves), "loss by epoch")
    for each in (drawn, as_svg(by_confidence(bins), "calibration"), as_svg(counts_by_confidence(bins), "confidence")):
        root = ElementTree.fromstring(each)  # noqa: S314  # our own
        assert root.tag.endswith("svg")
        assert root.attrib["aria-label"]
    assert "training &lt;1&gt; $x$" in drawn, "names are no formulas"
    assert drawn == as_svg(by_epoch("loss", curves), "loss by epoch"), "the same bytes again"
    assert drawn.count("stroke: #000000") >= 2
    assert "#111111" not in drawn
    assert as_svg(by_epoch("nothing", []), "none") == as_svg(by_confidence(()), "none") == ""
    shares = by_epoch("share", [Curve("a", [(1, 0.25), (2, 0.75)], "#000000")], as_percent=True)
    assert shares is not None
    assert shares.axes[0].get_ylim() == (0.0, 1.0)


def test_a_matrix_is_shaded_by_the_part_of_the_true_class() -> None:
    true, predicted = np.array([0, 0, 0, 0, 1, 1]), np.array([0, 0, 0, 1, 1, 1])
    sure = np.full((6, 2), 0.5, np.float32)
    figure = confusion_matrix(scored("test", ["a_1", "b$2$"], range(1, 7), true, predicted, sure, sure[:, 0], "loss"))
    axes = figure.axes[0]
    assert [text.get_text() for text in axes.texts] == ["3", "1", "2"]
    assert [label.get_text() for label in axes.get_yticklabels()] == ["a_1", "b$2$"]
    shades = np.asarray(axes.images[0].get_array())
    paper, petrol = shades[1, 0], shades[1, 1]
    assert np.allclose(shades[0, 0], paper + 0.75 * (petrol - paper))
    assert shades[0, 1][0] > shades[0, 1][2], "mistakes are red"


def test_a_report_under_way_hands_over_no_results_of_its_parts(station: Workspace, tmp_path: Path) -> None:
    request = WriteReport(str(station.folder), 1, str(tmp_path / "report.html"), causes=False)
    assert [result.so_far for result in carry_out(request) if result.so_far is not None] == []


def test_a_report_tells_what_answers_rest_on_where_outlines_are_known(station: Workspace, tmp_path: Path) -> None:
    measured = finish(carry_out(MeasureObjects(str(station.folder), 1)))
    request = WriteReport(str(station.folder), 1, str(tmp_path / "a.html"), mistakes=0)
    finish(carry_out(request))
    page, words = read(tmp_path / "a.html")
    for sentence in measured.sentences():
        assert sentence in words
    for row in measured.rows:
        assert f"{row.name or 'all'}, {'right' if row.right else 'wrong'} {row.images} {row.on_rest} " in words
    pictures = [tag for tag, values in page.tags if values.get("alt") == "right for the wrong reason"]
    assert len(pictures) == len(measured.wrong_reason[:12])
    station.catalogue.outlines.forget()
    finish(carry_out(request))
    assert "rest on what is not the object" not in read(tmp_path / "a.html")[1]
