"""What a run's answers rest on: asked of the station's run, whose figures must be those that explanations give."""

from __future__ import annotations

import json
from pathlib import Path

import numpy as np
import pytest
from tests.cli.running import command, last_object

import attentive_lens as al
from attentive_lens.core.jobs import finish
from attentive_lens.desk.images.data import gather
from attentive_lens.desk.images.outlines import known_outlines, take_outlines
from attentive_lens.desk.requests.explaining import Explain
from attentive_lens.desk.requests.inspecting import CHANGE_SETTINGS, TryChanges
from attentive_lens.desk.requests.models import Score
from attentive_lens.desk.requests.objects import MeasureObjects, ObjectsMeasured
from attentive_lens.desk.requests.subjects import RunImage
from attentive_lens.desk.tasks import carry_out
from attentive_lens.errors import NotHere
from attentive_lens.explaining.methods import QUICK
from attentive_lens.explaining.objects import share_inside
from attentive_lens.images.outlines import Outline, coverage
from attentive_lens.scoring.intervals import interval, interval_of_mean
from attentive_lens.workspace import Workspace
from attentive_lens.workspace.corrections import Correction


def measured(station: Workspace) -> ObjectsMeasured:
    return finish(carry_out(MeasureObjects(str(station.folder), 1)))


def test_every_answer_is_in_a_row_and_its_figures_are_those_of_its_explanation(station: Workspace) -> None:
    scores = finish(carry_out(Score(str(station.folder), 1, "validation")))
    result = measured(station)
    assert result.scored == result.outlined == len(scores.answers) == len(result.images)
    assert {each.image: each.predicted for each in result.images} == {
        each.image: scores.classes[each.predicted] for each in scores.answers
    }
    every = [row for row in result.rows if not row.name]
    assert sum(row.images for row in every) == len(result.images)
    for right in (True, False):
        by_class = [row for row in result.rows if row.name and row.right == right]
        (whole,) = [row for row in every if row.right == right]
        assert sum(row.images for row in by_class) == whole.images
        assert sum(row.on_rest for row in by_class) == whole.on_rest
        for name in (
            "area",
            "kept_without",
            "kept_alone",
            "pointing",
            "pointing_elsewhere",
            "probability",
            "probability_alone",
        ):
            parts = sum(getattr(row, name) * row.images for row in by_class)
            assert parts == pytest.approx(getattr(whole, name) * whole.images)
        assert whole.low <= whole.share <= whole.high
        assert (whole.pointing_low, whole.pointing_high) == interval(whole.pointing, whole.images)
        assert 0 < whole.untrained < 1
        assert 0 < whole.elsewhere < 1
    data = finish(gather(station, station.run(1).plan(), station.run(1)))
    outlines, covering = known_outlines(station), tuple(CHANGE_SETTINGS[k]() for k in ("cover_object", "cover_rest"))
    for each in result.images[:3]:
        subject = RunImage(str(station.folder), 1, each.image)
        explanation = finish(carry_out(Explain(subject, QUICK)))
        assert explanation.maps[0].trust.inside == pytest.approx(each.share)
        covered = coverage(outlines[each.image], 64, 64, data_settings(station))
        assert np.array_equal(explanation.covered, covered)
        assert each.area == pytest.approx(covered.mean())
        tried = finish(carry_out(TryChanges(subject, covering, smallest=False)))
        assert [after.predicted for after in tried.after] == [each.without, each.alone]
    first = result.images[0]
    map_ = finish(carry_out(Explain(RunImage(str(station.folder), 1, first.image), QUICK))).maps[0].values
    others = [coverage(outlines[each.image], 64, 64, data_settings(station)) for each in result.images[1:]]
    elsewhere = np.mean([share_inside(map_, covered) for covered in others])
    assert first.elsewhere == pytest.approx(elsewhere, rel=1e-4), "in the other images' objects, not in its own"
    assert len(data.labels) == 90
    order = [each.on_rest for each in result.images]
    assert order == sorted(order, reverse=True)


def data_settings(station: Workspace) -> object:
    return station.run(1).plan().preprocessing


def test_it_is_measured_anew_when_an_outline_changes_and_only_then(station: Workspace) -> None:
    result = measured(station)
    (file,) = station.run(1).folder.glob("objects-validation*")
    made = file.stat().st_mtime_ns
    assert measured(station) == result
    assert file.stat().st_mtime_ns == made
    image = result.images[0].image
    station.catalogue.correct({image: Correction(outline=Outline.of_box(0, 0, 5, 5))})
    again = measured(station)
    assert file.stat().st_mtime_ns != made
    (own,) = [each for each in again.images if each.image == image]
    assert own.area == pytest.approx(25 / 64**2)


def test_only_images_with_outlines_are_looked_at_and_none_is_a_sentence(station: Workspace, tmp_path: Path) -> None:
    chosen = [each.image for each in measured(station).images[:4]]
    known = known_outlines(station)
    few = tmp_path / "few.json"
    few.write_text(json.dumps({str(image): known[image].write() for image in chosen}))
    finish(take_outlines(station, few, alone=True))
    result = measured(station)
    assert sorted(each.image for each in result.images) == sorted(chosen)
    assert f"An outline is known of 4 of the {result.scored} images." in list(result.sentences())
    station.catalogue.outlines.forget()
    with pytest.raises(NotHere, match="no validation image has an outline"):
        measured(station)


def test_the_command_prints_rows_and_the_list_and_explain_tells_what_lies_inside(
    station: Workspace, tmp_path: Path
) -> None:
    text = command("objects", station.folder, 1)
    assert "right answers rest on what is not the object" in text
    assert "all, right (" in text
    made = last_object(command("objects", station.folder, 1, "--on", "validation", "--json"))
    assert made["outlined"] == made["scored"]
    assert {row["name"] for row in made["rows"]} >= {""}
    image = made["images"][0]["image"]
    words = ("explain", station.folder, 1, image, "--method", QUICK.kind, "--out", tmp_path / "maps", "--json")
    explained = last_object(command(*words))
    assert explained["maps"][0]["trust"]["inside"] == pytest.approx(made["images"][0]["share"])
    tried = last_object(command("try", station.folder, 1, image, "--change", "cover_rest", "--json"))
    assert tried["after"][0]["predicted"] == made["images"][0]["alone"]
    station.catalogue.correct({image: Correction(outline=Outline())})
    failed = last_object(command("try", station.folder, 1, image, "--change", "cover_object", "--json", code=1))
    assert failed["error"]["why"] == "the image has no outline"


def test_the_interval_of_a_mean_is_students_and_counts_what_belongs_together_once() -> None:
    values = np.array([0.2, 0.4, 0.6, 0.8])
    low, high = interval_of_mean(values, np.arange(4))
    half = 3.1824 * values.std(ddof=1) / 2
    assert (low, high) == (pytest.approx(0.5 - half, abs=2e-3), pytest.approx(0.5 + half, abs=2e-3))
    twice = interval_of_mean(np.repeat(values, 5), np.repeat(np.arange(4), 5))
    assert twice == (pytest.approx(low), pytest.approx(high)), "five copies of each tell no more"
    assert interval_of_mean(np.repeat(values, 5), np.arange(20))[0] > low
    assert interval_of_mean(values, np.zeros(4, np.int64)) == (-np.inf, np.inf)


def test_a_script_takes_outlines_and_asks_what_answers_rest_on(station: Workspace) -> None:
    place = al.open_workspace(station.folder)
    known = place.take_outlines(station.folder / "outlines.json", alone=True)
    assert (known.images, known.taken, known.skipped) == (90, 90, ())
    assert place.run(1).objects() == measured(station)
