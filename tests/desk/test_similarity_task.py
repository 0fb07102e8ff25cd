"""What training changed, layer by layer: nothing in what was frozen, more in new layers, and against random weights."""

from __future__ import annotations

import pytest
from tests.cli.running import command

from attentive_lens.core.jobs import finish
from attentive_lens.desk.network.bases import with_base
from attentive_lens.desk.requests.similarity import CompareLayers, LayersCompared
from attentive_lens.desk.tasks import carry_out
from attentive_lens.desk.training.executing import execute
from attentive_lens.plan.base import Base
from attentive_lens.plan.plan import Plan
from attentive_lens.workspace import Workspace


def compared(station: Workspace, run: int) -> LayersCompared:
    return finish(carry_out(CompareLayers(str(station.folder), run)))


def trained_on(station: Workspace, **settings: object) -> int:
    plan = with_base(station, Plan().changed({"training.epochs": 2}), Base(run=1).with_(**settings))
    run = station.claim_run(plan)
    finish(execute(station, run, lambda: False))
    return run.number


def test_frozen_layers_are_as_they_were_and_new_ones_are_not(station: Workspace) -> None:
    result = compared(station, trained_on(station))
    frozen, new = ([each for each in result.layers if each.from_base is base] for base in (True, False))
    assert frozen
    assert new
    assert result.begun_from == "run 1"
    for layer in frozen:
        assert layer.moved == 0
        assert layer.similarity == pytest.approx(1.0, abs=1e-6)
        assert layer.unrelated is not None
        assert layer.unrelated < 0.98
        assert "Its weights are those of the base" in layer.words()
    for layer in new:
        assert layer.moved > 0
        assert layer.changes == tuple(sorted(layer.changes, reverse=True))
        assert f"{layer.moved:.0%}" in layer.words()
    first = result.layers[0]
    assert len(set(first.filters)) == len(first.filters)


def test_layers_that_learn_on_move_and_are_told_beside_what_they_were(station: Workspace) -> None:
    number = trained_on(station, frozen=False)
    result = compared(station, number)
    assert all(layer.moved > 0 for layer in result.layers)
    assert compared(station, number) == result, "it is kept"
    text = command("similarity", station.folder, number)
    assert "run 1 has it" in " ".join(text.split())
    assert "convolution 1" in text


def test_a_run_from_random_weights_is_held_against_its_own_beginning(station: Workspace) -> None:
    result = compared(station, 1)
    assert result.begun_from == ""
    assert {layer.from_base for layer in result.layers} == {False}
    assert all(layer.moved > 0 for layer in result.layers)
    assert any("before training" in layer.words() for layer in result.layers)
