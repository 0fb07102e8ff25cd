from __future__ import annotations

from collections.abc import Callable, Iterator

import pytest
from pytestqt.qtbot import QtBot

from attentive_lens.desk.runs import reap_children
from attentive_lens.window.application import make_application, make_frame
from attentive_lens.window.frame import Frame
from attentive_lens.window.session import Session
from attentive_lens.workspace import Workspace


@pytest.fixture(scope="session")
def qapp() -> Iterator[object]:
    yield make_application()


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
