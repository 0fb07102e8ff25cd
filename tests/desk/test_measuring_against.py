"""Figures of two measurements beside each other: only what differs by more than they vary is told."""

from __future__ import annotations

import json
from dataclasses import replace
from pathlib import Path

import pytest
from tests.cli.running import command, last_object

from attentive_lens.core.records import without_arrays
from attentive_lens.desk.measuring import engine
from attentive_lens.desk.measuring.against import DRIFT, changes, read_figures
from attentive_lens.desk.measuring.results import EpochFigure, Figure, Held, Measured
from attentive_lens.errors import BadFile, BadValue


def measured(ratio: float, width: float = 0.02, epoch: float = 0.3, held: float = 1.0) -> Measured:
    figures = (
        Figure("a step", ratio, ratio - width, ratio + width, 15, 0),
        Figure("stolen", None, None, None, 0, 15),
    )
    epochs = (EpochFigure("two blocks", epoch, epoch - 0.01, epoch + 0.01, 1.0, 10**9, {}),)
    return Measured(2, 1e11, (9e10, 1.1e11), figures, {"network": Held(100, 100, held), "other": None}, epochs)


def verdicts(before: Measured, now: Measured) -> dict[str, str]:
    return {each.what: each.verdict for each in changes(before, now)}


def test_the_same_figures_are_no_change() -> None:
    same = changes(measured(1.0), measured(1.0))
    assert [each.what for each in same] == ["a step", "epoch of two blocks", "network, memory"]
    assert all((each.ratio, each.verdict, each.is_worse) == (1.0, "", False) for each in same)


@pytest.mark.parametrize(
    ("ratio", "width", "verdict"),
    [
        (1 - DRIFT - 0.02, 0.01, "fell"),
        (1 + DRIFT + 0.02, 0.01, "rose"),
        (1 - DRIFT + 0.02, 0.01, ""),  # apart, but no further than the same code is on another day
        (1 + DRIFT - 0.02, 0.01, ""),
        (1 - DRIFT - 0.02, 0.5, ""),  # far, but the samples vary by as much
    ],
)
def test_a_figure_changed_where_ranges_do_not_touch_and_it_is_more_than_drift(
    ratio: float, width: float, verdict: str
) -> None:
    assert verdicts(measured(1.0, 0.01), measured(ratio, width))["a step"] == verdict


def test_epochs_and_memory_are_compared_too() -> None:
    worse = verdicts(measured(1.0, epoch=0.3, held=1.0), measured(1.0, epoch=0.2, held=1.2))
    assert worse == {"a step": "", "epoch of two blocks": "fell", "network, memory": "grew"}
    better = verdicts(measured(1.0, epoch=0.2, held=1.2), measured(1.0, epoch=0.3, held=1.0))
    assert better == {"a step": "", "epoch of two blocks": "rose", "network, memory": "shrank"}
    assert [each.is_worse for each in changes(measured(1.0, held=1.0), measured(1.0, held=1.2))] == [False, False, True]


def test_what_only_one_measured_is_left_out() -> None:
    other = replace(measured(1.0), figures=(), epochs=(), memory={})
    assert changes(measured(1.0), other) == changes(other, measured(1.0)) == ()


def test_what_was_kept_is_read_again_and_all_else_refused_before_anything_is_measured(tmp_path: Path) -> None:
    file = tmp_path / "figures.json"
    file.write_text(json.dumps(without_arrays(measured(0.5))), "utf-8")
    assert read_figures(file, 2) == measured(0.5)
    with pytest.raises(BadValue, match="2 threads, and 4"):
        read_figures(file, 4)
    for content in (b"", b"{}", b'{"threads": "two"}', b"\xff\xfe", b"[1, 2]"):
        file.write_bytes(content)
        with pytest.raises(BadFile, match="holds no figures"):
            read_figures(file, 2)
    with pytest.raises(BadFile, match="no such file"):
        read_figures(tmp_path / "none.json", 2)
    assert (
        "no such file"
        in last_object(command("measure", "--against", tmp_path / "no", "--json", code=1))["error"]["why"]
    )


def test_the_command_says_what_fell(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    def now(*_: object) -> object:
        return measured(0.5, epoch=0.4)
        yield

    monkeypatch.setattr(engine, "measure", now)
    file = tmp_path / "figures.json"
    file.write_text(json.dumps(without_arrays(measured(1.0))), "utf-8")
    said = command("measure", "--against", file)
    assert "Worse by more than it varies: a step." in said
    against = last_object(command("measure", "--against", file, "--json"))["against"]
    assert {each["what"]: each["verdict"] for each in against} == {
        "a step": "fell",
        "epoch of two blocks": "rose",
        "network, memory": "",
    }
    file.write_text(json.dumps(without_arrays(measured(0.5, epoch=0.4))), "utf-8")
    assert "Nothing fell by more than it varies." in command("measure", "--against", file)
    empty = replace(measured(1.0), figures=(), epochs=(), memory={})
    file.write_text(json.dumps(without_arrays(empty)), "utf-8")
    assert "Nothing was measured both times" in command("measure", "--against", file)
