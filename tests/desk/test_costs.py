"""Costs from tables, and what they make of the station's run: by the command, and in the window's view."""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path

import numpy as np
import pytest
from tests.cli.running import command, last_object

from attentive_lens.core.jobs import finish
from attentive_lens.desk.requests.costs import CostsWeighed, WeighCosts
from attentive_lens.desk.requests.models import Score
from attentive_lens.desk.results.cost_tables import read_costs
from attentive_lens.desk.tasks import carry_out
from attentive_lens.errors import BadFile
from attentive_lens.scoring.costs import WITHHELD, at_temperature
from attentive_lens.workspace import Workspace

CLASSES = ("Netted grain", "spiny", "winged")


def table(folder: Path, text: str) -> Path:
    file = folder / "costs.csv"
    file.write_text(text)
    return file


def test_costs_are_read_from_a_matrix_and_from_a_list(tmp_path: Path) -> None:
    plain = 1 - np.eye(3)
    matrix = read_costs(table(tmp_path, "true;netted grain;spiny;winged\nspiny;4;0;2,5\nNetted grain;;7;\n"), CLASSES)
    assert matrix.decisions == CLASSES
    expected = plain.copy()
    expected[1] = (4, 0, 2.5)
    expected[0, 1] = 7
    assert np.array_equal(matrix.costs, expected)
    listed = read_costs(table(tmp_path, "Said,True,Cost,note\nspiny,Netted grain,7,bad\nwinged,winged,-2,\n"), CLASSES)
    expected = plain.copy()
    expected[0, 1], expected[2, 2] = 7, -2
    assert np.array_equal(listed.costs, expected)
    held = read_costs(table(tmp_path, "true,withheld\nspiny,0.2\nwinged,0.3\nnetted-grain,0.4\n"), CLASSES)
    assert held.decisions == (*CLASSES, WITHHELD)
    assert held.costs[:, -1].tolist() == [0.4, 0.2, 0.3]
    assert np.array_equal(held.costs[:, :-1], plain)


@pytest.mark.parametrize(
    ("text", "why"),
    [
        ("true,spiny\nsmooth,1\n", "smooth"),
        ("true,smooth\nspiny,1\n", "smooth"),
        ("true,spiny\nwinged,much\n", "«much» in line 2 is no number"),
        ("true,spiny\nwinged,inf\n", "is no number"),
        ("true,said,cost\nspiny,winged,1\nspiny,winged,2\n", "line 3 names spiny and winged again"),
        ("true,said,cost\nwithheld,winged,1\n", "line 2: «withheld» is no class"),
        ("true,withheld\nspiny,1\n", "none for Netted grain"),
        ("true,said,cost\nspiny,winged,\n", "it names no cost"),
        ("true,spiny\n", "it has 1 lines"),
        (",\n1,\n", "names no cost|it has"),
    ],
)
def test_what_is_no_table_of_costs_is_a_sentence(tmp_path: Path, text: str, why: str) -> None:
    with pytest.raises(BadFile, match=why):
        read_costs(table(tmp_path, text), CLASSES)
    for names in (("spiny", "Spiny"), ("spiny", WITHHELD)):
        with pytest.raises(BadFile, match="called alike"):
            read_costs(table(tmp_path, "true,spiny\nspiny,1\n"), names)


def weighed(station: Workspace, file: Path, on: str = "validation") -> CostsWeighed:
    return finish(carry_out(WeighCosts(str(station.folder), 1, str(file), on)))


def test_what_is_weighed_is_what_the_answers_say(station: Workspace, tmp_path: Path) -> None:
    scores = finish(carry_out(Score(str(station.folder), 1, "validation")))
    rows = "\n".join(f"{name},0.4" for name in scores.classes)
    file = table(tmp_path, f"true,withheld\n{rows}\n")
    result = weighed(station, file)
    assert result.said.value == pytest.approx(1 - scores.accuracy), "every mistake costs 1"
    assert result.said.value - result.least.value == pytest.approx(result.saved.value)
    assert result.temperature == scores.temperature
    sure = at_temperature(scores.probabilities, scores.temperature or 1.0).max(axis=1) >= 0.6
    held = (result.decided == len(scores.classes)).sum()
    assert held == (~sure).sum(), "withheld where the chance of a mistake is above its cost"
    assert result.least.value == pytest.approx(
        (0.4 * held + ((scores.predicted != scores.true) & sure).sum()) / scores.images
    )
    assert (result.constant, result.constant_cost) == (WITHHELD, pytest.approx(0.4))
    assert result.matrix().sum() == scores.images
    assert result.matrix()[-1].sum() == 0
    last = len(result.decisions) - 1
    assert len(result.images_in((0, last), (last, last))) == held
    assert sorted(result.images_in((0, last), (0, last))) == sorted(scores.numbers.tolist())
    assert sum(len(change.images) for change in result.changes()) == len(result.otherwise)
    assert sum(change.saved for change in result.changes()) == pytest.approx(result.saved.value * scores.images)
    assert not any("No temperature" in words for words in result.sentences())
    assert any("No temperature" in words for words in replace(result, temperature=None).sentences())
    test = weighed(station, file, "test")
    assert test.temperature == scores.temperature, "fitted on the validation set, not on what is judged"


def test_even_costs_change_nothing(station: Workspace, tmp_path: Path) -> None:
    result = weighed(station, table(tmp_path, "true,said,cost\nspiny,netted,1\n"))
    assert result.otherwise == ()
    assert (result.saved.value, result.saved.low, result.saved.high) == (0, 0, 0)
    assert not any("chance" in words for words in result.sentences())


def test_the_command_prints_costs_and_refuses_a_table_of_other_classes(station: Workspace, tmp_path: Path) -> None:
    names = station.catalogue.classes()
    rows = "\n".join(f"{name},0.1" for name in names)
    text = command("costs", station.folder, 1, table(tmp_path, f"true,withheld\n{rows}\n"))
    assert "decisions of least expected cost" in text
    assert "decided withheld" in text
    made = last_object(command("costs", station.folder, 1, tmp_path / "costs.csv", "--on", "test", "--json"))
    assert made["decisions"] == [*names, WITHHELD]
    assert made["least"]["value"] <= 0.1 + 1e-9
    failed = last_object(command("costs", station.folder, 1, table(tmp_path, "true,oak\nspiny,1\n"), "--json", code=1))
    assert "oak" in failed["error"]["why"]
