"""How soon the Explain stage answers: a mistake, its feature maps, all methods, a change, and the lens under the mouse.

    QT_QPA_PLATFORM=offscreen python benchmarks/explaining.py WORKSPACE

The real window with its worker. Each figure is the median and the slowest of several, and beside it how many gradients
of one image (a pass each way, in this process, one thread) take as long: what the machine can do at best.
"""

from __future__ import annotations

import statistics
import sys
import time
from collections.abc import Callable
from pathlib import Path

from PyQt6.QtCore import QEvent, QPointF, Qt
from PyQt6.QtGui import QMouseEvent
from PyQt6.QtWidgets import QApplication

from attentive_lens.core.jobs import finish
from attentive_lens.desk.images.data import gather
from attentive_lens.explaining.probe import Probe, Targets
from attentive_lens.explaining.saliency import map_method
from attentive_lens.formats.reading import read_model
from attentive_lens.predicting import Predictor
from attentive_lens.window.application import make_application, make_frame
from attentive_lens.window.explaining.activations import ActivationsPanel
from attentive_lens.window.explaining.change import ChangePanel
from attentive_lens.window.explaining.maps import MapsPanel
from attentive_lens.window.frame import Frame
from attentive_lens.window.pages.explain import ExplainPage
from attentive_lens.window.session import open_session

MISTAKES, FRAMES, CHANGES = 12, 120, 20
LIMIT = 60.0
"""Seconds after which waiting is given up."""


def waited(until: Callable[[], bool]) -> float:
    """Seconds until it is so, events being handled."""
    began = time.perf_counter()
    while not until():
        QApplication.processEvents()
        if time.perf_counter() - began > LIMIT:
            raise SystemExit("it took more than a minute: something does not come")
        time.sleep(0.0005)
    QApplication.processEvents()
    return time.perf_counter() - began


def reference(frame: Frame, image: int) -> float:
    """Seconds of one gradient of one image in this process, one thread; the least of several."""
    workspace = frame.session.workspace
    run = workspace.run(frame.session.runs.current or 1)
    model = read_model(run.model)
    data = finish(gather(workspace, run.plan(), run, model.preprocessor.settings))
    predictor = Predictor.of(model)
    probe, prepared = Probe(predictor), predictor.prepare(data.pixels[image - 1][None])[0]
    target = Targets.classes([0], probe.classes)
    times = []
    for _ in range(20):
        began = time.perf_counter()
        map_method("gradient").maps(probe, prepared, target)
        times.append(time.perf_counter() - began)
    return min(times)


def result(what: str, times: list[float], gradient: float, aim: float) -> None:
    middle, slowest = statistics.median(times), max(times)
    print(
        f"{what:46} {1000 * middle:7.1f} ms, slowest {1000 * slowest:7.1f} ms (aim {1000 * aim:.0f});"
        f" {middle / gradient:6.1f} gradients"
    )


def mistakes(frame: Frame, page: ExplainPage, gradient: float) -> None:
    """From a click in the strip to the first map painted, then to the feature maps on the plates."""
    page.evidence.open(ActivationsPanel)
    maps, features, plates = [], [], page.evidence.of(ActivationsPanel)
    for number in frame.session.scores.mistakes()[2 : 2 * MISTAKES : 2]:  # never the next, which is asked ahead
        before = plates.maps
        page.strip.sheet.select(number - 1)
        first = waited(lambda number=number: page.explanation is not None and page.explanation.image == number)  # type: ignore[misc]
        page.twins.repaint()
        maps.append(first)
        features.append(first + waited(lambda before=before: bool(plates.maps) and plates.maps is not before))  # type: ignore[misc]
        waited(lambda: not frame.session.asker._asked)
    ahead = []
    for _ in range(MISTAKES):
        page.act()
        ahead.append(waited(lambda: page.explanation is not None and page.explanation.image == page.image))
        page.twins.repaint()
        waited(lambda: not frame.session.asker._asked)
    result("a mistake: click to first map", maps, gradient, 0.150)
    result("the next mistake, asked ahead", ahead, gradient, 0.150)
    result("a mistake: click to feature maps", features, gradient, 0.250)


def methods(frame: Frame, page: ExplainPage, gradient: float) -> None:
    """All methods of one image: the first tile, and all."""
    firsts, wholes, panel = [], [], page.evidence.of(MapsPanel)
    for number in frame.session.scores.mistakes()[1:5]:
        page.evidence.open(ActivationsPanel)
        page.open_image(number)
        waited(lambda number=number: page.explanation is not None and page.explanation.image == number)  # type: ignore[misc]
        waited(lambda: not frame.session.asker._asked)
        page.evidence.open(MapsPanel)
        first = waited(lambda: panel.made is not None and bool(panel.made.maps))
        firsts.append(first)
        wholes.append(first + waited(lambda: panel.made is not None and "pass" in panel.says.text()))
    result("all methods: first tile", firsts, gradient, 0.150)
    result("all methods: every tile with its verdict", wholes, gradient, 3.0)


def changes(page: ExplainPage, gradient: float) -> None:
    """The place of a cover dragged: answers and map follow."""
    page.evidence.open(ChangePanel)
    panel = page.evidence.of(ChangePanel)
    panel.mapped.setChecked(True)
    panel.cover_region(0.5, 0.5, 0.2, 0.2)
    waited(lambda: panel.tried is not None and panel.tried.maps is not None)
    times = []
    for k in range(CHANGES):
        panel.picture.moved.emit(0.2 + 0.03 * k, 0.3)
        wanted = panel.change()
        times.append(waited(lambda wanted=wanted: panel.tried is not None and panel.tried.after[0].change == wanted))  # type: ignore[misc]
    result("a change dragged: answers and map", times, gradient, 0.100)


def lens(page: ExplainPage, gradient: float) -> None:
    """The lens dragged over both images: moved, and both painted."""
    one = page.twins.lenses["predicted"]
    side = one.area().width()
    times = []
    for k in range(FRAMES):
        at = QPointF(side * (0.2 + 0.6 * k / FRAMES), side * (0.3 + 0.3 * (k % 20) / 20))
        began = time.perf_counter()
        kind, left = QEvent.Type.MouseMove, Qt.MouseButton.LeftButton
        move = QMouseEvent(kind, at, one.mapToGlobal(at), left, left, Qt.KeyboardModifier.NoModifier)
        QApplication.sendEvent(one, move)
        for each in page.twins.lenses.values():
            each.repaint()
        times.append(time.perf_counter() - began)
    result("the lens dragged: a frame of both", times, gradient, 1 / 60)


def main() -> None:
    """Open the window and measure."""
    if len(sys.argv) != 2:
        raise SystemExit(__doc__)
    application = make_application()
    session = open_session(Path(sys.argv[1]))
    frame = make_frame(session)
    frame.resize(1280, 800)
    frame.show()
    waited(lambda: session.images.pixels is not None)
    frame.show_stage("explain")
    page = frame.page("explain")
    assert isinstance(page, ExplainPage)
    waited(lambda: page.explanation is not None)
    waited(lambda: not session.asker._asked)
    gradient = reference(frame, page.image or 1)
    print(f"a gradient of one image: {1000 * gradient:.2f} ms")
    mistakes(frame, page, gradient)
    methods(frame, page, gradient)
    changes(page, gradient)
    lens(page, gradient)
    frame.close()
    application.processEvents()


if __name__ == "__main__":
    main()
