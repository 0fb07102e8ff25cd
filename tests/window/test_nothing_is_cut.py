"""No word of the window is cut, laid over another or out of sight: every stage, view and size, with long names."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from pathlib import Path

import numpy as np
import pytest
from PIL import Image
from PyQt6.QtCore import QRect
from PyQt6.QtWidgets import QLabel, QPushButton, QStyleOptionComboBox, QWidget
from pytestqt.qtbot import QtBot
from tests.window.fitting import unreadable

from attentive_lens.core.jobs import finish
from attentive_lens.desk.making import make_workspace
from attentive_lens.desk.training.executing import execute
from attentive_lens.plan.plan import Plan
from attentive_lens.window import look
from attentive_lens.window.application import make_frame
from attentive_lens.window.frame import LEAST, Frame
from attentive_lens.window.pages import STAGES
from attentive_lens.window.pages.explain import ExplainPage
from attentive_lens.window.pages.images import ImagesPage
from attentive_lens.window.pages.network import NetworkPage
from attentive_lens.window.pages.results import ResultsPage
from attentive_lens.window.pages.training import TrainingPage
from attentive_lens.window.parts.basics import OneLine, chooser
from attentive_lens.window.parts.picture import PictureBox
from attentive_lens.window.results.new_images import NewImagesView
from attentive_lens.window.results.views import VIEWS
from attentive_lens.window.session import Session
from attentive_lens.workspace import Workspace

NAMES = {
    "alike": [f"pollen grains of the family number {k} photographed under a diffuse light" for k in range(1, 13)],
    "of all kinds": [
        "oak",
        "Körner mit Löchern und großen Stacheln",
        "grains that were caught on tape and that nobody has named in the eighty years since",
        "花粉粒",
        "花粉粒の表面に網目状の模様があるもの",
        "حبوب اللقاح الشوكية",
        "גרגירים חלקים",
        "pyłek_brzozy_2_poziom-górny",
        "WWWWWWWWWWWWWWWWWWWW",
        "i",
    ],
    "two": ["smooth", "spiny"],
    "very many": [f"grains of form {k} seen from above" for k in range(1, 601)],
}
"""Names of classes, by what they try."""
TRIED = (
    ("alike", LEAST, "light"),
    ("alike", (1280, 800), "dark"),
    ("of all kinds", (1100, 680), "contrast"),
    ("of all kinds", (3840, 2160), "light"),
    ("two", LEAST, "dark"),
    ("very many", LEAST, "light"),
)
"""Names, width and height, theme."""


@pytest.fixture(scope="module")
def windows(qapp: object, tmp_path_factory: pytest.TempPathFactory) -> Iterator[Callable[[str], Frame]]:
    """Gives the window on a workspace with classes of some names, and a run."""
    frames: dict[str, Frame] = {}

    def window_on(names: str) -> Frame:
        if names not in frames:
            for frame in frames.values():
                frame.close()
            frames.clear()
            frames[names] = make_frame(Session(made(tmp_path_factory.mktemp("named"), NAMES[names])))
            frames[names].show()
        return frames[names]

    yield window_on
    for frame in frames.values():
        while look.theme is not look.THEMES["light"]:
            frame.change_theme()
        frame.close()


def made(folder: Path, names: list[str]) -> Workspace:
    """A workspace with a run, of as many images in all for few classes and for many."""
    random = np.random.default_rng(3)
    for k, name in enumerate(names):
        (folder / "images" / name).mkdir(parents=True)
        for n in range(max(3, 144 // len(names))):
            pixels = random.integers(0, 60, (24, 24, 3)) + 180 * k // len(names)
            Image.fromarray(pixels.astype(np.uint8)).save(folder / "images" / name / f"{n}.png")
    workspace = finish(make_workspace(folder / "grains", folder / "images")).workspace
    plan = Plan().changed({"network": "two blocks", "preprocessing.input_size": 24, "training.epochs": 1})
    finish(execute(workspace, workspace.claim_run(plan), lambda: False))
    return Workspace.open(folder / "grains")


def every_view(frame: Frame, qtbot: QtBot) -> Iterator[str]:
    """Every stage in every view of its own, one after the other."""
    for key in STAGES:
        frame.show_stage(key)
        page = frame.page(key)
        qtbot.wait(150)
        yield key
        if isinstance(page, ImagesPage):
            for name in page.tabs:
                page.show_view(name)
                qtbot.wait(60)
                yield f"{key}: {name}"
            page.show_view("pictures")
        elif isinstance(page, NetworkPage):
            for show in (page.show_base, page.show_text, page.open_chooser):
                show()
                qtbot.wait(60)
                yield f"{key}: {show.__name__}"
            page.start_from("two blocks")
            page.show_layer()
        elif isinstance(page, ResultsPage):
            for word in VIEWS:
                page.show_view(word)
                view = page.current
                if isinstance(view, NewImagesView):
                    view.open_places([next((frame.session.workspace.folder.parent / "images").iterdir())])
                    qtbot.waitUntil(lambda view=view: view.result is not None, timeout=60_000)  # type: ignore[misc]
                    view.sheet.select(view.sheet.groups[0].places[0])
                qtbot.wait(60)
                yield f"{key}: {word}"
        elif isinstance(page, TrainingPage):
            for word in page.views:
                page.show_view(word)
                qtbot.wait(60)
                yield f"{key}: {word}"
        elif isinstance(page, ExplainPage):
            if page.image is None:  # of two classes all may be right
                page.open_image(1)
            qtbot.waitUntil(lambda page=page: page.explanation is not None, timeout=60_000)  # type: ignore[misc]
            for place, group in enumerate(page.evidence.groups):
                page.evidence.open_group(place)
                for leaf in group.leaves:
                    page.evidence.open(type(leaf))
                    qtbot.wait(60)
                    yield f"{key}: {leaf.title}"


@pytest.mark.timeout(400)
@pytest.mark.parametrize(("names", "size", "theme"), TRIED)
def test_no_word_is_cut_laid_over_another_or_out_of_sight(
    qtbot: QtBot, windows: Callable[[str], Frame], names: str, size: tuple[int, int], theme: str
) -> None:
    frame = windows(names)
    while look.theme is not look.THEMES[theme]:
        frame.change_theme()
    frame.resize(*size)
    if names == "two":
        frame.loop.take_up()  # the strip of steps takes its room from every page
    session = frame.session
    qtbot.waitUntil(lambda: session.images.pixels is not None, timeout=60_000)
    session.scores.want("validation")
    qtbot.waitUntil(lambda: session.scores.current is not None, timeout=60_000)
    cut = []
    for where in every_view(frame, qtbot):
        for _ in range(5):  # what is being laid out may settle
            faults = list(unreadable(frame))
            if not faults:
                break
            qtbot.wait(100)
        cut += [f"{where}: {fault}" for fault in faults]
    assert not cut, "\n".join(cut)


def test_what_cannot_be_read_is_noticed(qtbot: QtBot) -> None:
    whole = QWidget()
    qtbot.addWidget(whole)
    whole.resize(400, 200)
    texts = {
        "short": (QLabel("short"), QRect(0, 0, 120, 20)),
        "cut": (QLabel("a label that is too long"), QRect(0, 30, 60, 20)),
        "low": (QLabel("a sentence of several words in two lines"), QRect(0, 60, 120, 14)),
        "over": (QPushButton("one"), QRect(200, 0, 80, 26)),
        "under": (QLabel("two"), QRect(240, 10, 80, 20)),
        "out": (QLabel("gone"), QRect(380, 100, 60, 20)),
        "elided": (OneLine("elided"), QRect(0, 100, 60, 20)),
        "on it": (QLabel("words"), QRect(90, 140, 60, 20)),
        "picture": (PictureBox("a picture", 60), QRect(60, 130, 60, 60)),
    }
    for widget, box in texts.values():
        widget.setParent(whole)
        widget.setGeometry(box)
    texts["low"][0].setWordWrap(True)  # type: ignore[attr-defined]
    texts["elided"][0].setText("a sentence that is longer than its room")  # type: ignore[attr-defined]
    whole.show()
    faults = "\n".join(unreadable(whole))
    assert faults.count("\n") == 4, faults
    assert "«words» and «a picture»" in faults
    assert "too long" in faults
    assert "pixels of height" in faults
    assert "«one» and «two»" in faults
    assert "«gone»: a part of it is out of sight" in faults


def test_what_is_chosen_ends_in_an_ellipsis_where_it_is_too_long(qtbot: QtBot) -> None:
    box = chooser("class", "class", items=["short", NAMES["alike"][0]])
    qtbot.addWidget(box)
    box.setFixedWidth(120)
    box.show()
    option = QStyleOptionComboBox()
    for text, whole in (("short", True), (NAMES["alike"][0], False)):
        box.setCurrentText(text)
        box.initStyleOption(option)
        assert (option.currentText == text) == whole
        assert option.currentText.endswith("…") != whole
        assert box.currentText() == text
        box.grab()
