"""Runs whose networks draw of noise: trained, stopped and gone on with, drawn from, measured, exported."""

from __future__ import annotations

import re
import shutil
from dataclasses import replace
from pathlib import Path
from typing import Any

import numpy as np
import pytest
from tests.cli.running import command, last_object, run_words

import attentive_lens as al
from attentive_lens.core.jobs import finish
from attentive_lens.desk.images.data import gather
from attentive_lens.desk.network.design import save_plan
from attentive_lens.desk.requests.activity import LayerActivity
from attentive_lens.desk.requests.drawing import Decode, DrawImages, EncodeImages, Reconstruct
from attentive_lens.desk.requests.exporting import ExportModel
from attentive_lens.desk.requests.fidelity import MeasureFidelity
from attentive_lens.desk.requests.similarity import CompareLayers
from attentive_lens.desk.tasks import carry_out
from attentive_lens.desk.training.executing import execute
from attentive_lens.desk.training.preparing import prepare
from attentive_lens.desk.training.runs import RunReader
from attentive_lens.engine.encoding import Coder
from attentive_lens.engine.layers import StepContext
from attentive_lens.engine.ranks import ALONE
from attentive_lens.engine.threads import ThreadPool
from attentive_lens.errors import BadUsage, BadValue
from attentive_lens.formats.reading import read_model
from attentive_lens.plan.measures import GENERATED
from attentive_lens.plan.plan import Plan
from attentive_lens.training.adversary import others_than
from attentive_lens.training.film import frames, read_frame
from attentive_lens.training.journal import EpochEvent
from attentive_lens.workspace import Run, Workspace


def small(**settings: Any) -> Plan:
    """A pair that is told classes, on images of 16 pixels."""
    start = {
        "network": "generator, by class",
        "preprocessing.input_size": 16,
        "training.epochs": 2,
        "training.batch_size": 16,
        "augmentation": "none",
    }
    return Plan().changed({**start, **settings})


@pytest.fixture(scope="module")
def generated_once(station_once: Path, tmp_path_factory: pytest.TempPathFactory) -> Path:
    """The station with run 2 that draws of noise."""
    folder = Path(shutil.copytree(station_once, tmp_path_factory.mktemp("generated") / "pollen"))
    place = Workspace.open(folder)
    finish(execute(place, place.claim_run(small()), lambda: False))
    return folder


@pytest.fixture
def generating(generated_once: Path, tmp_path: Path) -> Workspace:
    return Workspace.open(Path(shutil.copytree(generated_once, tmp_path / "pollen")))


def epochs(run: Run) -> tuple[EpochEvent, ...]:
    return RunReader(run).view().epochs


def test_a_run_tells_both_losses_rates_and_how_drawings_look(generating: Workspace) -> None:
    view = RunReader(generating.run(2)).view()
    assert view.state == "done"
    assert view.loss_function == "hinge loss of the generator"
    for epoch in view.epochs:
        assert epoch.validation is not None
        assert epoch.training.more.keys() | epoch.validation.more.keys() == GENERATED.keys()
        assert epoch.training.more["discriminator_learning_rate"] == pytest.approx(1e-3)
        assert epoch.learning_rate == 1e-3
        assert 0 < epoch.validation.more["variety"] < 5
        assert epoch.validation.accuracy is None
        assert epoch.by_class is None
        assert epoch.health is not None
        plan = generating.run(2).plan()
        for name, update in zip([node.name for node in plan.network.nodes], epoch.health.update, strict=True):
            assert (update is not None) == (name in read_model(generating.run(2).model).weights), name
        assert "variety" in epoch.validation.in_words
        assert "told apart" in epoch.training.in_words
        away = replace(epoch.training, loss=-0.5)
        assert "-" not in away.in_words + away.main_in_words, "a minus sign, not a hyphen"
    best = view.best
    assert best is not None
    assert best.epoch == 2, "the last epoch counts"
    assert best.validation is not None
    assert best.validation.main == best.validation.more["variety"]


def test_both_networks_learn_and_each_by_its_own_optimiser(generating: Workspace) -> None:
    run = generating.run(2)
    plan, model = run.plan(), read_model(run.checkpoints / "last.alens")
    setup = finish(prepare(generating, generating.claim_run(plan), None))
    begun = setup.network.weights
    moved = {name for name, arrays in begun.items() for key, a in arrays.items() if not np.array_equal(a, model.weights[name][key])}  # fmt: skip  # noqa: E501
    assert moved == begun.keys()
    own = setup.network.plan.discriminator
    still = small(**{"optimiser.learning_rate": 1e-8, "training.epochs": 1})
    weights = read_model(finish(execute(generating, generating.claim_run(still), lambda: False)).run.checkpoints / "last.alens").weights  # fmt: skip  # noqa: E501
    for name, arrays in begun.items():
        apart = max(float(np.abs(array - weights[name][key]).max()) for key, array in arrays.items() if array.ndim > 1) if any(a.ndim > 1 for a in arrays.values()) else None  # fmt: skip  # noqa: E501
        if apart is not None:
            assert (apart > 1e-5) == (name in own), name


def test_each_side_begins_and_slows_down_in_its_own_way(generating: Workspace) -> None:
    settings = {
        "discriminator_initialisation": "constant",
        "discriminator_initialisation.value": 0.02,
        "discriminator_schedule": "exponential",
        "discriminator_schedule.gamma": 0.1,
    }
    claimed = generating.claim_run(small(**settings))
    network = finish(prepare(generating, claimed, None)).network
    kernel = network.weights["convolution 1"]["kernel"]
    assert np.ptp(kernel) == 0
    assert kernel.flat[0] == np.float32(0.02)
    assert network.weights["fully connected 2"]["matrix"].std() > 0
    finish(execute(generating, claimed, lambda: False))
    one, two = epochs(claimed)
    assert one.learning_rate == two.learning_rate == 1e-3
    rates = [epoch.training.more["discriminator_learning_rate"] for epoch in (one, two)]
    assert rates[1] == pytest.approx(rates[0] / 10, rel=0.01)


def test_a_frozen_discriminator_keeps_its_bits_while_the_generator_learns(generating: Workspace) -> None:
    table = small(**{"training.epochs": 1}).write()
    plan = Plan.read(table)
    own = plan.network.discriminator
    for row in table["network"]:
        if row["name"] in own:
            row["lr_multiplier"] = 0.0
    claimed = generating.claim_run(Plan.read(table))
    begun = finish(prepare(generating, claimed, None)).network.weights
    trained = read_model(finish(execute(generating, claimed, lambda: False)).run.checkpoints / "last.alens").weights
    for name, arrays in begun.items():
        same = all(np.array_equal(array, trained[name][key]) for key, array in arrays.items())
        assert same == (name in own), name


@pytest.mark.parametrize(
    "settings",
    [
        {},
        {"task.generator_steps": 2, "averaging": "none", "task.spectral_normalisation": False},
        {
            "task.discriminator_steps": 3,
            "discriminator_schedule": "cosine",
            "optimiser": "sgd",
            "averaging": "stochastic weight averaging",
            "task.mismatched": True,
        },
    ],
    ids=["as it starts", "two steps of the generator", "three of the discriminator"],
)
def test_a_stopped_run_goes_on_to_the_same_bits(settings: dict[str, Any], generating: Workspace) -> None:
    plan = small(**settings)
    whole = finish(execute(generating, generating.claim_run(plan), lambda: False))
    stopped, steps = generating.claim_run(plan), iter([False] * 7 + [True] * 1000)
    assert finish(execute(generating, stopped, lambda: next(steps))).outcome.state == "stopped"
    command("train", generating.folder, "--resume", stopped.number)
    assert RunReader(stopped).view().state == "done"
    for file in ("last.alens", "best.alens"):
        one, other = (read_model(run.checkpoints / file).weights for run in (whole.run, stopped))
        for node, arrays in one.items():
            for name, array in arrays.items():
                assert np.array_equal(array, other[node][name]), (file, node, name)
    assert [e.training for e in epochs(whole.run)] == [e.training for e in epochs(stopped)]


def test_the_generator_steps_when_its_turn_has_come(generating: Workspace) -> None:
    """With more discriminator steps than batches the generator never does; its optimiser has taken no step."""
    plan = small(**{"task.discriminator_steps": 100, "training.epochs": 1})
    setup = finish(prepare(generating, claimed := generating.claim_run(plan), None))
    begun = setup.network.copy_weights()
    trained = read_model(finish(execute(generating, claimed, lambda: False)).run.checkpoints / "last.alens").weights
    for name, arrays in begun.items():
        same = all(np.array_equal(array, trained[name][key]) for key, array in arrays.items())
        assert same == (name not in setup.network.plan.discriminator), name
    with ThreadPool(2) as pool:
        learner = setup.learner(claimed, pool, ALONE)
        every = next(iter(setup.feed.examples(16, 0)))
        for number in range(6):
            learner.learn(every, StepContext(7, 0, number, 0), 6)
        assert learner.optimiser.steps == 0
        assert learner.memory()["/discriminator_steps"][0] == 6


def test_labels_are_looked_at_only_where_the_network_is_told_them(generating: Workspace) -> None:
    results = []
    for name in ("generator", "generator, by class"):
        setup = finish(prepare(generating, claimed := generating.claim_run(small(network=name)), None))
        order = np.arange(len(setup.feed.members))
        batches = [setup.feed.batch(0, 0, order)]
        setup.feed.labels = (setup.feed.labels + 1) % setup.feed.classes
        batches.append(setup.feed.batch(0, 0, order))
        assert np.array_equal(batches[0].targets, batches[1].targets)
        with ThreadPool(1) as pool:
            learner = setup.learner(claimed, pool, ALONE)
            results.append([learner.loss_on(batch) for batch in batches])
    assert results[0][0] == results[0][1]
    assert results[1][0] != results[1][1]


def test_the_model_holds_the_averaged_generator_and_the_discriminator_as_it_is_used(generating: Workspace) -> None:
    run = generating.run(2)
    last, best = (read_model(run.checkpoints / f"{name}.alens") for name in ("last", "best"))
    own = last.plan.discriminator
    assert best.output == "images"
    for name, arrays in best.weights.items():
        for key, array in arrays.items():
            if array.ndim < 2:
                continue
            if name in own & last.plan.judges:
                largest = np.linalg.svd(array.reshape(-1, array.shape[-1]), compute_uv=False)[0]
                assert largest == pytest.approx(1, abs=0.15), name
            else:
                assert np.array_equal(array, last.weights[name][key]) == (name in own), name


def test_the_film_shows_every_class_of_the_same_noise(generating: Workspace) -> None:
    run = generating.run(2)
    classes = len(read_model(run.model).classes)
    assert frames(run.film, 2) == [1, 2]
    one, two = (read_frame(run.film, epoch) for epoch in (1, 2))
    assert one is not None
    assert two is not None
    assert len(one.images) == len(one.again) == 0
    assert len(one.samples) == 4 * classes
    assert not np.array_equal(one.samples, two.samples)


def test_drawings_stand_by_class_of_the_same_noise_and_one_class_can_be_named(
    generating: Workspace, tmp_path: Path
) -> None:
    folder = str(generating.folder)
    drawn = finish(carry_out(DrawImages(folder, 2, count=20)))
    classes = drawn.classes
    each = 20 // len(classes)
    assert drawn.columns == each
    assert drawn.labels.tolist() == np.repeat(np.arange(len(classes)), each).tolist()
    assert np.array_equal(drawn.codes[:each], drawn.codes[each : 2 * each])
    assert len(np.unique(drawn.codes[:each], axis=0)) == each
    assert not np.array_equal(drawn.images[:each], drawn.images[each : 2 * each])
    one = finish(carry_out(DrawImages(folder, 2, count=5, class_name=classes[1], file=str(tmp_path / "d.npz"))))
    assert one.labels.tolist() == [1] * 5
    assert f"all {classes[1]}" in next(one.words())
    with np.load(tmp_path / "d.npz") as stored:
        assert stored["labels"].tolist() == [1] * 5
        assert np.array_equal(stored["images"], one.images)
    again = finish(carry_out(Decode(folder, 2, str(tmp_path / "d.npz"), classes[1])))
    assert np.array_equal(again.images, one.images)
    grid = finish(carry_out(DrawImages(folder, 2, "manifold", 9, class_name=classes[2])))
    assert grid.labels.tolist() == [2] * 9
    assert command("draw", folder, 2, "--class", classes[0], "--count", 3).startswith("3 images drawn by run 2")
    model = read_model(generating.run(2).model)
    pair = Coder(model.network())
    pixels = model.preprocessor.pixels(pair.decode(one.codes, None, one.labels))
    assert np.array_equal(pixels, one.images)


def test_fidelity_is_measured_by_a_run_or_a_model_and_says_its_spread(generating: Workspace, tmp_path: Path) -> None:
    folder = str(generating.folder)
    result = finish(carry_out(MeasureFidelity(folder, 2, count=60, most=6, file=str(tmp_path / "pairs.png"))))
    assert result.features == "run 1"
    assert result.drawings == result.images
    assert result.whole.distance > result.apart.distance > 0
    assert result.whole.recall <= result.apart.recall
    assert len(result.halves) == 2
    assert result.accuracy is not None
    assert set(result.by_class) == set(result.classes)
    assert result.accuracy == pytest.approx(np.mean(list(result.by_class.values())), abs=0.35)
    assert result.real is not None
    assert result.real > 0.2
    assert 0 <= result.copies <= 1
    assert len(result.drawn) == len(result.beside) == len(result.nearest) == 6
    assert (tmp_path / "pairs.png").stat().st_size > 100
    sets = generating.run(2).images()
    assert sets is not None
    assert all(sets[1][number - 1] == "training" for number in result.nearest.tolist())
    words = "\n".join(result.words())
    for part in ("Fréchet distance", "Precision", "Recall", "nearer to a training image", "pairs.png"):
        assert part in words
    other = finish(carry_out(MeasureFidelity(folder, 2, features="shelf:motifs", count=40)))
    assert other.features == "motifs"
    assert other.accuracy is None
    table = last_object(command("fidelity", folder, 2, "--count", 40, "--json"))
    assert table["whole"]["distance"] > 0


def test_without_validation_images_copies_are_not_told(generating: Workspace) -> None:
    plan = small(**{"split.validation_fraction": 0.0, "training.epochs": 1})
    run = finish(execute(generating, generating.claim_run(plan), lambda: False)).run
    result = finish(carry_out(MeasureFidelity(str(generating.folder), run.number, count=40)))
    assert result.copies is None
    assert any("cannot be told" in line for line in result.words())


def test_real_images_as_drawings_are_as_near_as_real_images_are(
    generating: Workspace, monkeypatch: pytest.MonkeyPatch
) -> None:
    """What must pass: a generator that gives training images comes near, and is told to copy."""
    model = read_model(generating.run(2).model)
    data = finish(gather(generating, generating.run(2).plan(), generating.run(2), model.preprocessor.settings))
    data = data.seen_by(model.classes)
    members = data.drawn(data.members("training"), 60)

    def copied(self: Coder, codes: np.ndarray, pool: Any = None, labels: Any = None) -> np.ndarray:
        start = copied.at  # type: ignore[attr-defined]
        copied.at += len(codes)  # type: ignore[attr-defined]
        return np.asarray(data.pixels[members[start : start + len(codes)]] / np.float32(255))

    copied.at = 0  # type: ignore[attr-defined]
    monkeypatch.setattr(Coder, "decode", copied)
    result = finish(carry_out(MeasureFidelity(str(generating.folder), 2, count=60)))
    assert result.whole.distance < 1e-3
    assert result.whole.precision == result.whole.recall == 1
    assert result.copies == 1
    assert result.nearest.tolist() == (members[: len(result.nearest)] + 1).tolist()
    assert result.accuracy is not None


def test_in_double_precision_all_is_double(generating: Workspace) -> None:
    plan = small(**{"training.precision": "double", "training.epochs": 1})
    trained = finish(execute(generating, generating.claim_run(plan), lambda: False))
    weights = read_model(trained.run.checkpoints / "last.alens").weights
    assert {array.dtype for arrays in weights.values() for array in arrays.values()} == {np.dtype(np.float64)}


@pytest.mark.parametrize(
    ("request_", "fault", "words"),
    [
        (lambda f: EncodeImages(f, 2), BadUsage, "gives images no codes"),
        (lambda f: Reconstruct(f, 2), BadUsage, "gives images no codes"),
        (lambda f: DrawImages(f, 2, "between", first=1, second=2), BadUsage, "gives images no codes"),
        (lambda f: DrawImages(f, 2, class_name="nothing of the kind"), BadUsage, "class"),
        (lambda f: MeasureFidelity(f, 1), BadUsage, "draws no images"),
        (lambda f: LayerActivity(f, 2, "convolution 1"), BadValue, "looks at no image"),
        (lambda f: CompareLayers(f, 2), BadValue, "looks at no image"),
        (lambda f: MeasureFidelity(f, 2, features="2"), BadUsage, "draws of noise"),
        (lambda f: MeasureFidelity(f, 2, file="pairs.npy"), BadUsage, "its ending"),
    ],
)
def test_what_it_cannot_do_is_a_sentence(request_: Any, fault: type[Exception], words: str, generating: Workspace) -> None:  # fmt: skip  # noqa: E501
    with pytest.raises(fault, match=words):
        finish(carry_out(request_(str(generating.folder))))


def test_it_is_exported_as_onnx_and_asked_there(generating: Workspace, tmp_path: Path) -> None:
    result = finish(carry_out(ExportModel(str(generating.folder), "2", str(tmp_path / "g.onnx"), sample=5)))
    assert (result.images, result.same, result.draws) == (5, 5, True)
    assert result.most < 1e-4
    assert "draws all of 5 images" in list(result.words())[1]


def test_python_draws_and_measures(generating: Workspace) -> None:
    run = al.open_workspace(generating.folder).run(2)
    classes = run.draw(count=12).classes
    assert run.draw(count=4, class_name=classes[0]).labels.tolist() == [0] * 4
    assert run.fidelity(count=40).run == 2


def test_rehearsed_swept_priced_and_listed(generating: Workspace) -> None:
    folder = str(generating.folder)
    plan = generating.folder / "pair.toml"
    save_plan(plan, small())
    assert "batches" in command("rehearse", folder, "--plan", plan)
    rows = command("runs", folder)
    assert re.search(r" 0\.\d\d ", rows.splitlines()[2])
    assert command("plan", "show", "--plan", plan).count("batch normalisation") == 2
    advised = command("advise", folder, 2)
    assert "advise" in advised or "drawings" in advised
    assert "--try" not in advised
    assert run_words("advise", folder, 2, "--try", 1) == 2
    assert run_words("rates", folder, "--plan", plan) == 2


def test_classes_that_do_not_match_come_as_often_as_they_are() -> None:
    counts, random = np.array([700, 200, 100, 0]), np.random.default_rng(0)
    labels = np.repeat(np.arange(4), 20_000)
    others = others_than(labels, counts, random.random(len(labels)))
    assert (others != labels).all()
    for label, shares in ((0, (0, 2 / 3, 1 / 3, 0)), (1, (7 / 8, 0, 1 / 8, 0)), (3, (0.7, 0.2, 0.1, 0))):
        drawn = np.bincount(others[labels == label], minlength=4) / 20_000
        assert drawn == pytest.approx(shares, abs=0.015)
    one = others_than(np.zeros(9000, np.int64), np.array([50, 0, 0]), random.random(9000))
    assert np.bincount(one, minlength=3) / 9000 == pytest.approx([0, 0.5, 0.5], abs=0.03)
    assert others_than(np.array([0, 1]), np.array([3, 3]), np.array([0.0, 0.999])).tolist() == [1, 0]
