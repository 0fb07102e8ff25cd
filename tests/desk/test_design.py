"""Designing a network: whatever is done to it, text and bench agree, faults are told, and undoing everything undoes."""

from __future__ import annotations

import shutil
import tempfile
from dataclasses import replace
from pathlib import Path

import pytest
from hypothesis import HealthCheck, Phase, settings
from hypothesis import strategies as st
from hypothesis.stateful import RuleBasedStateMachine, initialize, invariant, precondition, rule

from attentive_lens.desk.network.design import Design
from attentive_lens.errors import LensError
from attentive_lens.plan import editing
from attentive_lens.plan.blocks import BLOCKS
from attentive_lens.plan.examination import examine
from attentive_lens.plan.layers import LAYERS, Flatten
from attentive_lens.plan.network import NetworkPlan
from attentive_lens.plan.nodes import IMAGE
from attentive_lens.plan.plan import Plan
from attentive_lens.plan.repairs import repairs
from attentive_lens.plan.starters import STARTERS
from attentive_lens.plan.text import read_stretch, read_text, stretch_text, written
from attentive_lens.workspace import Workspace

CLASSES = 5
KINDS = [*LAYERS, *BLOCKS]


def design_in(folder: Path) -> Design:
    design = Design(Workspace(folder, "meadow", True), lambda: CLASSES)
    design.restore()
    return design


class Designing(RuleBasedStateMachine):
    """Any sequence of edits by hand, as text, by a repair and back again."""

    @initialize(starter=st.sampled_from(list(STARTERS)))
    def open(self, starter: str) -> None:
        self.folder = Path(tempfile.mkdtemp())
        self.design = design_in(self.folder)
        self.design.change(Plan().changed({"network": starter}))
        self.first = self.design.drawn
        self.steps = 0

    def _edit(self, edit: object) -> None:
        before = self.design.drawn
        try:
            edit()  # type: ignore[operator]
        except LensError:
            assert self.design.drawn is before, "what is refused changes nothing"
        self.steps += self.design.drawn is not before

    def _name(self, data: st.DataObject, image: bool = False) -> str:
        names = [node.name for node in self.design.nodes]
        return str(data.draw(st.sampled_from([IMAGE, *names] if image or not names else names)))

    @rule(data=st.data(), kind=st.sampled_from(KINDS), one=st.booleans())
    def insert(self, data: st.DataObject, kind: str, one: bool) -> None:
        source = self._name(data, image=True)
        fed = [node.name for node in self.design.nodes if source in node.after]
        consumer = data.draw(st.sampled_from(fed)) if fed and one else ""

        def edit() -> None:
            nodes, _ = editing.insert(self.design.nodes, source, editing.part_of_kind(kind), consumer)
            self.design.edit(nodes, "insert")

        self._edit(edit)

    @rule(data=st.data(), count=st.integers(1, 4))
    def remove(self, data: st.DataObject, count: int) -> None:
        names = {self._name(data) for _ in range(count)}
        self._edit(lambda: self.design.edit(editing.remove(self.design.nodes, names), "remove"))

    @rule(data=st.data())
    def duplicate(self, data: st.DataObject) -> None:
        name = self._name(data)
        self._edit(lambda: self.design.edit(editing.duplicate(self.design.nodes, {name})[0], "duplicate"))

    @rule(data=st.data())
    def move(self, data: st.DataObject) -> None:
        name, source = self._name(data), self._name(data, image=True)
        self._edit(lambda: self.design.edit(editing.move(self.design.nodes, {name}, source), "move"))

    @rule(data=st.data())
    def connect(self, data: st.DataObject) -> None:
        source, consumer = self._name(data, image=True), self._name(data)
        self._edit(lambda: self.design.edit(editing.connect(self.design.nodes, source, consumer)[0], "connect"))

    @rule(data=st.data())
    def disconnect(self, data: st.DataObject) -> None:
        source, consumer = self._name(data), self._name(data)
        self._edit(lambda: self.design.edit(editing.disconnect(self.design.nodes, source, consumer), "disconnect"))

    @rule(data=st.data(), multiplier=st.sampled_from([0.0, 0.1, 1.0]))
    def freeze(self, data: st.DataObject, multiplier: float) -> None:
        names = {self._name(data)}
        nodes = editing.multiply_rate(self.design.nodes, names, multiplier)
        self._edit(lambda: self.design.edit(nodes, "freeze"))

    @rule(data=st.data(), new=st.sampled_from(["stem", "head", "image", "a/b", ""]))
    def rename(self, data: st.DataObject, new: str) -> None:
        old = self._name(data)
        self._edit(lambda: self.design.edit(editing.rename(self.design.nodes, old, new), "rename"))

    @rule(data=st.data())
    def copy_from_text(self, data: st.DataObject) -> None:
        source = self._name(data, image=True)
        stretch = self.design.nodes[1:4]

        def edit() -> None:
            copied = read_stretch(stretch_text(stretch))
            self.design.edit(editing.paste(self.design.nodes, source, copied)[0], "paste")

        self._edit(edit)

    @rule(data=st.data(), garbage=st.sampled_from(["", "[[network", "filters = 0", "layer = 'none'", "# a remark"]))
    def write(self, data: st.DataObject, garbage: str) -> None:
        lines = self.design.text.split("\n")
        place = data.draw(st.integers(0, len(lines) - 1))
        lines[place] = garbage
        self._edit(lambda: self.design.write("\n".join(lines)))

    @rule(data=st.data())
    def repair(self, data: st.DataObject) -> None:
        faults = self.design.faults
        if not faults:
            return
        fault = data.draw(st.sampled_from(faults))
        for remedy in self.design.remedies(fault)[:1]:
            before = sum((each.node, each.kind) == (fault.node, fault.kind) for each in faults)
            self._edit(lambda remedy=remedy: self.design.repair(remedy))
            after = sum((each.node, each.kind) == (fault.node, fault.kind) for each in self.design.faults)
            assert after < before, (fault, remedy.words)

    @precondition(lambda self: self.steps > 0)
    @rule()
    def undo_and_redo(self) -> None:
        drawn = self.design.drawn
        assert self.design.undo()
        assert self.design.redo()
        assert self.design.drawn is drawn

    @precondition(lambda self: self.steps > 0)
    @rule()
    def undo(self) -> None:
        assert self.design.undo()
        self.steps -= 1

    @invariant()
    def text_and_bench_agree(self) -> None:
        reading = read_text(self.design.text)
        if not self.design.text_faults:
            assert reading.nodes == self.design.nodes

    @invariant()
    def it_is_sound_or_says_where_it_is_not(self) -> None:
        plan, nodes = self.design.plan, self.design.nodes
        plan.network.facts(plan.preprocessing.shape)
        if not self.design.faults:
            assert plan.network == NetworkPlan(nodes)
            assert replace(plan, network=NetworkPlan(nodes)) == plan
        names = {node.name for node in nodes} | {""}
        assert all(fault.node in names for fault in self.design.faults)
        unknown = [node.name for node in nodes if node.name not in self.design.examination.facts]
        assert bool(unknown) <= bool(self.design.faults), "no shape is unknown without a reason"

    @invariant()
    def what_is_kept_opens_again(self) -> None:
        self.design.keep()
        again = design_in(self.folder)
        assert again.plan == self.design.plan
        assert again.sound == self.design.sound
        if self.design.text_faults:
            assert again.text == self.design.text, "what could not be read is there to be mended"
        else:
            assert again.nodes == self.design.nodes

    def teardown(self) -> None:
        for _ in range(self.steps):
            assert self.design.undo()
        assert self.design.drawn == self.first
        shutil.rmtree(self.folder)


TestDesigning = Designing.TestCase
TestDesigning.settings = settings(
    max_examples=14,
    stateful_step_count=20,
    deadline=None,
    phases=[Phase.explicit, Phase.reuse, Phase.generate],
    suppress_health_check=list(HealthCheck),
)


def test_text_leaves_out_only_what_is_usual() -> None:
    for starter in STARTERS.values():
        plan = Plan(network=starter.network)
        reading = read_text(written(plan, plan.network.nodes))
        assert reading.faults == ()
        assert reading.settings is not None
        assert replace(reading.settings, network=NetworkPlan(reading.nodes or ())) == plan


@pytest.mark.parametrize(
    ("old", "new", "line", "words"),
    [
        ("filters = 16", "filters = 0", "filters = 0", "below the least"),
        ('kind = "adam"', 'kind = "adams"', 'kind = "adams"', "Did you mean «adam»?"),
        ("epochs = 20", "epochs = 'x'", "epochs = 'x'", "whole number"),
        ("seed = 7", "seed = -7", "seed = -7", "2⁶³"),
        ('layer = "flatten"', 'layer = "flat"', 'layer = "flat"', "Did you mean «flatten»?"),
        ("rate = 0.3", "rate = ", "rate = ", "Mend it"),
        ("rate = 0.3", "rate = 0.3\nafter = 3", "after = 3", "a name or a list of names"),
    ],
)
def test_a_fault_of_the_text_is_told_by_its_line(tmp_path: Path, old: str, new: str, line: str, words: str) -> None:
    design = design_in(tmp_path)
    sound = design.plan
    text = design.text.replace(old, new, 1)
    design.write(text)
    (fault,) = design.text_faults
    assert text.split("\n")[fault.line - 1] == line
    assert words in str(fault.error)
    assert design.plan == sound
    assert design.text == text, "nothing that was written is lost"
    design.undo()
    assert design.sound


def test_settings_of_a_text_are_taken_although_its_network_is_faulty(tmp_path: Path) -> None:
    design = design_in(tmp_path)
    text = design.text.replace("epochs = 20", "epochs = 9").replace(
        '[[network]]\nlayer = "flatten"', '[[network]]\nlayer = "relu"'
    )
    design.write(text)
    assert [fault.kind for fault in design.faults] == ["shape"]
    assert design.plan.training.epochs == 9
    assert design.plan.network == Plan().network
    (first, *_) = design.remedies(design.faults[0])
    design.repair(first)
    assert first.words == "Put global pooling before it"
    assert design.sound
    assert design.plan.training.epochs == 9


def test_a_change_of_a_setting_leaves_a_faulty_network_on_the_bench(tmp_path: Path) -> None:
    design = design_in(tmp_path)
    flatten = next(node.name for node in design.nodes if isinstance(node.layer, Flatten))
    nodes = editing.remove(design.nodes, {flatten})
    design.edit(nodes, "remove the flatten layer")
    design.change(design.plan.changed({"training.epochs": 3}))
    assert design.nodes == nodes
    assert not design.sound
    design.undo()
    design.undo()
    assert design.nodes == design.plan.network.nodes


def test_an_output_of_another_class_count_is_a_fault_with_its_repair(tmp_path: Path) -> None:
    design = design_in(tmp_path)
    output = design.nodes[-1]
    design.edit(editing.change(design.nodes, output.name, output.layer.with_(units=9)), "units")
    (fault,) = design.faults
    assert (fault.node, fault.kind) == ("output", "units")
    assert "it has 9 scores, and 5 are needed" in str(fault.error)
    design.repair(design.remedies(fault)[0])
    assert design.sound


def test_a_layer_that_a_base_ends_at_can_be_taken_out_and_it_is_said(tmp_path: Path) -> None:
    design = design_in(tmp_path)
    design.change(design.plan.changed({"base.run": 1, "base.until": "max pooling 2"}))
    design.edit(editing.remove(design.nodes, {"max pooling 2"}), "remove")
    (fault,) = design.faults
    assert "There is no layer called max pooling 2" in str(fault.error)
    design.repair(design.remedies(fault)[0])
    assert design.sound
    assert design.plan.base is None


def test_a_repair_that_mends_nothing_is_not_offered() -> None:
    nodes = STARTERS["residual"].network.nodes
    layer = nodes[3].layer.with_(groups=3)
    faulty = editing.change(nodes, nodes[3].name, layer)
    (fault,) = examine(faulty, (64, 64, 3), CLASSES).faults
    words = [repair.words for repair in repairs(faulty, fault, (64, 64, 3), CLASSES)]
    assert words == ["Use one group", "Take the layer out"], "same padding would not help"


def test_repairs_are_known_for_faults_that_engineers_make() -> None:
    nodes = STARTERS["residual"].network.nodes
    shape = (64, 64, 3)
    cases = {
        "no output": (editing.remove(nodes, {"output"}), "Add an output"),
        "no head": (nodes[:3], "Add global pooling and an output"),
        "no projection": (
            editing.remove(nodes, {"convolution 4", "batch normalisation 4"}),
            "Put a 1×1 convolution after relu 1",
        ),
        "window": (
            editing.change(nodes, "convolution 1", nodes[0].layer.with_(kernel_size=31, dilation=9, padding="valid")),
            "Use same padding",
        ),
        "dead end": (
            (*nodes[:1], replace(nodes[0], name="aside", after=("convolution 1",)), *nodes[1:]),
            "Take the layer out",
        ),
        "dead branch": (
            (
                *nodes[:1],
                replace(nodes[0], name="aside", after=("convolution 1",)),
                replace(nodes[2], name="end", after=("aside",)),
                *nodes[1:],
            ),
            "Take it and the 1 before it out",
        ),
        "flat": (
            editing.insert(nodes, "global pooling 1", editing.part_of_kind("max pooling"))[0],
            "Move it before global pooling 1",
        ),
        "order": ((nodes[1], nodes[0], *nodes[2:]), "Put the layers in order"),
        "unknown": ((replace(nodes[0], after=("nowhere",)), *nodes[1:]), "Put it after image"),
        "twice": ((nodes[0], replace(nodes[1], name=nodes[0].name), *nodes[2:]), "Call it"),
        "two inputs": (
            tuple(replace(n, after=("relu 1", "convolution 1")) if n.name == "convolution 2" else n for n in nodes),
            "Add its inputs first",
        ),
    }
    for name, (faulty, words) in cases.items():
        fault = examine(faulty, shape, CLASSES).faults[0]
        offered = repairs(tuple(faulty), fault, shape, CLASSES)
        assert any(repair.words.startswith(words) for repair in offered), (name, fault, [r.words for r in offered])
