"""Several labels by command: every question about one of them, and what is told of all."""

from __future__ import annotations

import contextlib
import io
from pathlib import Path

import pytest
from tests.cli.questions import QUESTIONS
from tests.cli.running import TINY, command, last_object, run_words

from attentive_lens.desk.images.collection import collection
from attentive_lens.plan.plan import Plan
from attentive_lens.workspace import Workspace

WHOLE = ("advise", "drift", "export", "manifest", "numbers", "repeat", "runs", "similarity")
"""Questions that no label needs to be named for."""
NOT_OF_LABELS = ("calibrate", "export", "manifest", "objects")
"""Questions that a label has no answer to here: it has no softmax, no file and no outlines of its own."""


@pytest.mark.parametrize("name", QUESTIONS)
def test_every_question_is_answered_about_a_label(name: str, fields: Workspace, tmp_path: Path) -> None:
    words = [str(word).replace("OUT", str(tmp_path / "out")) for word in QUESTIONS[name]]
    if name in NOT_OF_LABELS:
        return
    command(name, fields.folder, "1:smooth", *words)


@pytest.mark.parametrize("name", QUESTIONS)
def test_without_a_label_it_is_answered_or_said_that_one_is_needed(
    name: str, fields: Workspace, tmp_path: Path, capsys: pytest.CaptureFixture[str]
) -> None:
    del capsys
    words = [str(word).replace("OUT", str(tmp_path / "out")) for word in QUESTIONS[name]]
    if name in (*WHOLE, "score"):
        command(name, fields.folder, 1, *words)
        return
    assert run_words(name, fields.folder, 1, *words) in (1, 2)


def test_the_demo_of_fields_is_made_trained_and_scored(tmp_path: Path) -> None:
    folder = tmp_path / "fields"
    said = command("demo", folder, "--collection", "fields", "--images", 80, "--no-window")
    assert "80 images of" in said and "sets of types" in said
    trained = last_object(command("train", folder, *TINY, "--json"))
    assert trained["state"] == "done" and trained["validation"]["mean_average_precision"] > 0
    said = command("score", folder, 1)
    assert "6 labels" in said and "with no label ever said" in said and "Thresholds were chosen" in said
    scores = last_object(command("score", folder, 1, "--json", "--on", "test"))
    assert [each["name"] for each in scores["by_label"]] == scores["labels"]
    command("score", folder, 1, "--out", tmp_path / "out")
    lines = (tmp_path / "out" / "answers.csv").read_text().splitlines()
    assert lines[0].startswith("image,file,true,predicted,furrowed,netted")
    one = last_object(command("score", folder, "1:netted", "--json"))
    assert one["classes"] == ["not netted", "netted"] and one["run"] == "1:netted"
    compared = command("compare", folder, "1:netted", "1:spiny")
    assert "run 1:netted" in compared
    command("demo", tmp_path / "x", "--collection", "plates", "--no-window", code=2)


def test_a_run_that_takes_sets_for_classes_is_told(fields: Workspace) -> None:
    for words, is_told in ((("--set", "task=classify"), True), ((), False)):
        said = io.StringIO()
        with contextlib.redirect_stderr(said), contextlib.redirect_stdout(said):
            assert run_words("train", fields.folder, *TINY, *words) == 0
            assert run_words("score", fields.folder, fields.runs()[-1].number) == 0
        assert " ".join(said.getvalue().split()).count("every set of them is a class") == 2 * is_told


def test_thresholds_are_listed_and_chosen(fields: Workspace) -> None:
    assert "by F1" in command("thresholds", fields.folder, 1)
    said = command("thresholds", fields.folder, 1, "--by", "precision", "--precision", "0.8", "--label", "smooth")
    lines = [line for line in said.splitlines() if "precision 0.8" in line]
    assert len(lines) == 1 and lines[0].startswith("smooth")
    result = last_object(command("thresholds", fields.folder, 1, "--by", "cost", "--missed", 4, "--json"))
    assert result["by"].startswith("cost") and len(result["labels"]) == 6
    command("thresholds", fields.folder, 1, "--by", "luck", code=2)
    command("thresholds", fields.folder, 1, "--label", "plain", code=2)


def test_files_are_answered_with_all_labels_said(fields: Workspace, tmp_path: Path) -> None:
    model, views = fields.run(1).model, sorted((fields.folder / "fields").glob("*.png"))[:5]
    answer = last_object(command("predict", model, views[0], "--json"))
    assert answer["predicted"] == ("; ".join(answer["labels"]) or "no label")
    assert 0 <= answer["probability"] <= 1 and len(answer["probabilities"]) == 6
    written = last_object(command("predict", model, *views, "--out", tmp_path / "a.csv", "--json"))
    assert sum(written["predicted"].values()) >= 0 and set(written["predicted"]) == set(answer["probabilities"])
    command("explain", "--model", model, views[0], "--out", tmp_path / "maps", code=2)
    said = command("explain", "--model", model, views[0], "--for", "winged", "--out", tmp_path / "maps")
    assert "winged" in said
    assert "winged" in command("try", "--model", model, views[0], "--for", "winged")
    command("explain", "--model", model, views[0], "--for", "plain", "--out", tmp_path / "maps", code=2)


def test_a_run_that_has_no_such_label_says_so(fields: Workspace, station: Workspace) -> None:
    command("score", fields.folder, "1:plain", code=1)
    command("score", station.folder, "1:spiny", code=1)
    command("score", fields.folder, "x:spiny", code=2)
    command("explain", fields.folder, "one", 3, code=2)


def test_labels_are_renamed_and_merged_by_command(fields: Workspace) -> None:
    def kinds() -> set[str]:
        return set(collection(fields, Plan()).kinds)

    command("label", fields.folder, "--rename", "netted=reticulate")
    assert "reticulate" in kinds() and "netted" not in kinds()
    said = command("label", fields.folder, "--merge", "reticulate=smooth")
    assert "images relabelled" in said and "reticulate" not in kinds()
    command("label", fields.folder, "--rename", "plain=other", code=2)
    for bad in ("smooth=a; b", "smooth=no label"):
        command("label", fields.folder, "--rename", bad, code=1)
    assert "smooth" in kinds()
