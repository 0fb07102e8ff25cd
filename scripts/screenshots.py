"""Take the pictures of docs/screenshots/ from the demo: python scripts/screenshots.py [WORKSPACE] [FIELDS].

FIELDS is the demo of views with several grains, with a trained run; without it that picture stays as it is, and so does
that of drawings where no run of WORKSPACE draws by class.
"""

from __future__ import annotations

import os
import sys
import tempfile
from dataclasses import replace
from pathlib import Path

os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")
_state = tempfile.TemporaryDirectory()
os.environ["XDG_STATE_HOME"] = _state.name

import numpy as np
from PIL import Image, ImageFilter
from PyQt6.QtCore import QEventLoop, QPointF, QTimer
from PyQt6.QtWidgets import QPushButton

from attentive_lens.desk.remedies.forecasts import kept_forecasts
from attentive_lens.window import look
from attentive_lens.window.application import make_application, make_frame, open_folder
from attentive_lens.window.explaining.activations import ActivationsPanel
from attentive_lens.window.explaining.causes import CausesPanel
from attentive_lens.window.explaining.change import ChangePanel
from attentive_lens.window.explaining.layers import LayersPanel
from attentive_lens.window.explaining.maps import MapsPanel
from attentive_lens.window.frame import Frame
from attentive_lens.window.model_window import ModelWindow
from attentive_lens.window.pages.explain import ExplainPage
from attentive_lens.window.pages.results import ResultsPage
from attentive_lens.window.pages.shelf import ShelfPage
from attentive_lens.window.pages.training import CURVES, NEXT, TrainingPage
from attentive_lens.window.results.drawings import SamplesView
from attentive_lens.window.results.labels import LabelsView
from attentive_lens.window.results.map import MapView
from attentive_lens.window.results.matrix import MatrixView
from attentive_lens.window.results.new_images import NewImagesView
from attentive_lens.window.results.objects import ObjectsView
from attentive_lens.window.session import Session, open_session
from attentive_lens.window.welcome import Welcome
from attentive_lens.workspace import Workspace

ROOT = Path(__file__).parents[1]


def wait(seconds: float) -> None:
    loop = QEventLoop()
    QTimer.singleShot(int(seconds * 1000), loop.quit)
    loop.exec()


def main() -> None:
    workspace = Path(sys.argv[1]) if len(sys.argv) > 1 else ROOT / "pollen-station"
    os.environ["HOME"] = str(workspace.absolute().parent)  # no path of this machine in a picture
    into = ROOT / "docs" / "screenshots"
    into.mkdir(parents=True, exist_ok=True)
    application = make_application()
    session = open_session(workspace)
    if not any(view.has_model for view in session.runs.views.values()):
        sys.exit("The workspace has no trained run: train one first.")
    frame = make_frame(session)
    frame.resize(1280, 800)
    frame.show()
    while session.images.pixels is None or len(session.images.measures) < 2:
        wait(0.2)
    answering = [number for number in session.runs.views if not session.workspace.run(number).plan().task.draws]
    session.runs.choose(max(answering))
    session.scores.want("test")
    while session.scores.current is None:
        wait(0.2)
    for stage in ("images", "network", "training", "explain"):
        frame.show_stage(stage)
        wait(6 if stage == "network" else 1.5)  # the price takes a moment
        frame.grab().save(str(into / f"{stage}.png"))
        frame.loop.leave()  # as somebody does who knows the way; the first picture has it
    take_shelf(frame, session, into)
    take_results(frame, session, into)
    take_objects(frame, session, into)
    training = frame.page("training")
    assert isinstance(training, TrainingPage)
    frame.show_stage("training")
    take_training(frame, training, session, into)
    take_explain(frame, session, into)
    take_drawings(frame, session, into)
    frame.show_stage("images")
    page = frame.page("images")
    button = page.findChild(QPushButton, "look for faults")
    if button is not None:
        button.click()
    while page.findChild(QPushButton, "finding 0") is None:
        wait(0.5)
    result = page.findChild(QPushButton, "finding 0")
    if result is not None:
        result.click()
    wait(0.5)
    frame.grab().save(str(into / "faults.png"))
    frame.show_stage("augmentation")
    wait(2)
    frame.grab().save(str(into / "augmentation.png"))
    frame.close()
    if len(sys.argv) > 2:
        take_labels(open_session(Path(sys.argv[2])), into)
    take_model(session.workspace, into)
    welcome = Welcome(open_folder)
    welcome.show()
    wait(1)
    welcome.grab().save(str(into / "welcome.png"))
    welcome.close()
    application.processEvents()


def take_model(workspace: Workspace, into: Path) -> None:
    """A model file in a window of its own, with images it is asked about."""
    with tempfile.TemporaryDirectory() as folder:
        file = Path(folder) / "pollen.alens"
        file.write_bytes(workspace.run(1).model.read_bytes())
        images = [workspace.folder / row.file for row in workspace.catalogue.images()]
        window = ModelWindow(file, open_folder)
        window.show()
        while window.opened is None:
            wait(0.2)
        window.try_images([image for image in images if "test" in image.parts][::31][:9])
        while window.explanation is None or not window.explanation.complete:
            wait(0.2)
        wait(1)
        window.say("")
        window.grab().save(str(into / "model.png"))
        window.close()


def take_labels(session: Session, into: Path) -> None:
    """All labels of a run that answers several, and the mistakes about one of them."""
    frame = make_frame(session)
    frame.resize(1280, 800)
    frame.show()
    while session.images.pixels is None:
        wait(0.2)
    session.runs.choose(min(session.runs.views))
    session.runs.choose_label("netted")
    session.scores.want("test")
    frame.show_stage("results")
    page = frame.page("results")
    assert isinstance(page, ResultsPage)
    view = page.open(LabelsView)
    while session.scores.current is None or view.scores is None or view.scores.on != "test":
        wait(0.2)
    wait(1)
    frame.grab().save(str(into / "labels.png"))
    frame.close()


def take_shelf(frame: Frame, session: Session, into: Path) -> None:
    """The Shelf with the run in view on it, beside what comes with the program; it is taken off again."""
    page = frame.page("shelf")
    assert isinstance(page, ShelfPage)
    frame.show_stage("shelf")
    names: list[str] = []
    session.shelf.put(str(session.runs.current), names.append)
    while not names or session.shelf.model(names[0]) is None:
        wait(0.2)
    page.show_model(names[0])
    wait(1)
    frame.grab().save(str(into / "shelf.png"))
    session.shelf.take_off(names[0])
    (session.workspace.shelf.folder / f".deleted-{names[0]}.alens").unlink()


def take_results(frame: Frame, session: Session, into: Path) -> None:
    """The matrix, the map with a lasso, and new images of which some are strange."""
    page = frame.page("results")
    assert isinstance(page, ResultsPage)
    frame.show_stage("results")
    matrix = page.open(MatrixView)
    matrix.orders.setCurrentText("similar together")
    matrix.refresh()
    wait(1)
    matrix.pairs.setCurrentRow(0)
    wait(0.5)
    frame.grab().save(str(into / "matrix.png"))
    view = page.open(MapView)
    assert isinstance(view, MapView)
    while "answered wrongly" not in view.says.text() or "laying" in frame.bottom.work.text():
        wait(0.5)
    wait(1)
    rows = view.map.in_view()
    wrong = rows[view.result.predicted[rows] != view.result.true[rows]] if view.result is not None else rows
    places = view.map.at()
    company = [np.hypot(*(places[wrong] - places[each]).T) < 90 for each in wrong]
    among = wrong[int(np.argmax([each.sum() for each in company]))]  # where most mistakes lie together
    view.map.zoom_by(1.5, QPointF(*places[among].tolist()))
    near = rows[np.hypot(*(view.map.at()[rows] - view.map.at()[among]).T) < 90]
    view.map.choose_rows(near.tolist())
    wait(0.5)
    frame.grab().save(str(into / "map.png"))
    new_images = page.open(NewImagesView)
    with tempfile.TemporaryDirectory() as folder:
        draw_new(session, Path(folder))
        new_images.open_places([Path(folder)])
        while new_images.result is None or "answering" in frame.bottom.work.text():
            wait(0.3)
        wait(1)
        strange = new_images.sheet.groups[0].places
        new_images.sheet.select(strange[min(1, len(strange) - 1)])
        wait(0.5)
        frame.grab().save(str(into / "new-images.png"))
    page.show_view("overview")


def take_objects(frame: Frame, session: Session, into: Path) -> None:
    """What the first run's right answers of the validation set rest on."""
    page, before = frame.page("results"), session.runs.current
    assert isinstance(page, ResultsPage)
    session.runs.choose(1)
    session.scores.want("validation")
    frame.show_stage("results")
    view = page.open(ObjectsView)
    while view.result is None:
        wait(0.5)
    view.wrong_reason.click()
    wait(2)
    frame.grab().save(str(into / "objects.png"))
    page.show_view("overview")
    session.scores.want("test")
    session.runs.choose(before or 1)
    while session.scores.current is None or session.scores.on != "test":
        wait(0.2)


def take_explain(frame: Frame, session: Session, into: Path) -> None:
    """All maps, a channel, causes, a change, and a case book of a few, which is emptied again."""
    page = frame.page("explain")
    assert isinstance(page, ExplainPage)
    frame.show_stage("explain")
    mistakes = session.scores.mistakes()
    page.open_image(mistakes[0])
    wait(2)
    evidence = page.evidence
    evidence.open(MapsPanel)
    while (made := evidence.of(MapsPanel).made) is None or not made.tested:
        wait(0.3)
    frame.grab().save(str(into / "explain.png"))
    take_channel(frame, page, into)
    causes_panel = evidence.open(CausesPanel)
    while not causes_panel.groups:
        wait(0.5)
    causes_panel.choose(0)
    wait(1)
    frame.grab().save(str(into / "causes.png"))
    evidence.open(ChangePanel)
    shown = page.explanation
    if shown is not None and shown.regions:
        region = shown.regions[0]
        evidence.of(ChangePanel).cover_region(
            region.left + region.width / 2, region.top + region.height / 2, region.width + 0.06, region.height + 0.06
        )
    wait(1)
    evidence.of(ChangePanel).pin.click()
    wait(0.5)
    page.walk_through([])
    causes = ("a mark or place", "a mark or place", "out of focus", "classes that look alike", "wrong label")
    for cause, image in zip(causes, mistakes[:: max(1, len(mistakes) // 5)], strict=False):
        page.open_image(image)
        wait(1)
        page.case.open_case()
        case = page.case.case
        if case is not None:
            session.cases.change(replace(case, cause=cause), f"telling about case {case.number}")
    page.show_view("case book")
    wait(3)
    frame.grab().save(str(into / "case-book.png"))
    page.show_view("image")
    evidence.open(MapsPanel)
    while session.cases.undo():
        pass
    (session.workspace.folder / "cases.json").unlink(missing_ok=True)


def take_drawings(frame: Frame, session: Session, into: Path) -> None:
    """What the last run draws that is told classes, a row for each, in the dark."""
    page, before = frame.page("results"), session.runs.current
    assert isinstance(page, ResultsPage)
    for number in sorted(session.runs.views, reverse=True):
        if session.workspace.run(number).plan().network.class_inputs and session.runs.views[number].has_model:
            break
    else:
        sys.stderr.write("drawings.png stays: there is no run that draws by class (network=generator, by class).\n")
        return
    session.runs.choose(number)
    frame.show_stage("results")
    view = page.open(SamplesView)
    while not view.sheet.pictures:
        wait(0.3)
    view.sheet.choose(2 + 3 * view.sheet.columns)
    frame.change_theme()
    wait(0.5)
    frame.grab().save(str(into / "drawings.png"))
    while look.theme is not look.LIGHT:
        frame.change_theme()
    session.runs.choose(before or 1)


def take_channel(frame: Frame, page: ExplainPage, into: Path) -> None:
    """The channel that adds most to the wrong answer, switched off, beside the nearest right image."""
    panel = page.evidence.open(ActivationsPanel)
    wait(1)
    page.evidence.of(LayersPanel).bench.choose(3)
    shown = page.explanation
    predicted = shown.predicted if shown is not None else ""
    for box, words in ((panel.by, "what they add"), (panel.other, f"nearest right {predicted}")):
        box.setCurrentText(words)
        box.activated.emit(box.currentIndex())
        wait(1.5)
    panel.open_place(0)
    wait(3)
    panel.view.scale(0.0)
    frame.grab().save(str(into / "activations.png"))
    panel.view.left.emit()
    panel.other.setCurrentIndex(0)
    panel.other.activated.emit(0)
    panel.by.setCurrentIndex(0)


def draw_new(session: Session, folder: Path) -> None:
    """Test images under new names, two of them out of focus, and one that shows nothing."""
    members, pixels = session.images.collection.members("test"), session.images.pixels
    assert pixels is not None
    for k, place in enumerate(members[:: max(1, len(members) // 24)].tolist()):
        picture = Image.fromarray(np.asarray(pixels[place]))
        picture = picture.filter(ImageFilter.GaussianBlur(4)) if k in (3, 11) else picture
        picture.save(folder / f"grain {k:02}.png")
    noise = np.random.default_rng(0).integers(0, 256, (64, 64, 3)).astype(np.uint8)
    Image.fromarray(noise).save(folder / "loose plug.png")
    (folder / "notes.png").write_text("not a picture", "utf-8")


def take_training(frame: Frame, training: TrainingPage, session: Session, into: Path) -> None:
    """A run in trouble, and what to do next with what was tried."""
    shown = session.runs.current
    troubled = [number for number in session.runs.views if was_tried(session, number)]
    session.runs.choose(troubled[0] if troubled else shown or 1)
    wait(0.5)
    for place, name in ((CURVES, "training"), (NEXT, "next")):
        training.show_view(place)
        while name == "next" and not training.next.rows:
            wait(0.2)
        wait(0.5)
        frame.grab().save(str(into / f"{name}.png"))
    training.show_view(CURVES)
    session.runs.choose(shown or 1)


def was_tried(session: Session, number: int) -> bool:
    """Whether remedies of a run were tried."""
    return bool(kept_forecasts(session.workspace.run(number)))


if __name__ == "__main__":
    main()
