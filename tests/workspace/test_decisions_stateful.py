"""Decisions in any order, with undo and redo, are what a plain list of states says; the catalogue never disagrees."""

from __future__ import annotations

import shutil
import tempfile
from pathlib import Path

from hypothesis import settings
from hypothesis import strategies as st
from hypothesis.stateful import RuleBasedStateMachine, initialize, invariant, rule
from PIL import Image

from attentive_lens.core.jobs import finish
from attentive_lens.desk.images.collection import Library
from attentive_lens.desk.images.curating import Curating, flagged, moved, relabelled
from attentive_lens.desk.making import make_workspace
from attentive_lens.plan.plan import Plan
from attentive_lens.workspace import Correction, Workspace
from attentive_lens.workspace.corrections import EXCLUDED, NOTHING, SETS, corrected

IMAGES = 8
numbers = st.lists(st.integers(1, IMAGES), min_size=1, max_size=3, unique=True)
State = dict[int, Correction]


class Decisions(RuleBasedStateMachine):
    """A list of states beside the real thing."""

    def __init__(self) -> None:
        super().__init__()
        self.folder = Path(tempfile.mkdtemp())

    @initialize()
    def begin(self) -> None:
        for name in ("a", "b"):
            (self.folder / "images" / name).mkdir(parents=True)
            for k in range(IMAGES // 2):
                Image.new("RGB", (9, 9), (40 * k, 9, 9)).save(self.folder / "images" / name / f"{k}.png")
        self.workspace = finish(make_workspace(self.folder / "work", self.folder / "images")).workspace
        self.curating = Curating(self.workspace)
        self.states: list[State] = [{}]
        self.at = 0

    def _decided(self, chosen: list[int], decision: object) -> None:
        state = dict(self.states[self.at])
        for number in chosen:
            state[number] = decision(state.get(number, NOTHING))  # type: ignore[operator]
        state = {n: own for n, own in state.items() if own}
        if state != self.states[self.at]:
            del self.states[self.at + 1 :]
            self.states.append(state)
            self.at += 1

    @rule(chosen=numbers, label=st.integers(0, 1))
    def relabel(self, chosen: list[int], label: int) -> None:
        self.curating.change("label", chosen, relabelled(label))
        self._decided(chosen, relabelled(label))

    @rule(chosen=numbers, name=st.sampled_from([*SETS, EXCLUDED, None]))
    def move(self, chosen: list[int], name: str | None) -> None:
        self.curating.change("set", chosen, moved(name))
        self._decided(chosen, moved(name))

    @rule(chosen=numbers, on=st.booleans())
    def flag(self, chosen: list[int], on: bool) -> None:
        self.curating.change("flag", chosen, flagged(on))
        self._decided(chosen, flagged(on))

    @rule()
    def undo(self) -> None:
        word = self.curating.undo()
        assert bool(word) == (self.at > 0)
        self.at = max(0, self.at - 1)

    @rule()
    def redo(self) -> None:
        word = self.curating.redo()
        assert bool(word) == (self.at + 1 < len(self.states))
        self.at = min(len(self.states) - 1, self.at + 1)

    @rule()
    def open_again(self) -> None:
        """Another opening sees the same decisions, and has nothing to undo."""
        again = Curating(Workspace.open(self.workspace.folder))
        assert dict(again.state) == self.states[self.at]
        assert again.history.last == ""

    @rule()
    def restore(self) -> None:
        """The copy of the catalogue and the plain record bring the same decisions back."""
        self.workspace.catalogue.restore()

    @invariant()
    def the_catalogue_agrees(self) -> None:
        if not hasattr(self, "states"):
            return
        wanted = self.states[self.at]
        assert dict(self.curating.state) == wanted
        assert self.workspace.catalogue.corrections() == wanted
        library = Library.read(self.workspace)
        rows = corrected(library.rows, wanted)
        assert library.collection(wanted, Plan()).rows == rows
        assert [row.number for row in rows] == list(range(1, IMAGES + 1))

    def teardown(self) -> None:
        shutil.rmtree(self.folder, ignore_errors=True)


TestDecisions = Decisions.TestCase
TestDecisions.settings = settings(max_examples=12, stateful_step_count=14, deadline=None)
