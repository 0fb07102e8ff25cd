"""Processes that train together give what one alone gives, to the bit; here they are threads that swap in memory."""

from __future__ import annotations

import threading
from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor
from typing import Any, TypeVar

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from numpy.typing import NDArray

from attentive_lens.engine.batches import Step, learn
from attentive_lens.engine.layers import StepContext
from attentive_lens.engine.losses import one_hot
from attentive_lens.engine.network import Network
from attentive_lens.engine.ranks import ALONE, Cut, Ranks
from attentive_lens.engine.threads import ThreadPool
from attentive_lens.images.feeding import Batch, Feed
from attentive_lens.images.preprocessing import Preprocessor
from attentive_lens.plan.augmentation import STEPS
from attentive_lens.plan.pieces import PIECE_WORK
from attentive_lens.plan.plan import Plan
from attentive_lens.plan.starters import STARTERS
from attentive_lens.training.averaging import AVERAGING
from attentive_lens.training.classifier import Classifier
from attentive_lens.training.learner import SharedFault
from attentive_lens.training.team import follow

T = TypeVar("T")
SIZES = (2, 4, 8)


class Meeting:
    """Where the threads of one team put what they swap."""

    def __init__(self, count: int) -> None:
        self.count, self.barrier = count, threading.Barrier(count, timeout=60)
        self.given: list[Any] = [None] * count

    def exchange(self, index: int, value: Any) -> list[Any]:
        self.given[index] = value
        self.barrier.wait()
        everything = list(self.given)
        self.barrier.wait()
        return everything


class Threaded(Ranks):
    def __init__(self, meeting: Meeting, index: int) -> None:
        self.meeting, self.index, self.count = meeting, index, meeting.count

    def swap(self, partner: int, values: NDArray[np.uint8]) -> NDArray[np.uint8]:
        return np.array(self.meeting.exchange(self.index, values.copy())[partner])

    def gather(self, values: NDArray[Any]) -> list[NDArray[Any]]:
        return self.meeting.exchange(self.index, values)


def in_team(count: int, work: Callable[[Ranks], T]) -> list[T]:
    meeting = Meeting(count)
    with ThreadPoolExecutor(count) as threads:
        return list(threads.map(lambda index: work(Threaded(meeting, index)), range(count)))


@settings(max_examples=40)
@given(images=st.integers(1, 70), quarters=st.integers(0, 50), seed=st.integers(0, 99))
def test_sums_are_the_same_bits_for_any_number_of_processes(images: int, quarters: int, seed: int) -> None:
    cost = PIECE_WORK * quarters // (4 * images)
    values = np.random.default_rng(seed).normal(size=(images, 7)).astype(np.float32)

    def total(ranks: Ranks) -> tuple[slice, list[Any]]:
        cut = Cut(images, cost, ranks)
        parts = [[values[a:b].sum(axis=0), np.array([b - a], np.float64)] for a, b in cut.spans]
        return cut.rows, cut.sum(parts)

    whole, expected = total(ALONE)
    assert whole == slice(0, images)
    assert expected[0] == pytest.approx(values.astype(np.float64).sum(axis=0), abs=1e-3)
    assert expected[1] == images
    for count in SIZES:
        result = in_team(count, total)
        covered = {row for rows, _ in result for row in range(images)[rows]}
        assert covered == set(range(images)), count
        assert all(
            np.array_equal(mine, alone) for _, sums in result for mine, alone in zip(sums, expected, strict=True)
        )


def test_a_step_with_normalisation_over_the_batch_is_the_same_for_any_number_of_processes() -> None:
    plan = STARTERS["residual"].network.with_outputs(3)
    images = np.random.default_rng(0).normal(size=(24, 32, 32, 3)).astype(np.float32)
    targets = one_hot(np.arange(24) % 3, 3, np.float32)
    works = set()

    def step(ranks: Ranks) -> Step:
        network = Network.start(plan, (32, 32, 3), 1)
        cut = Cut(24, network.multiply_adds, ranks)
        works.add((ranks.count, len(cut.spans)))
        with ThreadPool(1) as pool:
            context = StepContext(5, 0, 0, 0)
            return learn(
                network,
                images[cut.rows],
                targets[cut.rows],
                network.route(frozenset(network.weights)),
                context,
                pool,
                cut=cut,
            )

    alone = step(ALONE)
    assert alone.sums
    for count in SIZES[:2]:
        for result in in_team(count, step):
            assert (result.loss, result.plain, result.right) == (alone.loss, alone.plain, alone.right)
            for node, arrays in alone.gradients.items():
                assert all(np.array_equal(result.gradients[node][name], array) for name, array in arrays.items()), node
            assert all(np.array_equal(result.sums[node], sums) for node, sums in alone.sums.items())
    assert {pieces for count, pieces in works if count == 1} != {pieces for count, pieces in works if count == 2}


@settings(max_examples=25)
@given(
    kinds=st.lists(st.sampled_from(["flip", "rotate", "brightness", "noise", "blend", "patch blend"]), max_size=4),
    size=st.integers(1, 9),
    edges=st.tuples(st.integers(0, 9), st.integers(0, 9)),
    epoch=st.integers(0, 3),
)
def test_rows_of_a_batch_are_those_of_the_whole_batch(
    kinds: list[str], size: int, edges: tuple[int, int], epoch: int
) -> None:
    pixels = np.random.default_rng(1).integers(0, 256, (20, 8, 8, 3)).astype(np.uint8)
    steps = tuple(STEPS[kind](probability=0.7) for kind in kinds)
    preprocessor = Preprocessor.measured(pixels, Plan().preprocessing)
    feed = Feed(pixels, np.arange(20) % 4, np.arange(19), steps, preprocessor, 3, size, 4)
    whole = list(feed.batches_of(epoch))
    feed.rows = lambda count: slice(min(edges[0], count - 1), min(max(edges[0] + 1, edges[1]), count))
    for all_of_it, part in zip(whole, feed.batches_of(epoch), strict=True):
        rows = feed.rows(all_of_it.count)
        assert part.count == all_of_it.count == len(all_of_it.images)
        assert np.array_equal(part.images, all_of_it.images[rows])
        assert np.array_equal(part.targets, all_of_it.targets[rows])


def learner_of(ranks: Ranks, pool: ThreadPool, kind: str = "none") -> tuple[Classifier, Feed]:
    pixels = np.random.default_rng(2).integers(0, 256, (30, 16, 16, 3)).astype(np.uint8)
    plan = Plan().changed({"network": "residual", "preprocessing.input_size": 16, "averaging.kind": kind})
    preprocessor = Preprocessor.measured(pixels, plan.preprocessing)
    network = Network.start(plan.network.with_outputs(3), (16, 16, 3), 0)
    feed = Feed(pixels, np.arange(30) % 3, np.arange(26), (), preprocessor, 0, 8, 3)
    learner = Classifier(network, plan, preprocessor, pool, examples=feed.examples, ranks=ranks)
    feed.rows = lambda count: learner.cut(count).rows
    return learner, feed


@pytest.mark.parametrize("kind", sorted(AVERAGING))
def test_an_epoch_and_its_evaluation_are_the_same_for_any_number_of_processes(kind: str) -> None:
    def epoch(ranks: Ranks) -> tuple[str, str, Any]:
        with ThreadPool(1) as pool:
            learner, feed = learner_of(ranks, pool, kind)
            for number, batch in enumerate(feed.batches_of(0)):
                learner.learn(batch, StepContext(0, 0, number, 0), feed.batches)
            learner.before_evaluation(1.0)
            held_out = feed.pixels[26:], feed.labels[26:]
            validation = learner.evaluate(*held_out)
            learner.on_epoch_end(validation)
            return learner.network.fingerprint(), repr(learner.model()), validation

    alone = epoch(ALONE)
    for count in SIZES:
        assert all(result == alone for result in in_team(count, epoch)), count


def test_processes_that_drift_apart_are_found_by_all_of_them() -> None:
    def apart(ranks: Ranks) -> str:
        with ThreadPool(1) as pool:
            learner, feed = learner_of(ranks, pool)
            if ranks.index == 1:
                learner.network.weights["convolution 1"]["kernel"].flat[0] += 1e-6
            with pytest.raises(SharedFault) as fault:
                learner.evaluate(feed.pixels[26:], feed.labels[26:])
            return str(fault.value)

    assert all("process 2 of 4 came to other weights" in words for words in in_team(4, apart))


def test_numbers_that_run_away_in_one_process_are_told_alike_by_all() -> None:
    def away(ranks: Ranks) -> str:
        with ThreadPool(1) as pool:
            learner, feed = learner_of(ranks, pool)
            batch = next(feed.batches_of(0))
            if ranks.index == ranks.count - 1:
                batch.images[0, 0, 0, 0] = np.nan
            with pytest.raises(SharedFault) as fault:
                learner.learn(batch, StepContext(0, 0, 0, 0), feed.batches)
            return str(fault.value)

    for words in in_team(2, away):
        assert "began in the images themselves" in words


class Told(Ranks):
    """A team whose first process has said all it will say."""

    def __init__(self, *words: dict[str, Any]) -> None:
        self.words = [*words, {"do": "end"}]

    def hear(self) -> dict[str, Any]:
        return self.words.pop(0)


def test_who_follows_does_what_the_first_says_and_no_more() -> None:
    done: list[Any] = []

    class Noted:
        rates: Any = ()

        def learn(self, batch: Batch, context: StepContext, batches: int) -> None:
            done.append((context.epoch, context.batch, batches, self.rates, float(batch.images[0, 0, 0, 0])))
            if context.batch == 1:
                raise SharedFault("Training stopped", "numbers ran away", "Lower the rate")

        def before_evaluation(self, fraction: float) -> None:
            done.append(fraction)

        def evaluate(self, *held_out: Any) -> Any:
            return held_out

        def on_epoch_end(self, validation: Any) -> None:
            done.append(validation)

    with ThreadPool(1) as pool:
        _, feed = learner_of(ALONE, pool)
    first = {epoch: [float(batch.images[0, 0, 0, 0]) for batch in feed.batches_of(epoch)] for epoch in (0, 1)}

    def step(epoch: int, batch: int, rates: list[list[float]]) -> dict[str, Any]:
        return {"do": "learn", "epoch": epoch, "batch": batch, "batches": 4, "rates": rates}

    team = Told(
        step(0, 0, []),
        step(0, 1, [[1, 0.5]]),
        {"do": "before evaluation", "fraction": 0.25},
        {"do": "evaluate"},
        {"do": "epoch end"},
        step(1, 2, [[1, 0.5]]),
        {"do": "epoch end"},
    )
    follow(team, Noted(), feed, ("images", "labels"))  # type: ignore[arg-type]
    assert done == [
        (0, 0, 4, (), first[0][0]),
        (0, 1, 4, ((1, 0.5),), first[0][1]),
        0.25,
        ("images", "labels"),
        (1, 2, 4, ((1, 0.5),), first[1][2]),
        None,
    ]
