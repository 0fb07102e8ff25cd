"""What to do next: changes often worth a try, their trials, and forecasts held against what came."""

from __future__ import annotations

import json
import os
from dataclasses import replace

import pytest
from tests.desk.foretelling import made

from attentive_lens.core.jobs import Job, Stopped, finish, on_breath
from attentive_lens.desk.remedies.changes import CHANGES
from attentive_lens.desk.remedies.forecasts import (
    FILE,
    USED,
    Outcome,
    Tried,
    calibration,
    digest_of,
    keep_forecasts,
    kept_forecasts,
    note_use,
)
from attentive_lens.desk.remedies.joining import joined
from attentive_lens.desk.remedies.listing import LEAST, next_steps, seconds_of, tried_first
from attentive_lens.desk.remedies.trials import WHOLE, part_of, trial_of, tried
from attentive_lens.desk.requests.causes import Cause, Remedy
from attentive_lens.desk.requests.remedies import NextSteps, WhatNext, points
from attentive_lens.desk.tasks import carry_out, remedies
from attentive_lens.desk.training.executing import execute
from attentive_lens.desk.training.runs import RunReader
from attentive_lens.errors import BadValue
from attentive_lens.plan.plan import Plan
from attentive_lens.plan.shortening import shortened
from attentive_lens.workspace import Workspace

SIDE = 200


def _stop() -> None:
    raise Stopped


def steps_of(station: Workspace, run: int = 1, *causes: Cause) -> NextSteps:
    return next_steps(station, station.run(run), causes)


def test_a_trial_is_kept_goes_on_where_it_was_stopped_and_says_why_it_failed(station: Workspace) -> None:
    run = station.run(1)
    plan, bad = shortened(run.plan(), 1.0), run.plan().changed({"optimiser.learning_rate": 10.0, "optimiser": "sgd"})
    job = tried(station, run, [plan], ["as it is"])
    while len(list(run.folder.glob("trials/0001/checkpoints/*"))) < 2:
        next(job)
    on_breath(_stop)  # as the worker does it, from inside a step
    try:
        with pytest.raises(Stopped):
            list(job)
    finally:
        on_breath(None)
    assert trial_of(run, plan) is None
    assert RunReader(replace(run, folder=run.folder / "trials" / "0001")).view().state == "stopped"
    finish(tried(station, run, [plan, bad], ["as it is", "bad"]))
    assert '"resume"' in (run.folder / "trials" / "0001" / "journal.jsonl").read_text(), "it went on"
    whole, failed = trial_of(run, plan), trial_of(run, bad)
    assert whole is not None
    assert whole.figures is not None
    best = RunReader(run).view().best
    assert best is not None
    assert whole.figures == best.validation, "the same seed, images and steps as the run itself, though interrupted"
    assert failed is not None
    assert failed.figures is None
    assert "ran away" in failed.error
    assert not list(run.folder.glob("trials/*/checkpoints/*"))
    assert list(tried(station, run, [plan, bad], ["", ""])) == [], "nothing is trained twice"
    assert [each.number for each in station.runs()] == [1]


def test_the_list_has_trouble_causes_and_changes_each_once(station: Workspace) -> None:
    plan = station.run(1).plan()
    decayed = CHANGES["weight decay"].make(plan, 64)
    assert decayed is not None
    of_cause = Remedy("augment", "Show it in training", "It helps", 0.5, decayed.write())
    cause = Cause("quality", "are blurred", (1, 2, 3), {"smooth": 3}, "They are blurred", "Blur", {}, None, None, 0.4,
                  (of_cause, Remedy("collect", "Collect", "Not tried")))  # fmt: skip
    result = steps_of(station, 1, cause)
    assert (result.run, result.state, result.measure) == (1, "done", "accuracy")
    sources = {step.kind: step.source for step in result.steps}
    assert sources["quality"] == "causes"
    assert "weight decay" not in sources, "the same plan stands on the list once"
    assert {"longer", "residual"} <= {step.kind for step in result.steps if step.source == "settings"}
    (of_it,) = [step for step in result.steps if step.kind == "quality"]
    assert (of_it.change, of_it.evidence) == ("weight decay", "3 mistakes are blurred")
    assert all(step.can_be_tried for step in result.steps if step.plan is not None and not step.problem)
    noise = [step for step in result.steps if step.kind == "validation noise"]
    assert noise
    assert "which images judge" in noise[0].problem
    assert result.seconds > 0


def test_the_price_of_trials_is_of_those_that_are_made_and_of_what_they_come_to_together(station: Workspace) -> None:
    run = station.run(1)
    view, plan, steps = RunReader(run).view(), run.plan(), steps_of(station).steps
    by_kind = {step.kind: step for step in steps if step.can_be_tried}
    longer, deeper = by_kind["longer"], by_kind["residual"]
    one = seconds_of(plan, run, [longer], view)
    both = seconds_of(plan, run, [longer, deeper], view)
    deep = seconds_of(plan, run, [deeper], view)
    control = 2 * one - seconds_of(plan, run, [longer, longer], view)
    assert 0 < control < one < both
    assert both > one + deep - control, "they are tried at once, too"
    many = [step for step in steps if step.can_be_tried]
    assert [step.kind for step in tried_first(many, 6)] == [step.kind for step in many[:5]]
    assert list(tried_first(many, 2)) == many[:2]


def test_forecasts_order_the_list_and_join_what_helps(station: Workspace) -> None:
    run = station.run(1)
    by_kind = {step.kind: step for step in steps_of(station).steps if step.plan is not None}
    gains = {"weight decay": 0.03, "longer": 0.02, "label smoothing": -0.01, "averaged weights": LEAST / 2}
    keep_forecasts(run, {digest_of(Plan.read(by_kind[k].plan or {})): made(k, gain) for k, gain in gains.items()})
    result = steps_of(station)
    kinds = [step.kind for step in result.steps]
    assert kinds[:4] == ["together", "weight decay", "longer", "averaged weights"]
    assert kinds.index("residual") < kinds.index("label smoothing"), "not tried before not expected to help"
    joint = Plan.read(result.steps[0].plan or {})
    assert joint == joined(run.plan(), [Plan.read(by_kind[k].plan or {}) for k in ("weight decay", "longer")])[0]
    assert all(step.tried == (step.kind in gains) for step in result.steps)
    assert by_kind["longer"].change == "longer"
    words = [each for each in result.words() if isinstance(each, str)]
    assert any("--try 6 trains 6 of them" in each for each in words)
    keep_forecasts(run, {digest_of(joint): made("together", -0.01)})
    joint_step = next(step for step in steps_of(station).steps if step.kind == "together")
    assert joint_step.tried, "its own trial counts more than the sum of its parts"
    assert not joint_step.forecast.helps if joint_step.forecast else False


def test_what_undoes_a_run_stands_before_what_helped_another(station: Workspace) -> None:
    by_kind = {step.kind: step for step in steps_of(station).steps}
    keep_forecasts(station.run(1), {digest_of(Plan.read(by_kind["longer"].plan or {})): made("longer", 0.3)})
    slow = station.run(1).plan().changed({"optimiser.learning_rate": 1e-7, "training.epochs": 3})
    finish(execute(station, station.claim_run(slow), lambda: False))
    result = steps_of(station, 2)
    assert result.steps[0].kind == "rate too low"
    assert all(step.forecast is None for step in result.steps), "run 1 was sound"
    assert "together" not in {step.kind for step in result.steps}


def test_the_first_forecast_of_a_plan_stays_and_damaged_notes_are_none(station: Workspace) -> None:
    run = station.run(1)
    keep_forecasts(run, {"a": made("longer", 0.01)})
    keep_forecasts(run, {"a": made("longer", 0.09), "b": made("residual", 0.02)})
    assert kept_forecasts(run) == {"a": made("longer", 0.01), "b": made("residual", 0.02)}
    for words in ("{", '{"a": 3}', '{"a": {"gain": 1}}', "[]"):
        (run.folder / FILE).write_text(words)
        assert kept_forecasts(run) == {}


def test_what_was_trained_says_what_it_gained_and_forecasts_are_held_against_it(station: Workspace) -> None:
    run, plan = station.run(1), station.run(1).plan()
    longer = CHANGES["longer"].make(plan, 64)
    assert longer is not None
    keep_forecasts(run, {digest_of(longer): made("longer", 0.9)})
    assert steps_of(station).calibration == ""
    finish(execute(station, station.claim_run(replace(longer, seed=99, name="other")), lambda: False))
    before, after = (RunReader(station.run(k)).view().best for k in (1, 2))
    assert before is not None
    assert after is not None
    assert before.validation is not None
    assert after.validation is not None
    gain = after.validation.accuracy - before.validation.accuracy
    result = steps_of(station)
    (step,) = [step for step in result.steps if step.change == "longer"]
    assert (step.run, step.gain) == (2, pytest.approx(gain))
    assert step.effect == f"Tried in run 2: {points(gain)} points of accuracy on the validation images."
    assert not step.can_be_tried
    (outcome,) = Tried(station).outcomes()
    assert (outcome.run, outcome.within) == (2, False)
    assert result.calibration == calibration((outcome,))
    assert "1 forecast was put to the test here: 0 came to lie within" in result.calibration
    assert "points less than expected" in result.calibration
    assert Outcome(made("longer", gain), 2, gain).within
    journal = station.run(2).journal
    whole = journal.read_text()
    journal.write_text(whole + '{"event": "rate", "epoch": 1, "step": 1, "learning_rate": 0.5}\n')
    assert not Tried(station).outcomes(), "with another learning rate it was another training"
    journal.write_text(whole)
    finish(execute(station, station.claim_run(replace(longer, name="same seed")), lambda: False))
    finish(execute(station, station.claim_run(replace(longer, seed=98)), lambda: False))
    (same,) = [step for step in steps_of(station).steps if step.change == "longer"]
    assert same.run == 3, "the one with the run's own seed, though a later one is there"
    second = steps_of(station, 2)
    again = next(step for step in second.steps if step.change == "longer")
    assert again.forecast is not None
    assert (again.forecast.run, again.tried) == (1, False), "as it was tried for run 1"
    deeper = CHANGES["residual"].make(station.run(1).plan(), SIDE)
    assert deeper is not None
    keep_forecasts(station.run(1), {digest_of(deeper): made("residual", 0.05)})
    (same,) = [step for step in steps_of(station, 2).steps if step.change == "residual"]
    assert same.forecast is not None
    finish(execute(station, station.claim_run(deeper.changed({"network": "normalised blocks"})), lambda: False))
    (another,) = [step for step in steps_of(station, 5).steps if step.change == "residual"]
    assert another.forecast is None, "tried from another network"


def test_what_is_used_without_a_trial_is_noted_and_held_against_what_comes(station: Workspace) -> None:
    run = station.run(1)
    by_kind = {step.kind: step for step in steps_of(station).steps}
    step = replace(by_kind["longer"], forecast=made("longer", 0.0))
    note_use(station, 1, by_kind["residual"])
    assert not (run.folder / USED).exists(), "nothing was expected of it"
    note_use(station, 1, step)
    assert list(kept_forecasts(run, USED).values()) == [made("longer", 0.0)]
    assert kept_forecasts(run) == {}
    assert not any(each.tried for each in steps_of(station).steps)
    plan = Plan.read(step.plan or {})
    finish(execute(station, station.claim_run(plan), lambda: False))
    (outcome,) = Tried(station).outcomes()
    assert outcome.run == 2


def test_remedies_are_tried_forecast_and_told_one_after_the_other(station: Workspace) -> None:
    request = WhatNext(str(station.folder), 1, 2)
    wanted = [step.kind for step in steps_of(station).steps if step.can_be_tried][:2]
    job, seen = carry_out(request), list[NextSteps]()
    while True:
        try:
            progress = next(job)
        except StopIteration as end:
            result = end.value
            break
        if isinstance(progress.so_far, NextSteps):
            seen.append(progress.so_far)
    tested = {step.kind for step in result.steps if step.tried}
    assert tested == set(wanted)
    assert [each.under_way for each in seen] == [2, 1, 0]
    assert result.under_way == 0
    for step in result.steps:
        if step.tried and step.forecast is not None:
            run = station.run(1)
            control = trial_of(run, shortened(run.plan(), 1.0))
            assert control is not None
            assert control.figures is not None
            assert step.forecast.control == getattr(control.figures, step.forecast.measure)
    table = json.loads((station.run(1).folder / FILE).read_text())
    assert len(table) == 2
    assert result.plain is not None
    assert f"A classifier on plain features has {result.plain:.1%} of the same images right" in result.comparison
    assert ("has not learned" in result.comparison) == (result.plain > (result.accuracy or 0))
    assert result.comparison in list(result.words())
    third = finish(carry_out(WhatNext(str(station.folder), 1)))
    assert third == result, "what was tried is kept"


@pytest.mark.parametrize("gain", [0.03, -0.03])
def test_the_last_trial_is_of_what_should_help_all_together(
    station: Workspace, monkeypatch: pytest.MonkeyPatch, gain: float
) -> None:
    monkeypatch.setattr(remedies, "forecast", lambda kind, *_: made(kind, gain))
    done = [0]

    def watched(job: Job[NextSteps]) -> NextSteps:
        while True:
            try:
                progress = next(job)
            except StopIteration as end:
                return end.value  # type: ignore[no-any-return]
            if "trying" in progress.doing:
                assert progress.total == 5 * WHOLE
                assert done[-1] <= progress.done <= progress.total
                done.append(progress.done)

    result = watched(carry_out(WhatNext(str(station.folder), 1, 4)))
    tested = [step for step in result.steps if step.tried]
    assert len(tested) == 4
    assert sum(step.kind == "together" for step in tested) == (gain > 0)
    assert result.under_way == 0
    assert done[-1] > 4 * WHOLE, "the last of five trainings, that of the plan as it is counted"
    if gain > 0:
        (joint,) = [step for step in tested if step.kind == "together"]
        assert joint.forecast is not None
        assert joint.forecast.kind == "together"


def test_a_plan_that_fails_in_its_own_trial_is_told_and_nothing_is_forecast(station: Workspace) -> None:
    run = station.run(1)
    control = shortened(run.plan(), part_of(run.plan()))
    (run.folder / "trials" / "0001").mkdir(parents=True)
    trial = replace(run, folder=run.folder / "trials" / "0001")
    trial.write_plan(control)
    trial.journal.write_text('{"event": "end", "state": "failed", "epochs": 0, "error": "Values ran away."}\n')
    with pytest.raises(BadValue, match="Values ran away") as caught:
        finish(carry_out(WhatNext(str(station.folder), 1, 2)))
    assert "Nothing can be forecast for run 1" in str(caught.value)
    assert not (run.folder / FILE).exists()
    assert not (run.folder / "trials" / "0002").exists(), "no more is trained for nothing"


def test_nothing_is_tried_where_nothing_could_be_told(station: Workspace) -> None:
    alone = station.claim_run(station.run(1).plan().changed({"split.validation_fraction": 0.0}))
    finish(execute(station, alone, lambda: False))
    with pytest.raises(BadValue, match="no validation images"):
        finish(carry_out(WhatNext(str(station.folder), 2, 3)))
    held = station.run(1).hold()
    try:
        with pytest.raises(BadValue, match="it is training"):
            finish(carry_out(WhatNext(str(station.folder), 1, 4)))
        assert not [s for s in steps_of(station).steps if s.source == "settings"], (
            "while it trains only trouble is told"
        )
    finally:
        os.close(held)
