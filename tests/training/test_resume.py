"""A run that was interrupted anywhere and goes on ends with the same bits as one that never was."""

from __future__ import annotations

import itertools
import json
from dataclasses import replace
from pathlib import Path
from types import SimpleNamespace
from typing import Any

import numpy as np
import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st
from tests.training.test_loop import PREPARATION, Asked, spots

from attentive_lens.core.jobs import finish
from attentive_lens.engine.network import Network
from attentive_lens.engine.threads import ThreadPool
from attentive_lens.formats.bundle import ModelFile
from attentive_lens.formats.reading import read_checkpoint
from attentive_lens.images.feeding import Feed
from attentive_lens.images.preprocessing import Preprocessor
from attentive_lens.plan.augmentation import DEFAULT_AUGMENTATION
from attentive_lens.plan.averaging import AVERAGING
from attentive_lens.plan.blocks import Residual, built
from attentive_lens.plan.layers import BatchNormalisation, Convolution, Dropout, GlobalPooling, Output, Relu
from attentive_lens.plan.optimisers import OPTIMISERS
from attentive_lens.plan.plan import Plan
from attentive_lens.plan.schedules import SCHEDULES, ScheduleSettings
from attentive_lens.plan.training import Training
from attentive_lens.training import loop
from attentive_lens.training.checkpoints import Checkpoints
from attentive_lens.training.classifier import Classifier
from attentive_lens.training.control import Control, Rates
from attentive_lens.training.journal import Journal, read_events
from attentive_lens.training.loop import Outcome, Position, run

PLAN = built(
    [
        Convolution(filters=4),
        BatchNormalisation(),
        Relu(),
        Residual(filters=4),
        Dropout(rate=0.2),
        GlobalPooling(),
        Output(),
    ]
).with_outputs(2)
EPOCHS, HELD = 3, 10
TRAINING = Training(epochs=EPOCHS, clip_norm=1.0)


def schedule_of(kind: str) -> ScheduleSettings:
    own = {"step": {"step_size": 1.0}, "plateau": {"patience": 1}}.get(kind, {})
    return SCHEDULES[kind](warmup_epochs=0.5, **own)


class Killed(Exception):
    """The machine went down."""


def train(
    folder: Path,
    rule: str,
    schedule: str,
    stop_after: int = 10**9,
    kill_after: int = 10**9,
    control: Control | None = None,
    rates: Rates = (),
    **parts: Any,
) -> Outcome:
    """Train, or go on where the folder's last checkpoint stands; ``parts`` of the plan are as given."""
    folder.mkdir(exist_ok=True)
    pixels, labels = spots()
    members = np.arange(HELD, len(labels))
    preprocessor = Preprocessor.measured(pixels[members], PREPARATION)
    feed = Feed(pixels, labels, members, DEFAULT_AUGMENTATION, preprocessor, 1, 8, 2)
    plan = replace(
        Plan(network=PLAN, preprocessing=PREPARATION, training=TRAINING),
        optimiser=OPTIMISERS[rule](learning_rate=0.01, weight_decay=0.01),
        schedule=schedule_of(schedule),
        **parts,
    )
    model = ModelFile(PLAN, {}, preprocessor, ("left", "right"))
    last = folder / "checkpoints" / "last.alens"
    steps = [0]

    def stop() -> bool:
        steps[0] += 1
        if steps[0] > kill_after:
            raise Killed
        return steps[0] > stop_after

    with ThreadPool(1) as thread_pool, Journal(folder / "journal.jsonl") as journal:
        network = Network.start(PLAN, PREPARATION.shape, 1)
        learner = Classifier(network, plan, preprocessor, thread_pool, examples=feed.examples)
        learner.rates = rates
        position = Position()
        if last.exists():
            stored = read_checkpoint(last)
            learner.restore(stored.weights, stored.optimiser)
            position = Position.read(json.loads(json.dumps(stored.card["position"])))
        checkpoints = Checkpoints(folder / "checkpoints", model, keep_last=plan.training.keep_last)
        held = pixels[:HELD], labels[:HELD]
        return finish(run(learner, feed, held, plan, checkpoints, journal, {}, control or Asked(stop), position))


def state(folder: Path) -> dict[str, bytes]:
    last, best = (read_checkpoint(folder / "checkpoints" / f"{name}.alens") for name in ("last", "best"))
    result = {f"{n}/{k}": a.tobytes() for n, arrays in last.weights.items() for k, a in arrays.items()}
    result |= {f"memory {key}": a.tobytes() for key, a in last.optimiser.items()}
    return result | {f"best {n}/{k}": a.tobytes() for n, arrays in best.weights.items() for k, a in arrays.items()}


@settings(max_examples=18, deadline=None, suppress_health_check=[HealthCheck.function_scoped_fixture])
@given(
    st.sampled_from(sorted(OPTIMISERS)),
    st.sampled_from(sorted(SCHEDULES)),
    st.sampled_from(sorted(AVERAGING)),
    st.lists(st.tuples(st.booleans(), st.integers(0, 9)), min_size=1, max_size=3),
    st.integers(0, 2**30),
)
def test_an_interrupted_run_ends_as_if_it_never_was(
    tmp_path_factory: pytest.TempPathFactory,
    rule: str,
    schedule: str,
    averaging: str,
    cuts: list[tuple[bool, int]],
    seed: int,
) -> None:
    del seed
    whole, cut = tmp_path_factory.mktemp("whole"), tmp_path_factory.mktemp("cut")
    mean = AVERAGING[averaging](**({"start": 0.3} if averaging == "stochastic weight averaging" else {}))
    outcome = train(whole, rule, schedule, averaging=mean)
    for killed, after in cuts:
        if killed:
            try:
                train(cut, rule, schedule, kill_after=after, averaging=mean)
            except Killed:
                continue
        else:
            train(cut, rule, schedule, stop_after=after, averaging=mean)
    again = train(cut, rule, schedule, averaging=mean)
    assert again.state == outcome.state == "done"
    assert again.best == outcome.best
    assert state(cut) == state(whole)


def test_seconds_are_those_since_a_run_went_on_and_add_up(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    clock = itertools.count()  # a second whenever somebody looks
    monkeypatch.setattr(loop, "time", SimpleNamespace(perf_counter=lambda: float(next(clock))))
    first, second = train(tmp_path, "adam", "step", stop_after=5), train(tmp_path, "adam", "step")
    position = read_checkpoint(tmp_path / "checkpoints" / "last.alens").card["position"]
    assert min(first.seconds, second.seconds) > 20
    assert first.seconds + second.seconds == pytest.approx(position["seconds"], abs=10)


def test_the_epochs_told_after_going_on_are_those_of_the_whole_run(tmp_path: Path) -> None:
    train(tmp_path / "whole", "adam", "step")
    train(tmp_path / "cut", "adam", "step", stop_after=5)
    train(tmp_path / "cut", "adam", "step")
    summary = []
    for name in ("whole", "cut"):
        events, _ = read_events(tmp_path / name / "journal.jsonl")
        summary.append([(e["epoch"], e["training"], e["validation"]) for e in events if e["event"] == "epoch"])
    assert summary[0] == summary[1]
    assert [epoch for epoch, *_ in summary[0]] == [1, 2, 3]
