"""No draft keeps a window from opening, whatever it holds and whatever became of the images."""

from __future__ import annotations

import shutil
import tempfile
from pathlib import Path

import numpy as np
import pytest
from hypothesis import settings
from hypothesis import strategies as st
from hypothesis.stateful import RuleBasedStateMachine, initialize, invariant, rule
from PIL import Image
from pytestqt.qtbot import QtBot
from tests.conftest import small_plan
from tests.driving import stage

from attentive_lens.core.jobs import finish
from attentive_lens.core.random import random_generator
from attentive_lens.desk.making import look_again, make_workspace
from attentive_lens.desk.results.comparing import runs_table
from attentive_lens.desk.training.executing import execute
from attentive_lens.errors import BadValue
from attentive_lens.plan.losses import LOSSES
from attentive_lens.plan.plan import Plan
from attentive_lens.window.application import make_frame
from attentive_lens.window.pages import STAGES
from attentive_lens.window.session import Session
from attentive_lens.workspace import Workspace

BINARY = "binary cross-entropy"


def draw_class(source: Path, name: str, count: int = 8) -> None:
    folder = source / name
    folder.mkdir(parents=True)
    pixels = random_generator(1, name).integers(0, 256, (count, 24, 24, 3), np.uint8)
    for place, image in enumerate(pixels):
        Image.fromarray(image).save(folder / f"{place}.png")


def of_two_classes(folder: Path) -> tuple[Path, Workspace]:
    source = folder / "pictures"
    for name in ("smooth", "spiny"):
        draw_class(source, name)
    return source, finish(make_workspace(folder / "work", source)).workspace


def visit(qtbot: QtBot, workspace: Workspace) -> None:
    """Open the window, look at every stage, close it."""
    frame = make_frame(Session(workspace))
    with qtbot.waitSignal(frame.session.pixels_ready, timeout=30_000):
        frame.show()
    for key in STAGES:
        stage(qtbot, frame, key)
    for run in frame.session.runs.views:
        frame.session.runs.choose(run)
    frame.close()
    frame.deleteLater()


def test_a_loss_for_two_classes_is_a_fault_among_three_and_the_window_opens(
    qtbot: QtBot, tmp_path: Path, qapp: object
) -> None:
    source, workspace = of_two_classes(tmp_path)
    draft = Session(workspace)
    draft.design.change(small_plan().changed({"loss": BINARY}))
    assert draft.design.sound
    draft.close()
    draw_class(source, "winged")
    finish(look_again(workspace))
    visit(qtbot, workspace)
    session = Session(workspace)
    (fault,) = session.design.faults
    assert fault.kind == "loss"
    (remedy,) = session.design.remedies(fault)
    session.design.repair(remedy)
    assert session.design.sound
    session.close()
    with pytest.raises(BadValue, match="two classes"):
        finish(execute(workspace, workspace.claim_run(small_plan().changed({"loss": BINARY})), lambda: False))


def test_a_run_keeps_its_own_classes_when_a_third_one_comes(qtbot: QtBot, tmp_path: Path, qapp: object) -> None:
    source, workspace = of_two_classes(tmp_path)
    for loss in (BINARY, "cross-entropy"):
        plan = small_plan().changed({"loss": loss, "training.epochs": 1})
        finish(execute(workspace, workspace.claim_run(plan), lambda: False))
    before = runs_table(workspace)
    draw_class(source, "winged")
    finish(look_again(workspace))
    assert workspace.run(1).classes() == ("smooth", "spiny")
    assert runs_table(workspace) == before
    session = Session(workspace)
    for run, units in ((1, 1), (2, 2)):
        session.runs.choose(run)
        facts = session.runs.facts()
        assert facts is not None and facts[1][-1].shape == (units,)
    session.close()
    visit(qtbot, workspace)


class Drafts(RuleBasedStateMachine):
    """Settings, losses and classes come and go between openings; every opening works and says what is wrong."""

    @initialize()
    def begin(self) -> None:
        self.folder = Path(tempfile.mkdtemp())
        self.source, self.workspace = of_two_classes(self.folder)
        self.session = Session(self.workspace)
        self.added = 0

    @rule(loss=st.sampled_from(sorted(LOSSES)))
    def choose_loss(self, loss: str) -> None:
        self.session.design.change(self.session.design.plan.changed({"loss": loss}))

    @rule(side=st.sampled_from((8, 32, 64)))
    def choose_size(self, side: int) -> None:
        try:
            plan = self.session.design.plan.changed({"preprocessing.input_size": side})
        except BadValue:
            return
        self.session.design.change(plan)

    @rule(network=st.sampled_from(("two blocks", "three blocks")))
    def choose_network(self, network: str) -> None:
        self.session.design.change(self.session.design.plan.changed({"network": network}))

    @rule(place=st.integers(0, 5))
    def take_a_layer_out(self, place: int) -> None:
        nodes = self.session.design.nodes
        left = tuple(node for k, node in enumerate(nodes) if k != place % len(nodes))
        self.session.design.edit(left, "taking a layer out")

    @rule(text=st.sampled_from(("", "seed = 3", "[loss]\nkind = 'no loss'", "]", 'name = "x"\n[[network]]\n')))
    def write(self, text: str) -> None:
        self.session.design.write(text)

    @rule()
    def a_class_comes(self) -> None:
        self.added += 1
        draw_class(self.source, f"type {self.added}", 3)
        self.rescan()

    @rule()
    def a_class_goes(self) -> None:
        if self.added:
            shutil.rmtree(self.source / f"type {self.added}")
            self.added -= 1
            self.rescan()

    @rule()
    def undo(self) -> None:
        self.session.step_back()

    @rule()
    def open_again(self) -> None:
        self.session.close()
        self.workspace = Workspace.open(self.workspace.folder)
        self.session = Session(self.workspace)

    def rescan(self) -> None:
        finish(look_again(self.workspace))
        self.session.images.reread()

    @invariant()
    def everything_can_be_shown(self) -> None:
        design = self.session.design
        taught = len(self.session.images.collection.taught)  # a class without images is not trained on
        faults = design.faults
        assert design.sound == (not faults and not design.text_faults)
        for fault in faults:
            for remedy in design.remedies(fault):
                assert remedy.words
        if design.plan.loss.kind == BINARY and taught != 2:
            assert faults
        if taught == 2:
            assert "loss" not in {fault.kind for fault in faults}
        assert Plan.read(design.plan.write()) == design.plan
        assert isinstance(design.text, str) and isinstance(dict(design.lines), dict)
        for name in design.examination.facts:
            assert name in {node.name for node in design.nodes}

    def teardown(self) -> None:
        if hasattr(self, "session"):
            self.session.close()
            shutil.rmtree(self.folder)


TestDrafts = Drafts.TestCase
TestDrafts.settings = settings(max_examples=12, stateful_step_count=15, deadline=None)
