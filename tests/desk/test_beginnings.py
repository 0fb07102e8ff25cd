"""Ways to begin are compared at one cost, on images no model saw, and nothing of it stays behind."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import replace
from itertools import islice

import numpy as np
import pytest
from tests.answering import answer
from tests.cli.running import command, last_object

from attentive_lens.core.jobs import Job, Progress, finish
from attentive_lens.desk.images.collection import collection
from attentive_lens.desk.network import beginnings
from attentive_lens.desk.network.bases import learned_from, with_base
from attentive_lens.desk.network.beginnings import (
    FEWEST,
    FOLDS,
    FROZEN,
    LEARNING,
    NEW,
    RATES,
    WAYS,
    Trained,
    compared,
    extent_of,
    folded,
    short,
    way,
)
from attentive_lens.desk.requests.bases import DOES_NOT, HELPS, UNKNOWN, BaseProbe, ProbeBase
from attentive_lens.desk.requests.shelf import PutOnShelf
from attentive_lens.desk.tasks.probing import judged
from attentive_lens.errors import BadValue
from attentive_lens.plan.augmentation import Flip
from attentive_lens.plan.base import Base
from attentive_lens.plan.plan import Plan
from attentive_lens.workspace import Run, Workspace


@pytest.fixture
def plan(station: Workspace) -> Plan:
    usual = replace(Plan(seed=4), augmentation=(Flip(),)).changed({"training.epochs": 40, "training.batch_size": 16})
    return with_base(station, usual, Base(1, take_preprocessing=True))


def test_each_way_begins_as_it_says_and_keeps_the_rest(plan: Plan) -> None:
    assert way(plan, NEW).base is None
    frozen, learning = way(plan, FROZEN), way(plan, LEARNING)
    assert frozen.base is not None
    assert frozen.base.frozen
    assert frozen.training.augmentation_variants > 0, "what is frozen is computed once"
    assert learning.base is not None
    assert not learning.base.frozen
    assert learning.base.lr_decay < 1, "a smaller rate below"
    tuned = replace(plan, base=learning.base.with_(lr_decay=0.3, head_warmup_epochs=2))
    assert way(tuned, LEARNING) == tuned, "what the plan says of learning on is what is tried"
    assert way(tuned, FROZEN).base == frozen.base
    for word in WAYS:
        assert way(plan, word).network == plan.network
        assert way(plan, word).optimiser == plan.optimiser
    plain = replace(plan, augmentation=())
    assert way(plain, FROZEN) == plain


def test_short_trainings_cost_the_same_and_half_as_much(
    station: Workspace, plan: Plan, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(beginnings, "MOST", 1)
    monkeypatch.setattr(beginnings, "PASSES", 480)
    extent = extent_of(station, plan, frozenset())
    assert extent.folds == FOLDS, "there are too few images to leave one out"
    count = collection(station, folded(plan, 1)).count("training")
    assert (extent.images, extent.passes) == (count, count * round(480 / count))
    images = collection(station, plan).count("training")
    assert 2**extent.doublings * extent.passes == pytest.approx(40 * images), "it has more images, too"
    for word in (NEW, LEARNING):
        whole, half = (short(folded(way(plan, word), 1), extent, part) for part in (1, 0.5))
        assert whole.training.epochs * count == extent.passes
        assert half.training.epochs == round(whole.training.epochs / 2)
        assert whole.training.evaluate_every == whole.training.epochs, "the last epoch counts, not the best"
        assert whole.split.subset_fraction == half.split.subset_fraction == 1
    assert whole.training.epochs < short(folded(way(plan, FROZEN), 1), extent, 1).training.epochs <= 40

    sizes = {collection(station, folded(plan, fold)).count("training") for fold in range(1, FOLDS + 1)}
    assert len(sizes) > 1, "folds are not all of one size"
    assert [short(folded(plan, fold), extent, 1).split.subset_fraction for fold in range(1, FOLDS + 1)] == [1.0] * FOLDS

    monkeypatch.setattr(beginnings, "PASSES", 80)
    few = extent_of(station, plan, frozenset())
    assert few.images == 20
    whole, half = (short(folded(way(plan, NEW), 1), few, part) for part in (1, 0.5))
    assert whole.training.epochs == half.training.epochs == 4
    assert whole.split.subset_fraction == pytest.approx(20 / count)
    assert half.split.subset_fraction == pytest.approx(10 / count)
    monkeypatch.undo()
    most = extent_of(station, plan.changed({"training.epochs": 400}), frozenset())
    assert most.epochs == 200, "what is cheap is half as long as the plan's"
    monkeypatch.setattr(beginnings, "CHEAP", 1)
    usual = extent_of(station, plan.changed({"training.epochs": 400}), frozenset())
    assert usual.epochs == 100, "what is dear a quarter"
    monkeypatch.setattr(beginnings, "ENOUGH", 20)
    assert extent_of(station, plan, frozenset()).folds == 1


def fake(calls: list[tuple[str, int, int, float]]) -> beginnings.Answered:
    """Answers by the way: new weights know even numbers, the base all but multiples of five once it trains wholly."""

    def answered(place: Workspace, run: Run) -> Job[dict[int, bool]]:
        plan = run.plan()
        word = NEW if plan.base is None else FROZEN if plan.base.frozen else LEARNING
        rate = plan.optimiser.learning_rate
        calls.append((word, plan.split.validation_fold, plan.training.epochs, rate))
        yield Progress(1, 2, "training")
        images = collection(place, plan)
        held = [row.number for row, of in zip(images.rows, images.sets, strict=True) if of == "validation"]
        return {n: n % 2 == 0 and rate > 0.002 if word == NEW else n % 5 > 0 for n in held}

    return answered


def test_every_image_is_answered_by_models_that_never_saw_it(station: Workspace, plan: Plan) -> None:
    calls: list[tuple[str, int, int, float]] = []
    images = collection(station, plan)
    trained = (row.number for row, of in zip(images.rows, images.sets, strict=True) if of == "training")
    seen = frozenset(islice(trained, 3))
    extent = extent_of(station, plan, seen)
    job = compared(station, plan, extent, seen, fake(calls))
    steps = list(drained(job))
    result = steps.pop()
    assert isinstance(result, dict)
    parts = [step.done / step.total for step in steps if isinstance(step, Progress)]
    assert parts == sorted(parts)
    assert {call[:2] for call in calls} == {(word, fold) for word in WAYS for fold in range(1, FOLDS + 1)}
    assert len(calls) == 2 * FOLDS * len(WAYS) + len(RATES) - 1
    rates = [rate for word, _, _, rate in calls if word == NEW]
    assert sorted(rates[:3]) == pytest.approx([0.001 / 3, 0.001, 0.003])
    assert set(rates[3:]) == {0.003}, "new weights as good as they can be"
    assert {rate for word, _, _, rate in calls if word != NEW} == {0.001}
    numbers = [
        row.number
        for row, of in zip(images.rows, images.sets, strict=True)
        if of in ("training", "validation") and row.number not in seen
    ]
    assert len(result[NEW].ended) == len(numbers), "each once, but those the base learned from"
    assert result[NEW].ended == pytest.approx([float(n % 2 == 0) for n in numbers])
    assert result[LEARNING].halfway == pytest.approx([float(n % 5 > 0) for n in numbers])
    assert not list(station.cache.glob(f"{beginnings.FOLDER}*"))


def drained(job: Job[object]) -> Iterator[object]:
    while True:
        try:
            yield next(job)
        except StopIteration as end:
            yield end.value
            return


def test_a_rate_at_which_the_numbers_run_away_is_not_taken(station: Workspace, plan: Plan) -> None:
    def fails_above(most: float, calls: list[tuple[str, int, int, float]]) -> beginnings.Answered:
        answered = fake(calls)

        def guarded(place: Workspace, run: Run) -> Job[dict[int, bool]]:
            if run.plan().optimiser.learning_rate > most:
                raise BadValue("Training stopped", "the numbers ran away", "Train with a smaller rate")
            return (yield from answered(place, run))

        return guarded

    calls: list[tuple[str, int, int, float]] = []
    extent = extent_of(station, plan, frozenset())
    steps = list(drained(compared(station, plan, extent, frozenset(), fails_above(0.002, calls))))
    assert {rate for word, _, _, rate in calls[2:] if word == NEW} == {0.001}, "of equals the plan's own"
    parts = [step.done / step.total for step in steps if isinstance(step, Progress)]
    assert parts == sorted(parts)
    with pytest.raises(BadValue, match="the numbers ran away"):
        finish(compared(station, plan, extent, frozenset(), fails_above(0.0, [])))
    assert not list(station.cache.glob(f"{beginnings.FOLDER}*"))


def test_a_rate_stays_within_what_a_plan_may_have(plan: Plan) -> None:
    for rate in (1e-8, 10.0):
        for factor in RATES:
            tried = beginnings._at_rate(plan.changed({"optimiser.learning_rate": rate}), factor)
            assert 1e-8 <= tried.optimiser.learning_rate <= 10


def test_who_stops_leaves_nothing_behind(station: Workspace, plan: Plan) -> None:
    job = compared(station, plan, extent_of(station, plan, frozenset()), frozenset(), fake([]))
    next(job)
    assert list(station.cache.glob(f"{beginnings.FOLDER}*"))
    job.close()
    assert not list(station.cache.glob(f"{beginnings.FOLDER}*"))
    assert len(station.runs()) == 1


def test_images_the_base_was_trained_with_are_not_asked_about(station: Workspace) -> None:
    noted = station.run(1).images()
    assert noted is not None
    numbers = [row.number for row in station.catalogue.images()]
    trained = {number for number, of in zip(numbers, noted[1], strict=True) if of == "training"}
    own = learned_from(station, Base(1, "relu 1"))
    assert trained <= own, "copies of their pixels besides"
    assert len(own - trained) <= 6
    answer(PutOnShelf(str(station.folder), "1", "grains"))
    assert learned_from(station, Base(until="relu 1", model="shelf:grains")) == own
    assert learned_from(station, Base(until="relu 1", model=str(station.folder))) == own
    assert learned_from(station, Base(until="relu 1", model="shelf:motifs")) == frozenset()
    plan = with_base(station, Plan(), Base(1))
    with pytest.raises(BadValue, match=rf"are ones the base learned from, and {FEWEST} others are needed"):
        answer(ProbeBase(str(station.folder), plan.write()))


def made(ended: float, halfway: float, images: int = 200) -> Trained:
    return Trained(np.full(images, halfway), np.full(images, ended), 1.0)


def test_the_verdict_follows_the_intervals(station: Workspace, plan: Plan) -> None:
    extent = replace(extent_of(station, plan, frozenset()), doublings=1.0)
    new = made(0.6, 0.6)
    cases = (
        (made(0.9, 0.9), made(0.5, 0.5), HELPS, FROZEN),
        (made(0.5, 0.5), made(0.9, 0.9), HELPS, LEARNING),
        (made(0.5, 0.5), made(0.4, 0.4), DOES_NOT, FROZEN),
        (made(0.58, 0.58), made(0.57, 0.57), DOES_NOT, FROZEN),
        (made(0.64, 0.64), made(0.4, 0.4), UNKNOWN, FROZEN),
        (made(0.61, 0.61), made(0.6, 0.6), UNKNOWN, FROZEN),
        (made(0.61, 0.9), made(0.4, 0.9), DOES_NOT, FROZEN),
    )
    for frozen, learning, verdict, best in cases:
        result = judged({NEW: new, FROZEN: frozen, LEARNING: learning}, extent)
        assert (result.verdict, result.best.way) == (verdict, best)
        assert result.sentence.startswith(
            {HELPS: "The base helps.", DOES_NOT: "The base does not help.", UNKNOWN: "Whether"}[verdict]
        )
        assert result.images == 200
        assert f"new weights on {new.ended.mean():.0%}" in result.sentence


def test_a_probe_trains_all_ways_and_remembers_what_came(
    station: Workspace, plan: Plan, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(beginnings, "MOST", 1)
    monkeypatch.setattr(beginnings, "PASSES", 60)
    monkeypatch.setattr("attentive_lens.desk.tasks.probing.learned_from", lambda place, base: frozenset())

    def probe(wanted: Plan, quick: bool = False) -> BaseProbe:
        return answer(ProbeBase(str(station.folder), wanted.write(), quick))

    assert probe(plan, quick=True).compared is None
    first = probe(plan).compared
    assert first is not None
    assert [each.way for each in first.ways] == list(WAYS)
    assert first.images >= 50
    assert all(each.seconds > 0 and 0 < each.accuracy < 1 for each in first.ways)
    assert first.whole == 40 * collection(station, plan).count("training")
    assert probe(plan, quick=True).compared == first
    assert probe(replace(plan, name="other")).compared == first, "a name changes nothing"
    assert probe(plan.changed({"optimiser.learning_rate": 0.01}), quick=True).compared is None
    words = list(probe(plan).words())
    assert words[-1] == first.sentence
    assert len(station.runs()) == 1


def test_the_command_says_the_same(station: Workspace) -> None:
    shown = command("probe", station.folder, "--set", "base.run=1", "--quick")
    assert "A linear classifier on what" in shown
    refused = last_object(command("probe", station.folder, "--set", "base.run=1", "--json", code=1))["error"]
    assert "the base learned from" in refused["why"]
