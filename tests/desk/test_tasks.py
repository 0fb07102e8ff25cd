from __future__ import annotations

import os
import shutil
import time
from dataclasses import replace
from pathlib import Path
from types import SimpleNamespace

import numpy as np
import psutil
import pytest
from tests.answering import answer

import attentive_lens as al
from attentive_lens.core.files import is_alive
from attentive_lens.core.jobs import finish
from attentive_lens.core.records import without_arrays
from attentive_lens.desk.images.data import gather
from attentive_lens.desk.network.bases import with_base
from attentive_lens.desk.network.design import price_in_memory
from attentive_lens.desk.requests.explaining import Activations, Explain, FirstFilters
from attentive_lens.desk.requests.images import Augment
from attentive_lens.desk.requests.inspecting import Channels, Layer
from attentive_lens.desk.requests.models import Score
from attentive_lens.desk.requests.subjects import RunImage
from attentive_lens.desk.training import executing
from attentive_lens.desk.training.executing import Launch, execute
from attentive_lens.desk.training.runs import (
    RunReader,
    check_resumable,
    reap_children,
    resumable,
    resume_training,
    start_training,
)
from attentive_lens.desk.worker.resident import Reply, Resident, _remove_old
from attentive_lens.engine.network import fingerprint
from attentive_lens.engine.threads import ThreadPool
from attentive_lens.errors import BadValue, LensError, NotHere
from attentive_lens.formats.reading import read_model
from attentive_lens.plan.base import Base
from attentive_lens.plan.plan import Plan
from attentive_lens.workspace import Workspace
from attentive_lens.workspace.corrections import NOTHING, Correction


def test_scores_repeat_to_the_last_digit_with_and_without_their_file(station: Workspace) -> None:
    request = Score(str(station.folder), 1, "test")
    first = answer(request)
    file = station.run(1).scores_file("test")
    made = file.stat().st_mtime_ns
    assert answer(request) == first
    assert file.stat().st_mtime_ns == made
    file.write_bytes(b"half a file")
    assert answer(request) == first
    assert first.images == 16 == len(first.answers)


def test_an_explanation_has_both_answers_and_its_trust_and_every_layer_when_asked(station: Workspace) -> None:
    folder = str(station.folder)
    outcome = answer(Explain(RunImage(folder, 1, 5), target="winged"))
    assert [own.key for own in outcome.maps] == ["predicted", "true", "for"]
    assert [own.target for own in outcome.maps] == [outcome.predicted, outcome.true, "winged"]
    assert sum(outcome.probabilities.values()) == pytest.approx(1)
    assert max(outcome.probabilities, key=lambda name: outcome.probabilities[name]) == outcome.predicted
    assert {own.values.shape for own in outcome.maps} == {(32, 32)}
    outputs = answer(Activations(RunImage(folder, 1, 5))).outputs
    shapes = {name: out.shape for name, out in outputs.items()}
    assert shapes == {"image": (*outcome.pixels.shape,), **{own.name: own.shape for own in outcome.layers}}
    some = answer(Activations(RunImage(folder, 1, 5), ("relu 1",))).outputs
    assert some.keys() == {"relu 1"}
    assert np.array_equal(some["relu 1"], outputs["relu 1"])
    with pytest.raises(LensError, match="relu 1"):
        answer(Activations(RunImage(folder, 1, 5), ("rely 1",)))


def test_variants_are_of_training_images_and_nothing_without_augmentation(station: Workspace) -> None:
    folder = str(station.folder)
    plain = answer(Augment(folder, {"network": "two blocks"}, 8, 2))
    assert np.array_equal(plain.variants, np.concatenate([plain.originals] * 2))
    plan = {
        "network": "two blocks",
        "augmentation": [{"kind": "noise", "probability": 1.0, "range": [0.1, 0.1]}],
    }
    noisy = answer(Augment(folder, plan, 8, 2)).variants
    assert not np.array_equal(noisy[:8], noisy[8:])
    assert np.array_equal(noisy, answer(Augment(folder, plan, 8, 2)).variants)
    small = {**plan, "preprocessing": {"input_size": 48, "colour_space": "grey"}}
    assert answer(Augment(folder, small, 8, 1)).variants.shape == (8, 48, 48, 1)
    station.catalogue.correct({n: Correction(0) for n in range(1, 91)})
    again = answer(Augment(folder, plan, 8, 2)).originals
    assert not np.array_equal(again, plain.originals)
    with pytest.raises(LensError, match="noise"):
        answer(Augment(folder, {"network": "two blocks", "augmentation": [{"kind": "nois"}]}, 8, 2))


def test_what_is_not_there_is_said_with_what_is(station: Workspace) -> None:
    folder = str(station.folder)
    for request, reason in (
        (Explain(RunImage(folder, 1, 500)), "numbered 1 to 90"),
        (Explain(RunImage(folder, 1, 5), target="wingd"), "winged"),
        (Score(folder, 4, "test"), "runs 1"),
    ):
        with pytest.raises(LensError, match=reason):
            answer(request)


def test_layers_of_an_earlier_run_are_taken_over_frozen_to_the_bit(station: Workspace) -> None:
    plan = Plan().changed({"training.epochs": 1, "seed": 99})
    plan = with_base(station, plan, Base(1, "max pooling 2"))
    run = station.claim_run(plan)
    finish(execute(station, run, lambda: False))
    earlier, later = read_model(station.run(1).model), read_model(run.model)
    assert later.preprocessor.settings == earlier.preprocessor.settings
    for node in later.weights:
        same = all(np.array_equal(a, earlier.weights[node][k]) for k, a in later.weights[node].items())
        assert same == (node in plan.frozen), node


def test_a_base_that_cannot_be_used_is_refused_in_words(station: Workspace) -> None:
    other = Plan().changed({"preprocessing.resize_mode": "letterbox", "base.run": 1, "base.until": "relu 1"})
    with pytest.raises(BadValue, match=r"was trained with input size 32, resize mode stretch, and .* 64, letterbox"):
        finish(execute(station, station.claim_run(other), lambda: False))
    wide = other.changed({"base.take_preprocessing": True})
    run = station.claim_run(wide)
    with pytest.raises(BadValue, match="another shape"):
        finish(execute(station, run, lambda: False))
    assert RunReader(run).view().state == "failed"
    assert "another shape" in RunReader(run).view().error
    deeper = Plan().changed({"base.run": 1, "base.until": "convolution 3", "base.take_preprocessing": True})
    with pytest.raises(BadValue, match=r"Run 1 has no layer called convolution 3: its network has: convolution 1"):
        finish(execute(station, station.claim_run(deeper), lambda: False))
    everything = with_base(station, Plan(), Base(1, "dropout 1"))
    assert "output" not in everything.frozen
    with pytest.raises(NotHere):
        with_base(station, Plan(), Base(7, "relu 1"))


def test_a_child_process_trains_outlives_its_window_and_stops_when_asked(station: Workspace) -> None:
    plan = Plan().changed({"network": "two blocks", "preprocessing.input_size": 32, "training.epochs": 5000})
    run = start_training(station, plan)
    reader = RunReader(run)
    try:
        wait_for(lambda: len(reader.view().epochs) >= 1, 60)
        assert reader.view().state == "training"
    finally:
        run.ask("stop")
        wait_for(lambda: reader.view().state != "training", 30)
        wait_for(lambda: not run.is_training(), 30)
        wait_for(lambda: reap_children() == 0, 30)
    assert reader.view().state == "stopped", (run.folder / "log.txt").read_text()
    assert run.model.exists()


def test_a_killed_run_goes_on_to_the_same_bits_and_refuses_other_labels(station: Workspace) -> None:
    plan = Plan().changed({"network": "two blocks", "preprocessing.input_size": 32, "training.epochs": 30})
    whole = finish(execute(station, station.claim_run(plan), lambda: False))
    run = start_training(station, plan)
    reader = RunReader(run)
    wait_for(lambda: len(reader.view().epochs) >= 1, 60)
    living = [each for each in psutil.Process().children() if each.status() != psutil.STATUS_ZOMBIE]
    (trainer,) = (each for each in living if str(station.folder) in each.cmdline())
    trainer.kill()
    wait_for(lambda: not run.is_training(), 30)
    wait_for(lambda: reap_children() == 0, 30)
    view = RunReader(run).view()
    assert view.state == "broken off"
    assert resumable(view)
    station.catalogue.correct({1: Correction(label=5)})
    with pytest.raises(BadValue, match="1 labels were changed"):
        finish(execute(station, run, lambda: False, Launch(resume=True)))
    station.catalogue.correct({1: NOTHING})
    resume_training(station, run.number)
    with pytest.raises(BadValue, match="it is training"):
        check_resumable(run)
    reader = RunReader(run)
    wait_for(lambda: reader.view().state == "done", 60)
    wait_for(lambda: not run.is_training(), 30)
    wait_for(lambda: reap_children() == 0, 30)
    assert [epoch.epoch for epoch in reader.view().epochs] == list(range(1, 31))
    assert fingerprint(read_model(run.model).weights) == whole.weights_sha256
    with pytest.raises(BadValue, match="trained all its epochs"):
        check_resumable(run)


def test_a_plan_larger_than_the_memory_is_refused_before_it_is_made(
    station: Workspace, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(psutil, "virtual_memory", lambda: SimpleNamespace(available=5 * 2**20))
    run = station.claim_run(Plan())
    with pytest.raises(BadValue, match=r"takes about 0\.\d GiB and 0\.0 GiB are free"):
        finish(execute(station, run, lambda: False))
    assert not list(run.checkpoints.glob("*"))


def wait_for(condition: object, seconds: float) -> None:
    end = time.monotonic() + seconds
    while not condition():  # type: ignore[operator]
        assert time.monotonic() < end, "waited too long"
        time.sleep(0.05)


@pytest.fixture
def resident() -> Resident:
    made = Resident()
    yield made
    made.close()
    assert not made.folder.exists()


def until_end(resident: Resident, number: int) -> Reply:
    outcome: list[Reply] = []

    def ended() -> bool:
        outcome.extend(r for r in resident.replies() if r.number == number and r.progress is None)
        return bool(outcome)

    wait_for(ended, 60)
    return outcome[0]


def test_the_worker_answers_in_order_of_urgency_reports_faults_and_ends(resident: Resident, station: Workspace) -> None:
    folder = str(station.folder)
    reply = until_end(resident, resident.ask(Explain(RunImage(folder, 1, 3))))
    expected = answer(Explain(RunImage(folder, 1, 3)))
    assert without_arrays(reply.result) == without_arrays(expected)
    assert np.array_equal(reply.result.maps[0].values, expected.maps[0].values)
    assert np.array_equal(reply.result.difference, expected.difference)
    assert list(resident.folder.iterdir()) == []
    bad = until_end(resident, resident.ask(Explain(RunImage(folder, 9, 3))))
    assert bad.error is not None
    assert bad.error.what == "There is no run 9"
    slow = resident.ask(Score(folder, 1, "training"), 9)
    quick = resident.ask(FirstFilters(RunImage(folder, 1, 1)), 1)
    ends: list[int] = []

    def both() -> bool:
        ends.extend(r.number for r in resident.replies() if r.result is not None)
        return len(ends) == 2

    wait_for(both, 60)
    assert ends == [quick, slow]


def test_a_script_can_do_what_the_window_does(station: Workspace) -> None:
    place = al.open_workspace(station.folder)
    model = place.runs()[-1].model
    first = place.files()[0]
    assert model.predict([first]) == [answer(Explain(RunImage(str(station.folder), 1, 1))).probabilities]
    assert model.explain(first, target="spiny").shape == (32, 32)
    assert model.explain(np.zeros((9, 30, 3), np.uint8), method="gradient").min() >= 0
    with pytest.raises(LensError, match="no such file"):
        model.predict([Path("none.png")])


def test_a_channel_is_scaled_and_what_all_add_is_told(station: Workspace) -> None:
    folder = str(station.folder)
    summary = answer(Channels(RunImage(folder, 1, 5), "convolution 2", 3))
    assert [row.factor for row in summary.answers] == [1.0, 0.0, 0.5, 2.0]
    plain = answer(Explain(RunImage(folder, 1, 5))).probabilities
    assert summary.answers[0].probabilities == pytest.approx(plain, abs=1e-5)
    assert len(summary.channels) == 16
    with pytest.raises(BadValue, match="channels 0 to 15"):
        answer(Channels(RunImage(folder, 1, 5), "convolution 2", 16))


def test_channels_are_ranked_by_what_is_lost_without_them_and_said_for_what(station: Workspace) -> None:
    folder, node = str(station.folder), "convolution 2"
    table = answer(Score(folder, 1, "training"))
    right = next(a.image for a in table.answers if a.predicted == a.true)
    wrong = table.wrong[0].image
    model = read_model(station.run(1).model)
    data = finish(gather(station, station.run(1).plan(), station.run(1)))
    network = model.network()
    for image, differ in ((right, False), (wrong, True)):
        summary = answer(Channels(RunImage(folder, 1, image), node, 0))
        assert (summary.predicted != summary.true) is differ
        assert summary.of == ("said − true" if differ else summary.predicted)
        predicted, true = model.classes.index(summary.predicted), model.classes.index(summary.true)
        prepared = model.preprocessor.apply(data.pixels[image - 1][None])
        out = network.forward(prepared, watch=frozenset({node})).outputs[node]
        adds = {own.channel: own.adds for own in summary.channels}
        for channel in (0, 7):
            edited = out.copy()
            edited[..., channel] = 0
            scores = [network.forward(prepared, edited={node: own}).outputs[network.output][0] for own in (out, edited)]
            numbers = [own[predicted] - own[true] if differ else own[predicted] for own in scores]
            assert adds[channel] == pytest.approx(float(numbers[0] - numbers[1]), abs=1e-4)
        strengths = [abs(own.adds) for own in summary.channels]
        assert strengths == sorted(strengths, reverse=True)
        assert any(own.gradient != own.adds for own in summary.channels)


def test_a_layer_is_shown_all_training_images_or_a_part_of_every_class(station: Workspace) -> None:
    folder = str(station.folder)
    data = finish(gather(station, station.run(1).plan(), station.run(1)))
    training = data.members("training")
    whole = answer(Layer(folder, 1, "convolution 2", patches=len(training), drawn=1))
    assert whole.images_looked_at == whole.images_in_all == len(training)
    seen = {image for own in whole.images for image in own}
    assert seen == {int(k) + 1 for k in training}, "whole classes were passed over once"
    part = answer(Layer(folder, 1, "convolution 2", patches=9, images=18, drawn=1))
    assert part.images_looked_at < part.images_in_all == len(training)
    drawn = {image for own in part.images for image in own}
    assert {int(data.labels[k - 1]) for k in drawn} == set(data.labels[training].tolist())


def test_what_excites_a_layer_is_kept_while_the_model_stays(station: Workspace) -> None:
    folder = str(station.folder)
    request = Layer(folder, 1, "convolution 1", patches=3, drawn=2)
    first = answer(request)
    (file,) = station.run(1).folder.glob("layer-*.npz")
    made = file.stat().st_mtime_ns
    again = answer(request)
    assert file.stat().st_mtime_ns == made
    assert without_arrays(again) == without_arrays(first)
    for name in ("patches", "synthetic", "speaks"):
        assert np.array_equal(getattr(again, name), getattr(first, name))
    assert answer(replace(request, patches=2)).patches.shape[1] == 2
    file.write_bytes(b"half a file")
    assert without_arrays(answer(request)) == without_arrays(first)


def test_a_plan_too_large_for_memory_is_refused_before_any_image_is_prepared(station: Workspace) -> None:
    shutil.rmtree(station.cache)
    plan = Plan().changed({"preprocessing.input_size": 1024, "training.batch_size": 4096})
    needed, free = price_in_memory(plan, 6, 60)
    assert needed > free > 0
    with pytest.raises(BadValue, match="GiB"):
        finish(execute(station, station.claim_run(plan), lambda: False))
    assert list(station.cache.iterdir()) == []


def test_the_price_in_memory_counts_what_each_optimiser_keeps() -> None:
    plan = Plan()
    settings = ({"optimiser": "adam"}, {"optimiser": "sgd", "optimiser.momentum": 0.0})
    (adam, _), (plain, _) = (price_in_memory(plan.changed(own), 6, 60) for own in settings)
    weights = sum(fact.weights for fact in plan.network.with_outputs(6).facts(plan.preprocessing.shape))
    assert adam - plain == 2 * 4 * weights


def test_memory_that_a_crashed_window_left_is_given_back(tmp_path: Path) -> None:
    gone = next(number for number in range(40_000, 10**7) if not is_alive(number))
    left, living = tmp_path / f"attentive-lens-{gone}-abc", tmp_path / f"attentive-lens-{os.getppid()}-abc"
    foreign = tmp_path / "attentive-lens-kernels-0"
    for folder in (left, living, foreign):
        folder.mkdir()
        (folder / "1-0.npy").write_bytes(b"x")
    _remove_old(tmp_path)
    assert sorted(tmp_path.iterdir()) == sorted([living, foreign])


def test_a_plateau_schedule_without_a_validation_set_is_refused(station: Workspace) -> None:
    settings = {"split.validation_fraction": 0.0, "schedule": "plateau", "network": "two blocks"}
    with pytest.raises(BadValue, match="no validation set"):
        finish(execute(station, station.claim_run(Plan().changed(settings)), lambda: False))


@pytest.mark.parametrize("threads", [0, 1])
def test_a_run_takes_the_plan_s_threads_unless_others_are_named(
    station: Workspace, monkeypatch: pytest.MonkeyPatch, threads: int
) -> None:
    taken = []

    class Counting(ThreadPool):
        def __init__(self, count: int) -> None:
            taken.append(count)
            super().__init__(count)

    monkeypatch.setattr(executing, "ThreadPool", Counting)
    plan = station.run(1).plan().changed({"training.epochs": 1, "training.threads": 2})
    finish(execute(station, station.claim_run(plan), lambda: False, Launch(threads=threads)))
    assert taken == [threads or 2]
