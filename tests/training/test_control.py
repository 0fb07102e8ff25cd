"""What is asked of a run while it trains: heeded within a step, written down first, repeated by a resume."""

from __future__ import annotations

import time
from collections.abc import Sequence
from pathlib import Path

import pytest
from tests.training.test_loop import PREPARATION, Asked
from tests.training.test_resume import EPOCHS, PLAN, TRAINING, Killed, state, train

from attentive_lens.desk.training.controlling import RunControl
from attentive_lens.engine.network import Network
from attentive_lens.engine.threads import ThreadPool
from attentive_lens.errors import LensError
from attentive_lens.formats.reading import read_checkpoint
from attentive_lens.images.preprocessing import Preprocessor
from attentive_lens.plan.plan import Plan
from attentive_lens.plan.stopping import Stopping
from attentive_lens.training.classifier import Classifier
from attentive_lens.training.control import PAUSE, STOP, STOP_AFTER_EPOCH, Control, Rates, rate_at
from attentive_lens.training.journal import read_events
from attentive_lens.training.metrics import Metrics
from attentive_lens.workspace import Run

BATCHES = 4
"""Of an epoch."""


class Words(Control):
    """Asks what is told for each time it is asked, from 1 on: after each step, and once more after each epoch."""

    def __init__(self, words: dict[int, str], rates: dict[int, float] | None = None) -> None:
        self.words, self.asked_rates = words, rates or {}
        self.steps, self.noted = 0, list[Rates]()

    def word(self) -> str:
        self.steps += 1
        return self.words.get(self.steps, "")

    def rate(self) -> float | None:
        return self.asked_rates.pop(self.steps, None)

    def keep_rates(self, rates: Sequence[tuple[int, float]]) -> None:
        self.noted.append(tuple(rates))


def result(folder: Path, *kinds: str) -> list[dict[str, object]]:
    return [event for event in read_events(folder / "journal.jsonl")[0] if event["event"] in kinds]


@pytest.fixture(scope="module")
def whole(tmp_path_factory: pytest.TempPathFactory) -> Path:
    folder = tmp_path_factory.mktemp("whole") / "run"
    train(folder, "adam", "cosine")
    return folder


def test_a_pause_waits_after_the_step_with_all_on_disk_and_changes_nothing(whole: Path, tmp_path: Path) -> None:
    class Paused(Words):
        def word(self) -> str:
            word = super().word()
            if word == PAUSE and self.steps == 7:  # the first look of several
                self.on_disk = read_checkpoint(tmp_path / "run" / "checkpoints" / "last.alens").card["position"]
            return word

    control = Paused(dict.fromkeys((6, 7, 8, 9), PAUSE))
    began = time.perf_counter()
    outcome = train(tmp_path / "run", "adam", "cosine", control=control)
    gone = time.perf_counter() - began
    assert outcome.state == "done"
    assert outcome.seconds <= gone - 3 * 0.05, "a pause is no training"
    assert (control.on_disk["epoch"], control.on_disk["batch"]) == (1, 1), "it is asked after each epoch too"
    events = result(tmp_path / "run", "pause", "continue")
    assert [event["event"] for event in events] == ["pause", "continue"]
    assert [(event["epoch"], event["step"]) for event in events] == [(2, 5), (2, 5)]
    assert state(tmp_path / "run") == state(whole)


def test_a_stop_in_a_pause_is_heeded(tmp_path: Path) -> None:
    outcome = train(tmp_path / "run", "adam", "cosine", control=Words({2: PAUSE, 3: PAUSE, 4: STOP}))
    assert outcome.state == "stopped"
    assert read_checkpoint(tmp_path / "run" / "checkpoints" / "last.alens").card["position"]["batch"] == 2


def test_a_stop_after_the_epoch_lets_it_be_judged(whole: Path, tmp_path: Path) -> None:
    words = dict.fromkeys(range(2, 50), STOP_AFTER_EPOCH)
    outcome = train(tmp_path / "run", "adam", "cosine", control=Words(words))
    assert (outcome.state, outcome.epochs) == ("stopped", 1)
    assert [event["epoch"] for event in result(tmp_path / "run", "epoch")] == [1]
    train(tmp_path / "run", "adam", "cosine")
    assert state(tmp_path / "run") == state(whole)
    last = train(tmp_path / "last", "adam", "cosine", control=Words(dict.fromkeys(range(11, 50), STOP_AFTER_EPOCH)))
    assert last.state == "done", "after the last epoch there is nothing to stop"


def test_a_rate_that_is_set_holds_from_the_next_step_and_a_resume_from_before_repeats_it(
    whole: Path, tmp_path: Path
) -> None:
    control = Words({}, {5: 0.001})
    train(tmp_path / "whole", "adam", "cosine", control=control)
    assert control.noted == [((4, 0.001),)]
    (event,) = result(tmp_path / "whole", "rate")
    assert (event["epoch"], event["step"], event["learning_rate"]) == (2, 4, 0.001)
    assert state(tmp_path / "whole") != state(whole)

    # the same, killed after the rate was used, with a checkpoint from before it
    cut = tmp_path / "cut"
    train(cut, "adam", "cosine", control=Words({3: STOP}))
    with pytest.raises(Killed):
        train(cut, "adam", "cosine", control=KilledAt(4, {1: 0.001}))
    train(cut, "adam", "cosine", rates=((4, 0.001),))
    assert state(cut) == state(tmp_path / "whole")


class KilledAt(Words):
    """Goes down after some steps."""

    def __init__(self, step: int, rates: dict[int, float]) -> None:
        super().__init__({}, rates)
        self.last = step

    def word(self) -> str:
        if self.steps >= self.last:
            raise Killed
        return super().word()


def test_the_rate_at_a_step_is_the_last_that_was_set_by_then() -> None:
    rates = ((3, 0.5), (7, 0.25))
    assert [rate_at(rates, step, 1.0) for step in (0, 2, 3, 6, 7, 99)] == [1.0, 1.0, 0.5, 0.5, 0.25, 0.25]


def test_a_rate_set_before_a_later_one_takes_its_place(tmp_path: Path) -> None:
    control = Words({}, {5: 0.002})
    train(tmp_path / "run", "adam", "cosine", control=control, rates=((2, 0.5), (9, 0.004)))
    assert control.noted == [((2, 0.5), (4, 0.002))]


def test_a_batch_limit_ends_the_run_and_the_schedule_in_the_middle_of_an_epoch(tmp_path: Path) -> None:
    outcome = train(tmp_path / "run", "adam", "cosine", stopping=Stopping(batches=6))
    assert (outcome.state, outcome.epochs) == ("done", 2)
    assert outcome.reason == "batch limit: 6 batches are done"
    epochs = result(tmp_path / "run", "epoch")
    assert [event["epoch"] for event in epochs] == [1, 2]
    assert epochs[-1]["validation"] is not None, "what was learned of the last epoch is judged"
    full = train(tmp_path / "full", "adam", "cosine")
    rates = (
        result(tmp_path / "run", "epoch")[-1]["learning_rate"],
        result(tmp_path / "full", "epoch")[-1]["learning_rate"],
    )
    assert full.reason == ""
    assert rates[0] < 0.001, "the schedule came to its end with the sixth batch"
    again = train(tmp_path / "run", "adam", "cosine", stopping=Stopping(batches=6))
    assert (again.state, again.epochs, again.reason) == ("done", 2, outcome.reason), "and there it stays"


def test_a_target_and_early_stopping_end_a_run_after_an_epoch(tmp_path: Path) -> None:
    loss = Stopping(target=100.0, target_measure="loss")
    outcome = train(tmp_path / "loss", "adam", "cosine", stopping=loss)
    assert (outcome.state, outcome.epochs) == ("done", 1)
    assert outcome.reason.startswith("target reached: the validation loss is ")
    patient = Stopping(patience=1, patience_measure="accuracy", least_gain=1.0)
    outcome = train(tmp_path / "patience", "adam", "cosine", stopping=patient)
    assert (outcome.state, outcome.epochs) == ("done", 2)
    assert outcome.reason == "early stopping: the validation accuracy has not become better for 1 epochs"


def test_a_time_limit_counts_what_was_trained_before(tmp_path: Path) -> None:
    minutes = Stopping(minutes=1e-6)
    assert train(tmp_path / "run", "adam", "cosine", stopping=minutes).reason.startswith("time limit: 1e-06 minutes")
    train(tmp_path / "long", "adam", "cosine", control=Words({3: STOP}))
    seconds = read_checkpoint(tmp_path / "long" / "checkpoints" / "last.alens").card["position"]["seconds"]
    outcome = train(tmp_path / "long", "adam", "cosine", stopping=Stopping(minutes=seconds / 60))
    assert outcome.reason.startswith("time limit")
    assert outcome.epochs == 0, "no step more was taken"


@pytest.mark.parametrize("every", [2, 3, 5])
def test_evaluation_now_and_then_judges_the_last_epoch_too(every: int, tmp_path: Path) -> None:
    train(tmp_path / "run", "adam", "plateau", training=TRAINING.with_(epochs=5, evaluate_every=every))
    epochs = result(tmp_path / "run", "epoch")
    judged = [event["epoch"] for event in epochs if event["validation"] is not None]
    assert judged == sorted({*range(every, 6, every), 5})
    best = [event["epoch"] for event in epochs if event["best"]]
    assert best[: every - 1] == list(range(1, every)), "until one was evaluated the last is kept"
    assert set(best[every - 1 :]) <= set(judged)


def test_a_run_stopped_before_its_first_evaluation_has_a_model(tmp_path: Path) -> None:
    words = dict.fromkeys(range(2, 50), STOP_AFTER_EPOCH)
    training = TRAINING.with_(evaluate_every=3)
    outcome = train(tmp_path / "run", "adam", "cosine", control=Words(words), training=training)
    assert (outcome.state, outcome.epochs, outcome.best) == ("stopped", 1, None)
    assert read_checkpoint(tmp_path / "run" / "checkpoints" / "best.alens").card["epoch"] == 1
    train(tmp_path / "run", "adam", "cosine", training=training)
    assert read_checkpoint(tmp_path / "run" / "checkpoints" / "best.alens").card["epoch"] == 3


def test_a_schedule_that_waits_counts_epochs_and_not_evaluations(tmp_path: Path) -> None:
    plan = Plan(network=PLAN, preprocessing=PREPARATION)
    preprocessor = Preprocessor.plain(PREPARATION)
    with ThreadPool(1) as thread_pool:
        learner = Classifier(Network.start(PLAN, PREPARATION.shape, 1), plan, preprocessor, thread_pool)
        for loss in (None, 0.5, None, None, 0.4):
            learner.on_epoch_end(Metrics(loss, 1, 2) if loss is not None else None)
    assert learner.losses == [0.5, 0.5, 0.5, 0.4], "an epoch without an evaluation is as the one before it"


def test_what_was_written_down_before_a_process_died_is_not_asked_for_again(tmp_path: Path) -> None:
    run = Run(tmp_path / "0001")
    run.folder.mkdir()
    run.keep_rates([(7, 0.0005)])
    run.ask_rate(0.0005)  # as if the process died between the two
    control = RunControl(run, lambda: False)
    assert control.rate() is None
    assert run.commanded_rate() is None
    run.ask_rate(0.0002)
    assert control.rate() == 0.0002
    control.keep_rates([(7, 0.0005), (9, 0.0002)])
    assert (run.commanded_rate(), run.rates()) == (None, ((7, 0.0005), (9, 0.0002)))
    run.ask("pause")
    assert control.word() == PAUSE
    run.ask("sing")
    assert control.word() == ""
    assert RunControl(run, lambda: True).word() == STOP
    (run.folder / "rates.json").write_text("[[1")
    with pytest.raises(LensError, match="is damaged"):
        run.rates()


def test_the_last_epochs_are_kept_as_models_and_older_ones_removed(tmp_path: Path) -> None:
    train(tmp_path / "run", "adam", "cosine", training=TRAINING.with_(epochs=5, keep_last=2))
    noted = sorted(file.name for file in (tmp_path / "run" / "checkpoints").glob("epoch-*"))
    assert noted == ["epoch-0004.alens", "epoch-0005.alens"]
    last, fifth = (
        read_checkpoint(tmp_path / "run" / "checkpoints" / name).weights["convolution 1"]["kernel"].tobytes()
        for name in ("last.alens", "epoch-0005.alens")
    )
    assert last == fifth


@pytest.mark.parametrize("measure", ["accuracy", "loss", "macro_f1", "top_5"])
def test_the_best_epoch_is_chosen_by_the_measure_asked_for(measure: str, tmp_path: Path) -> None:
    training = TRAINING.with_(epochs=6, best_by=measure)
    outcome = train(tmp_path / "run", "sgd", "constant", training=training)
    figures = [event["validation"] for event in result(tmp_path / "run", "epoch")]
    sign = -1 if measure == "loss" else 1
    values = [(sign * each[measure], -each["loss"]) for each in figures]  # type: ignore[index]
    best = values.index(max(values))
    assert outcome.best == figures[best]
    assert read_checkpoint(tmp_path / "run" / "checkpoints" / "best.alens").card["epoch"] == best + 1


def test_a_run_that_is_asked_nothing_trains_all_its_epochs(tmp_path: Path) -> None:
    control = Words({})
    assert train(tmp_path / "run", "adam", "cosine", control=control).epochs == EPOCHS
    assert control.steps >= EPOCHS * BATCHES
    assert Asked(lambda: True).word() == STOP
