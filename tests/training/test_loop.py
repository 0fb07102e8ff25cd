from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace
from pathlib import Path

import numpy as np
import pytest

from attentive_lens.core.jobs import finish
from attentive_lens.engine.batches import inference
from attentive_lens.engine.layers import StepContext
from attentive_lens.engine.losses import cross_entropy, one_hot
from attentive_lens.engine.network import Network, fingerprint
from attentive_lens.engine.threads import ThreadPool
from attentive_lens.errors import LensError
from attentive_lens.formats.bundle import ModelFile
from attentive_lens.formats.reading import read_checkpoint
from attentive_lens.images.feeding import Batch, Feed
from attentive_lens.images.preprocessing import Preprocessor
from attentive_lens.plan.augmentation import DEFAULT_AUGMENTATION
from attentive_lens.plan.layers import Connected, Flatten, Output, Relu
from attentive_lens.plan.losses import CrossEntropy
from attentive_lens.plan.network import NetworkPlan
from attentive_lens.plan.optimisers import Adam
from attentive_lens.plan.plan import Plan
from attentive_lens.plan.preprocessing import Preprocessing
from attentive_lens.training.checkpoints import Checkpoints
from attentive_lens.training.classifier import Classifier
from attentive_lens.training.control import Control
from attentive_lens.training.figures import Figures
from attentive_lens.training.journal import (
    EndEvent,
    EpochEvent,
    Journal,
    damaged_lines,
    read_event,
    read_events,
)
from attentive_lens.training.learner import Learner
from attentive_lens.training.loop import Outcome, run
from attentive_lens.training.metrics import Metrics

SIDE = 8
PREPARATION = Preprocessing(input_size=SIDE)
PLAN = NetworkPlan.stack([Flatten(), Connected(units=16), Relu(), Output()]).with_outputs(2)
WHOLE = Plan(network=PLAN, preprocessing=PREPARATION)


def spots(n: int = 40) -> tuple[np.ndarray, np.ndarray]:
    """Noise with a bright spot at the left or at the right: two classes that can be learned at once."""
    random = np.random.default_rng(0)
    pixels = random.integers(0, 60, (n, SIDE, SIDE, 3)).astype(np.uint8)
    labels = np.arange(n) % 2
    for image, label in zip(pixels, labels, strict=True):
        image[3:5, 1 + 4 * label : 3 + 4 * label] = 255
    return pixels, labels


class Asked(Control):
    """Asks to stop when it is told so."""

    def __init__(self, stop: Callable[[], bool]) -> None:
        self.stop = stop

    def word(self) -> str:
        return "stop" if self.stop() else ""


def train(
    folder: Path, epochs: int = 4, stop: Callable[[], bool] = lambda: False, held: int = 10, **settings: float
) -> Outcome:
    folder.mkdir(exist_ok=True)
    pixels, labels = spots()
    members = np.arange(held, len(labels))
    preprocessor = Preprocessor.measured(pixels[members], PREPARATION)
    network = Network.start(PLAN, PREPARATION.shape, 1)
    plan = replace(
        WHOLE, optimiser=Adam(**{"learning_rate": 0.01, **settings}), training=WHOLE.training.with_(epochs=epochs)
    )
    feed = Feed(pixels, labels, members, DEFAULT_AUGMENTATION[3:], preprocessor, 1, 8, 2)
    model = ModelFile(PLAN, {}, preprocessor, ("left", "right"))
    with ThreadPool(1) as thread_pool, Journal(folder / "journal.jsonl") as journal:
        learner = Classifier(network, plan, preprocessor, thread_pool)
        checkpoints = Checkpoints(folder / "checkpoints", model)
        data = pixels[:held], labels[:held]
        return finish(run(learner, feed, data, plan, checkpoints, journal, {"n": 1}, Asked(stop)))


def test_what_can_be_learned_is_learned_and_written_down(tmp_path: Path) -> None:
    outcome = train(tmp_path / "a")
    assert (outcome.state, outcome.epochs) == ("done", 4)
    assert outcome.best is not None
    assert outcome.best["accuracy"] == 1.0
    events, _ = read_events(tmp_path / "a" / "journal.jsonl")
    epochs = [e for e in events if e["event"] == "epoch"]
    assert [e["epoch"] for e in epochs] == [1, 2, 3, 4]
    assert epochs[-1]["training"]["loss"] < epochs[0]["training"]["loss"]
    assert read_checkpoint(tmp_path / "a" / "checkpoints" / "last.alens").card["epoch"] == 4


def test_the_same_plan_gives_the_same_bits(tmp_path: Path) -> None:
    prints = set()
    for name in ("a", "b"):
        train(tmp_path / name, 2)
        prints.add(fingerprint(read_checkpoint(tmp_path / name / "checkpoints" / "last.alens").weights))
    assert len(prints) == 1


def test_the_best_epoch_is_kept_even_if_later_ones_are_worse(tmp_path: Path) -> None:
    outcome = train(tmp_path, 6, learning_rate=0.5)
    best = read_checkpoint(tmp_path / "checkpoints" / "best.alens").card
    events, _ = read_events(tmp_path / "journal.jsonl")
    figures = [(e["validation"]["accuracy"], -e["validation"]["loss"]) for e in events if e["event"] == "epoch"]
    assert outcome.best is not None
    assert best["epoch"] == figures.index(max(figures)) + 1
    assert best["validation"]["accuracy"] == outcome.best["accuracy"] == max(figures)[0]


def test_a_stop_in_an_epoch_keeps_what_was_learned(tmp_path: Path) -> None:
    request = iter([False] * 5 + [True])
    outcome = train(tmp_path, 10, lambda: next(request))
    assert (outcome.state, outcome.epochs) == ("stopped", 1)
    last = read_checkpoint(tmp_path / "checkpoints" / "last.alens")
    assert last.card["epoch"] == 1
    assert last.optimiser
    assert (tmp_path / "checkpoints" / "best.alens").exists()


def test_without_a_validation_set_the_last_epoch_is_the_best(tmp_path: Path) -> None:
    outcome = train(tmp_path, 2, held=0)
    assert outcome.best is None
    assert read_checkpoint(tmp_path / "checkpoints" / "best.alens").card["epoch"] == 2


def test_a_run_that_blows_up_is_stopped_with_the_reason_before_the_step_is_taken() -> None:
    pixels, labels = spots(8)
    preprocessor = Preprocessor.measured(pixels, PREPARATION)
    network = Network.start(PLAN, PREPARATION.shape, 1)
    network.weights["output"]["matrix"][:] = 3e38
    before = network.fingerprint()
    with ThreadPool(1) as thread_pool, np.errstate(all="ignore"):
        learner = Classifier(network, WHOLE, preprocessor, thread_pool)
        with pytest.raises(LensError, match=r"epoch 3, batch 5.*no number at all began .*ten times smaller"):
            learner.learn(Batch(preprocessor.apply(pixels), one_hot(labels, 2)), StepContext(0, 2, 4, 0), 9)
    assert network.fingerprint() == before


def test_the_loss_told_is_the_plain_one_whatever_training_makes_small() -> None:
    pixels, labels = spots(12)
    preprocessor = Preprocessor.measured(pixels, PREPARATION)
    network = Network.start(PLAN, PREPARATION.shape, 1)
    for array in network.weights["output"].values():
        array += 0.5 * np.random.default_rng(0).standard_normal(array.shape).astype(np.float32)
    images, targets = preprocessor.apply(pixels), one_hot(labels, 2)
    with ThreadPool(1) as thread_pool:
        plain = cross_entropy(inference(network, images, thread_pool), targets)[0].mean()
        plan = replace(WHOLE, loss=CrossEntropy(label_smoothing=0.4, class_weights="balanced"))
        learner = Classifier(network, plan, preprocessor, thread_pool, np.array([9, 3]))
        mark = learner.learn(Batch(images, targets), StepContext(0, 0, 0, 0), 3)
    assert mark.loss == pytest.approx(float(plain), rel=1e-5)
    assert learner.learning_rate == 0.001


def test_a_journal_line_half_written_is_read_when_it_is_whole(tmp_path: Path) -> None:
    file = tmp_path / "j"
    with Journal(file) as journal:
        journal.write("start", epochs=3)
    with file.open("ab") as stream:
        stream.write(b'{"event": "ep')
    events, position = read_events(file)
    assert [e["event"] for e in events] == ["start"]
    with file.open("ab") as stream:
        rest = b'och", "epoch": 1, "training": {"accuracy": 0.5, "loss": 1.0}, "validation": null, "best": true}\n'
        stream.write(
            rest + b'not json\n{"event": "epoch", "epoch": 2}\n{"event": "end"}\n{"event": "end", "state": "done"}\n'
        )
    events, _ = read_events(file, position)
    assert [e["event"] for e in events] == ["epoch", "end"], "one that lacks its figures is damaged too"
    assert damaged_lines(file) == 3
    assert read_event(events[0]) == EpochEvent(1, Figures(1.0, 0.5), None, True)
    assert read_event(events[1]) == EndEvent("done")
    assert read_event({**events[0], "event": "batch"}) is None
    assert read_event({**events[0], "event": "dance"}) is None
    assert read_events(tmp_path / "none") == ([], 0)


def test_checkpoints_take_no_more_than_their_share_of_the_time(tmp_path: Path) -> None:
    now = [0.0]
    pixels, _ = spots()
    preprocessor = Preprocessor.measured(pixels, PREPARATION)
    network = Network.start(PLAN, PREPARATION.shape, 1)
    writes = []

    def clock() -> float:
        now[0] += 0.5  # every look at the clock costs half a second, so a write takes that long
        return now[0]

    with ThreadPool(1) as thread_pool:
        learner = Classifier(network, WHOLE, preprocessor, thread_pool)
        stored = Checkpoints(tmp_path, ModelFile(PLAN, {}, preprocessor, ("a", "b")), clock)
        for epoch in range(100):
            before = stored._spent
            stored.keep(learner, {"epoch": epoch}, True)
            writes.append(stored._spent > before)
            now[0] += 1.0
        stored.write(learner, {"epoch": 100})
    assert 1 <= sum(writes) <= 8
    assert read_checkpoint(tmp_path / "best.alens").card["epoch"] == 99


class Told(Learner):
    """Learns nothing; its validation figures are told beforehand."""

    def __init__(self, rights: list[int]) -> None:
        self.rights, self.noted = list(rights), []  # type: ignore[var-annotated]

    def learn(self, batch: Batch, context: StepContext, batches: int) -> Metrics:
        return Metrics(1.0, 1, len(batch.images))

    def evaluate(self, pixels: np.ndarray, labels: np.ndarray) -> Metrics:
        return Metrics(0.5, self.rights.pop(0), 10)

    def on_epoch_end(self, validation: Metrics | None) -> None:
        self.noted.append(validation)

    def weights(self) -> dict[str, dict[str, np.ndarray]]:
        return {"n": {"w": np.array([float(len(self.rights))])}}

    def memory(self) -> dict[str, np.ndarray]:
        return {}

    def restore(self, weights: object, memory: object) -> None:
        raise NotImplementedError


def test_the_best_epoch_stays_the_best_when_later_ones_are_worse_and_worse_ones_better_than_the_last(
    tmp_path: Path,
) -> None:
    pixels, labels = spots()
    preprocessor = Preprocessor.measured(pixels, PREPARATION)
    feed = Feed(pixels, labels, np.arange(10, 40), [], preprocessor, 1, 8, 2)
    learner = Told([3, 8, 2, 5])
    stored = Checkpoints(tmp_path / "c", ModelFile(PLAN, {}, preprocessor, ("a", "b")))
    with Journal(tmp_path / "j") as journal:
        data = pixels[:10], labels[:10]
        plan = replace(WHOLE, training=WHOLE.training.with_(epochs=4))
        outcome = finish(run(learner, feed, data, plan, stored, journal, {}, Control()))
    events, _ = read_events(tmp_path / "j")
    assert [e["best"] for e in events if e["event"] == "epoch"] == [True, True, False, False]
    assert outcome.best == {"accuracy": 0.8, "loss": 0.5}
    assert [mark.right for mark in learner.noted] == [3, 8, 2, 5]
    assert stored.best is not None
    assert stored.best[1]["epoch"] == 2


def test_answers_of_very_many_classes_are_not_noted(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    for most, known in ((1, False), (4, True)):
        monkeypatch.setattr("attentive_lens.training.loop.MOST_CELLS", most)
        train(tmp_path / str(most), 1)
        events, _ = read_events(tmp_path / str(most) / "journal.jsonl")
        (epoch,) = (event for event in events if event["event"] == "epoch")
        assert (epoch["by_class"] is not None) == known
        assert epoch["validation"]["macro_f1"] >= 0


def test_a_validation_loss_that_is_infinite_ends_training_with_a_sentence() -> None:
    pixels, labels = spots(12)
    preprocessor = Preprocessor.measured(pixels, PREPARATION)
    network = Network.start(PLAN, PREPARATION.shape, 1)
    network.weights["output"]["matrix"][:] = 3e38
    with ThreadPool(1) as thread_pool, np.errstate(all="ignore"):
        learner = Classifier(network, WHOLE, preprocessor, thread_pool)
        with pytest.raises(LensError, match="on the validation images the numbers ran away"):
            learner.evaluate(pixels, labels)
