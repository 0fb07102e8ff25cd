from __future__ import annotations

import shutil
import time
from collections.abc import Callable, Iterator
from pathlib import Path

import pytest
from PyQt6.QtWidgets import QApplication
from pytestqt.qtbot import QtBot
from tests.driving import click, stage
from tests.warm import WarmResident

from attentive_lens.desk.training.runs import reap_children
from attentive_lens.window.application import make_application, make_frame
from attentive_lens.window.frame import Frame
from attentive_lens.window.pages.explain import ExplainPage
from attentive_lens.window.pages.results import ResultsPage
from attentive_lens.window.results.matrix import MatrixView
from attentive_lens.window.session import Session
from attentive_lens.workspace import Workspace


@pytest.fixture(scope="session")
def qapp() -> Iterator[object]:
    yield make_application()


@pytest.fixture(scope="session", autouse=True)
def warm_workers() -> Iterator[None]:
    """Windows take over each other's workers, one after the other."""
    with pytest.MonkeyPatch.context() as patch:
        patch.setattr("attentive_lens.window.asking.Resident", WarmResident)
        yield
    WarmResident.end()


@pytest.fixture
def open_frame(qtbot: QtBot) -> Iterator[Callable[[Workspace], Frame]]:
    """Opens the real window on a workspace and waits until it is painted and its worker is there."""
    frames: list[Frame] = []

    def open_one(workspace: Workspace) -> Frame:
        frame = make_frame(Session(workspace))
        frames.append(frame)
        with qtbot.waitSignal(frame.session.pixels_ready, timeout=30_000):
            frame.show()
        return frame

    yield open_one
    for frame in frames:
        frame.session.runs.steer("stop")
        qtbot.waitUntil(lambda: reap_children() == 0, timeout=30_000)
        frame.close()
        frame.deleteLater()


@pytest.fixture(scope="module")
def shared(qapp: object, station_once: Path, tmp_path_factory: pytest.TempPathFactory) -> Iterator[Frame]:
    """A window for all tests that decide nothing about images or models: opening one takes seconds."""
    del qapp
    folder = tmp_path_factory.mktemp("shared") / "pollen"
    window = make_frame(Session(Workspace.open(Path(shutil.copytree(station_once, folder)))))
    window.show()
    limit = time.monotonic() + 60
    window.show_stage("results")
    while window.session.scores.current is None or window.session.images.pixels is None:
        assert time.monotonic() < limit
        QApplication.processEvents()
        time.sleep(0.01)
    yield window
    window.close()
    window.deleteLater()


@pytest.fixture
def seen(qtbot: QtBot, shared: Frame) -> Frame:
    """The same window as it was opened."""
    stage(qtbot, shared, "results")
    page = shared.page("results")
    assert isinstance(page, ResultsPage)
    click(qtbot, shared, "score validation")
    click(qtbot, shared, "overview of scores")
    page.chosen.open_way(0)
    page.view(MatrixView).orders.setCurrentIndex(0)
    page.view(MatrixView).refresh()
    page.behind.wrong()
    qtbot.waitUntil(lambda: shared.session.scores.current is not None, timeout=30_000)
    return shared


@pytest.fixture
def page(qtbot: QtBot, shared: Frame) -> ExplainPage:
    """The stage with the surest mistake under the lens."""
    stage(qtbot, shared, "explain")
    page = shared.page("explain")
    assert isinstance(page, ExplainPage)
    qtbot.waitUntil(lambda: bool(shared.session.scores.mistakes()), timeout=30_000)
    first = shared.session.scores.mistakes()[0]
    page.open_image(first)
    qtbot.waitUntil(lambda: page.explanation is not None and page.explanation.image == first, timeout=30_000)
    return page
