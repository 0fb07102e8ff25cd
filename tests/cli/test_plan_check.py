"""A plan file is checked as a whole: every fault by its line, with the nearest repairs; networks are chosen by name."""

from __future__ import annotations

import contextlib
import io
from pathlib import Path

import pytest
from tests.cli.running import command, last_object, run_words

from attentive_lens.desk.network.checking import faults_of
from attentive_lens.plan.outline import commented
from attentive_lens.plan.plan import DRAWING, Plan
from attentive_lens.plan.starters import STARTERS
from attentive_lens.plan.text import written

TEXT = written(Plan(), Plan().network.nodes)


def line_of(text: str, words: str) -> int:
    return next(number for number, line in enumerate(text.split("\n"), 1) if words in line)


def test_every_fault_is_told_with_its_line() -> None:
    text = TEXT.replace("filters = 16", "filters = 0").replace("epochs = 20", "epochs = 0").replace('"relu 2"', "2")
    result = {fault.line: str(fault.error) for fault in faults_of(text)}
    assert result.keys() == {line_of(text, "filters = 0"), line_of(text, "epochs = 0"), line_of(text, "name = 2")}
    assert faults_of(TEXT) == ()
    assert faults_of(TEXT, 7) == ()


@pytest.mark.parametrize("name", [*STARTERS, *DRAWING])
def test_no_fault_is_found_in_a_plan_however_it_is_written(name: str) -> None:
    plan = Plan().changed({"network": name})
    for text in (commented(plan), written(plan, plan.network.nodes), f'network = "{name}"\n'):
        assert faults_of(text) == ()
    wrong = written(plan, plan.network.nodes).replace("epochs = 20", "epochs = 0")
    assert [fault.line for fault in faults_of(wrong)] == [line_of(wrong, "epochs = 0")]


@pytest.mark.parametrize("name", [*STARTERS, *DRAWING])
def test_a_new_plan_of_every_network_is_written_and_checked(name: str, tmp_path: Path) -> None:
    assert run_words("plan", "new", "--network", name, "--out", tmp_path / "plan.toml") == 0
    assert run_words("plan", "check", tmp_path / "plan.toml") == 0


def test_a_network_that_does_not_fit_comes_with_its_nearest_repair() -> None:
    (fault,) = faults_of(TEXT.replace('layer = "flatten"', 'layer = "relu"'))
    assert fault.repairs[0] == "Put global pooling before it"
    (fault,) = faults_of(TEXT.replace("units = 0", "units = 3"), 6)
    assert fault.repairs == ("Take the number of classes",)


def test_a_base_that_names_no_layer_is_a_fault() -> None:
    (fault,) = faults_of(f"{TEXT}\n[base]\nrun = 1\nuntil = 'nowhere'\n")
    assert "nowhere" in str(fault.error)


def test_check_says_all_and_ends_with_the_first(tmp_path: Path) -> None:
    file = tmp_path / "plan.toml"
    file.write_text(TEXT.replace("filters = 16", "filters = 0").replace("epochs = 20", "epochs = 0"), "utf-8")
    predicted = io.StringIO()
    with contextlib.redirect_stderr(predicted):
        assert run_words("plan", "check", file) == 1
    words = predicted.getvalue()
    assert f"line {line_of(TEXT, 'filters = 16')}: convolution.filters: 0 is below the least, 1" in words
    assert f"line {line_of(TEXT, 'epochs = 20')} of {file}: training.epochs" in words


@pytest.mark.parametrize("name", ["residual", "fully connected"])
def test_a_plan_begins_with_a_starting_network_made_for_its_images(tmp_path: Path, name: str) -> None:
    file = tmp_path / "plan.toml"
    command("plan", "new", "--network", name, "--classes", 40, "--set", "preprocessing.input_size=128", "--out", file)
    shown = last_object(command("plan", "show", file, "--classes", 40, "--json"))
    facts = STARTERS[name].network_for(128, 40).with_outputs(40).facts((128, 128, 3))
    assert [layer["layer"] for layer in shown["layers"]] == [fact.name for fact in facts]
    assert shown["weights"] == sum(fact.weights for fact in facts)
