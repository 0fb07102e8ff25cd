"""Many maps of one image, what classes rest on, a layer's activity and raw numbers, neighbours, changes with maps."""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path

import numpy as np
import pytest
from tests.answering import answer, by, change

from attentive_lens.core.jobs import finish
from attentive_lens.core.values import in_words
from attentive_lens.desk.images.data import gather
from attentive_lens.desk.requests.activity import LayerActivity
from attentive_lens.desk.requests.causes import Causes
from attentive_lens.desk.requests.explaining import Explain, Trust
from attentive_lens.desk.requests.inspecting import Channels, Neighbours, TryChanges
from attentive_lens.desk.requests.maps import ClassMaps, Maps
from attentive_lens.desk.requests.models import Score
from attentive_lens.desk.requests.numbers import LayerNumbers
from attentive_lens.desk.requests.remedies import WhatNext
from attentive_lens.desk.requests.subjects import FileImage, RunImage
from attentive_lens.desk.tasks import carry_out
from attentive_lens.engine.losses import Loss, one_hot
from attentive_lens.errors import BadUsage, BadValue, LensError, NotHere
from attentive_lens.explaining.methods import MAP_METHODS
from attentive_lens.formats.reading import read_checkpoint, read_model
from attentive_lens.plan.plan import Plan
from attentive_lens.predicting import Predictor
from attentive_lens.workspace import Workspace
from attentive_lens.workspace.corrections import Correction

IMAGE = 5
SMALL = change("cover", row=0.5, column=0.5, side=0.4)


def test_every_method_makes_the_map_that_explain_makes_and_the_quick_ones_come_first(station: Workspace) -> None:
    folder = str(station.folder)
    job, shown = carry_out(Maps(RunImage(folder, 1, IMAGE))), []
    while True:
        try:
            summary = next(job)
        except StopIteration as end:
            made = end.value
            break
        if summary.so_far is not None:
            shown.append(len(summary.so_far.maps))
    assert shown == sorted(shown)
    assert set(range(len(MAP_METHODS))) <= set(shown)
    slow = [each.method.slow for each in made.maps]
    assert slow == sorted(slow)
    assert {each.method.kind for each in made.maps} == set(MAP_METHODS)
    for each in made.maps:
        explained = answer(Explain(RunImage(folder, 1, IMAGE), each.method)).maps[0]
        scale = float(np.abs(explained.values).max())
        assert each.values == pytest.approx(explained.values, abs=1e-4 * scale), each.method
        gain = explained.trust.gain
        if abs(gain.value - gain.limit) > 0.02 * gain.reach:  # pixels of like strength may change places
            assert each.passed == explained.trust.passed, each.method
    assert made.target == answer(Explain(RunImage(folder, 1, IMAGE))).predicted


def test_maps_of_a_difference_are_those_of_explain(station: Workspace) -> None:
    folder = str(station.folder)
    wrong = answer(Score(folder, 1, "training")).wrong[0].image
    explained = answer(Explain(RunImage(folder, 1, wrong), by("gradient")))
    methods = (by("gradient"), by("contribution"))
    made = answer(Maps(RunImage(folder, 1, wrong), methods, explained.predicted, str(explained.true)))
    assert [each.method for each in made.maps] == list(methods)
    for each in made.maps:
        difference = answer(Explain(RunImage(folder, 1, wrong), each.method)).difference
        scale = np.abs(difference).max()
        assert each.values == pytest.approx(difference, abs=1e-3 * float(scale)), each.method


@pytest.mark.parametrize(
    ("settings", "part"),
    [
        ({"target": "spinny"}, "spiny"),
        ({"against": "spinny"}, "spiny"),
        ({"methods": (by("integrated_gradients", baseline="image 99999"),)}, "99"),
    ],
)
def test_what_maps_cannot_be_asked_is_said(settings: dict[str, object], part: str, station: Workspace) -> None:
    with pytest.raises(LensError, match=part):
        answer(replace(Maps(RunImage(str(station.folder), 1, IMAGE)), **settings))


@pytest.mark.parametrize(("layer", "part"), [("relu 9", "Did you mean «relu"), ("output", "one row of values")])
def test_a_layer_that_class_activation_cannot_weigh_is_said(layer: str, part: str, station: Workspace) -> None:
    with pytest.raises(LensError, match=part):
        answer(Explain(RunImage(str(station.folder), 1, IMAGE), by("class_activation", layer=layer)))


@pytest.mark.parametrize(
    ("words", "part"),
    [
        ("gradiant", "Did you mean «gradient»"),
        ("integrated_gradients baseline=blured", "Did you mean «blurred»"),
        ("integrated_gradients baseline='image 0'", "image N"),
        ("integrated_gradients layer=x", "method.integrated_gradients.layer"),
        ("occlusion layer=x", "Leave it out"),
        ("gradient layer=x", "Known are: channel"),
        ("gradient black", "name=value"),
        ("class_activation layer='relu", "quotation"),
    ],
)
def test_words_that_name_no_method_are_said(words: str, part: str) -> None:
    with pytest.raises(LensError, match=part):
        in_words("--method", MAP_METHODS, words)


def test_where_integrated_gradients_begin_is_where_they_add_up_from(station: Workspace) -> None:
    folder = str(station.folder)
    model = read_model(station.run(1).model)
    data = finish(gather(station, station.run(1).plan(), station.run(1)))
    predictor = Predictor.of(model)
    starts = {"black": np.zeros_like(data.pixels[0]), "image 9": data.pixels[8]}
    image = predictor.prepare(data.pixels[IMAGE - 1][None])
    seen = []
    for baseline, pixels in starts.items():
        result = answer(Explain(RunImage(folder, 1, IMAGE), by("integrated_gradients", baseline=baseline))).maps[0]
        label, other = model.classes.index(result.target), model.classes.index(result.against)
        apart = [
            scores[0, label] - scores[0, other]
            for scores in map(predictor.scores, (image, predictor.prepare(pixels[None])))
        ]
        rise = apart[0] - apart[1]
        assert result.trust.completeness is not None
        assert result.trust.completeness.expected == pytest.approx(rise, abs=1e-4)
        seen.append(result.values)
    assert not np.allclose(*seen)
    plain = answer(Explain(RunImage(folder, 1, IMAGE), by("class_activation"))).maps[0].values
    early = answer(Explain(RunImage(folder, 1, IMAGE), by("class_activation", layer="convolution 1"))).maps[0].values
    assert not np.allclose(plain, early)
    with pytest.raises(BadUsage, match="a model file has none"):
        file = str(next(station.folder.rglob("*.png")))
        subject = FileImage(file, str(station.run(1).model))
        answer(Explain(subject, by("integrated_gradients", baseline="image 9")))


def test_what_classes_rest_on_is_the_mean_of_their_right_answers_maps(station: Workspace) -> None:
    folder = str(station.folder)
    result = answer(ClassMaps(folder, 1, "training"))
    scores = answer(Score(folder, 1, "training"))
    right = {name: [] for name in scores.classes}
    for each in scores.answers:
        if each.predicted == each.true:
            right[scores.classes[each.true]].append(each.image)
    assert [each.name for each in result.classes] == [name for name in scores.classes if right[name]]
    data = finish(gather(station, station.run(1).plan(), station.run(1)))
    for each in result.classes:
        assert sorted(each.images) == sorted(right[each.name])
        pixels = data.pixels[np.array(each.images) - 1]
        assert np.abs(each.mean.astype(float) - pixels.mean(axis=0)).max() <= 0.51
        assert each.map.min() >= 0
        assert float(each.map.sum()) == pytest.approx(1, abs=1e-4)
    one = result.classes[0]
    maps = [answer(Explain(RunImage(folder, 1, image), result.method)).maps[0].values for image in one.images]
    shares = [np.maximum(values, 0) / np.maximum(values, 0).sum() for values in maps]
    assert one.map == pytest.approx(np.mean(shares, axis=0), abs=1e-5)
    with pytest.raises(BadValue, match="at least 1"):
        answer(ClassMaps(folder, 1, "training", images=0))


def test_a_model_that_answers_nothing_rightly_is_told_so(station: Workspace) -> None:
    run = station.run(1)
    model = read_model(run.model)
    weights = {node: dict(arrays) for node, arrays in model.weights.items()}
    weights[model.plan.nodes[-1].name]["bias"] = np.eye(6, dtype=np.float32)[0] * 1e6
    replace(model, weights=weights).write(run.model)  # the first class is said of everything
    result = answer(ClassMaps(str(station.folder), 1, "training"))
    assert [each.name for each in result.classes] == [model.classes[0]]
    rows = finish(gather(station, run.plan(), run)).collection.rows
    station.catalogue.correct({row.number: Correction(label=1) for row in rows if row.label == 0})
    with pytest.raises(NotHere, match="answers no training image rightly"):
        answer(ClassMaps(str(station.folder), 1, "training"))


def test_the_activity_of_a_layer_is_what_its_outputs_are(station: Workspace) -> None:
    folder = str(station.folder)
    result = answer(LayerActivity(folder, 1, "relu 1"))
    model = read_model(station.run(1).model)
    data = finish(gather(station, station.run(1).plan(), station.run(1)))
    members = data.members("training")
    outs = Predictor.of(model).outputs("relu 1", Predictor.of(model).prepare(data.pixels[members]))
    assert result.images_looked_at == result.images_in_all == len(members)
    assert result.counts.sum() == outs.size
    for label in range(len(model.classes)):
        own = outs[data.labels[members] == label]
        assert result.mean[label] == pytest.approx(own.mean(axis=(0, 1, 2)), abs=1e-4)
    assert result.used == pytest.approx((outs > 0).any(axis=(1, 2)).mean(axis=0), abs=1e-6)
    wanted = np.histogram(np.clip(outs, result.edges[0], result.edges[-1]), result.edges)[0]
    assert np.array_equal(result.counts, wanted)
    assert result.edges[0] == 0
    again = answer(LayerActivity(folder, 1, "relu 1"))
    assert np.array_equal(again.counts, result.counts)
    assert answer(LayerActivity(folder, 1, "output")).mean.shape == (6, 6)
    with pytest.raises(LensError, match="relu 1"):
        answer(LayerActivity(folder, 1, "relo 1"))


def test_raw_numbers_are_the_models_and_their_gradient_is_that_of_the_loss(station: Workspace) -> None:
    folder, run = str(station.folder), station.run(1)
    model = read_model(run.model)
    seen = answer(LayerNumbers(folder, 1, "convolution 2", "kernel", IMAGE))
    assert np.array_equal(seen.values, model.weights["convolution 2"]["kernel"])
    assert seen.arrays[0] == "kernel"
    data = finish(gather(station, run.plan(), run))
    label = int(data.labels[IMAGE - 1])

    def loss_with(kernel: np.ndarray) -> float:
        weights = {node: dict(arrays) for node, arrays in model.weights.items()}
        weights["convolution 2"]["kernel"] = kernel
        network = replace(model, weights=weights).network()
        raw = network.forward(model.preprocessor.apply(data.pixels[IMAGE - 1][None])).outputs[network.output]
        return float(Loss()(raw.astype(np.float64), one_hot(np.array([label]), 6, np.float64))[0][0])

    assert seen.loss == pytest.approx(loss_with(seen.values), rel=1e-5)
    assert seen.gradient is not None
    place = np.unravel_index(int(np.abs(seen.gradient).argmax()), seen.gradient.shape)
    step = 1e-2
    moved = []
    for sign in (1, -1):
        kernel = seen.values.copy()
        kernel[place] += sign * step
        moved.append(loss_with(kernel))
    assert (moved[0] - moved[1]) / (2 * step) == pytest.approx(float(seen.gradient[place]), rel=0.05)
    last = read_checkpoint(run.model.with_name("last.alens"))
    stored = {key.rsplit("/", 1)[1]: value for key, value in last.optimiser.items() if "convolution 2/kernel/" in key}
    assert stored
    assert {key: value.tolist() for key, value in seen.optimiser.items()} == {k: v.tolist() for k, v in stored.items()}
    assert seen.epoch == last.card["epoch"]
    without = answer(LayerNumbers(folder, 1, "convolution 2"))
    assert (without.array, without.gradient, without.loss) == ("kernel", None, None)
    for layer, array, part in (("relu 1", "", "nothing in it is learned"), ("convolution 2", "kernal", "kernel")):
        with pytest.raises(LensError, match=part):
            answer(LayerNumbers(folder, 1, layer, array))


def test_the_nearest_right_answer_of_each_class_is_right_and_nearest(station: Workspace) -> None:
    folder = str(station.folder)
    result = answer(Neighbours(RunImage(folder, 1, IMAGE), "", 200))
    scores = answer(Score(folder, 1, "training"))
    right = {each.image for each in scores.answers if each.predicted == each.true}
    for key in ("predicted", "true"):
        name = result.classes[key]
        wanted = next((near for near in result.near[key] if near.image in right), None)
        assert result.right.get(name) == wanted
    assert {scores.classes[each.true] for each in scores.answers if each.image in right and each.image != IMAGE} == set(
        result.right
    )


def test_a_file_has_the_neighbours_the_channels_and_the_changes_of_its_image(station: Workspace) -> None:
    folder, run = str(station.folder), station.run(1)
    rows = finish(gather(station, run.plan(), run)).collection.rows
    wrong = answer(Score(folder, 1, "training")).wrong[0].image
    file = str(Path(folder) / rows[wrong - 1].file)
    known = answer(Neighbours(RunImage(folder, 1, wrong)))
    of_run = FileImage(file, workspace=folder, run=1, against=known.classes["true"])
    new = answer(Neighbours(of_run))
    assert new.classes == known.classes
    assert new.near["predicted"] == known.near["predicted"]
    assert new.near["true"][0].image == wrong  # an image that is new is near itself
    assert set(answer(Neighbours(replace(of_run, against=""))).near) == {"predicted"}
    of_model = FileImage(file, str(run.model))
    summary = answer(Channels(RunImage(folder, 1, wrong), "relu 2", 1))
    of_file = answer(Channels(replace(of_model, against=summary.true), "relu 2", 1))
    assert of_file == summary
    tried = answer(TryChanges(RunImage(folder, 1, wrong), (SMALL,), smallest=False, method=by("gradient")))
    again = answer(TryChanges(of_model, (SMALL,), False, by("gradient")))
    assert tried.after == again.after
    assert np.array_equal(tried.maps, again.maps)
    with pytest.raises(BadUsage, match="a model file has none"):
        answer(TryChanges(of_model, (change("mix", image=1),), False))
    mixed = answer(TryChanges(of_run, (change("mix", image=1),), False))
    assert np.array_equal(
        mixed.pixels, answer(TryChanges(RunImage(folder, 1, wrong), (change("mix", image=1),), False)).pixels
    )


def test_a_changed_image_has_the_map_that_it_would_have_as_a_file(station: Workspace, tmp_path: Path) -> None:
    from PIL import Image

    folder = str(station.folder)
    tried = answer(TryChanges(RunImage(folder, 1, IMAGE), (SMALL,), smallest=False, method=by("integrated_gradients")))
    file = tmp_path / "changed.png"
    Image.fromarray(tried.pixels[0]).save(file)
    explained = answer(Explain(FileImage(str(file), str(station.run(1).model))))
    assert explained.predicted == tried.after[0].predicted
    assert tried.maps is not None
    assert np.array_equal(tried.maps[0], explained.maps[0].values)


def test_an_image_is_mixed_with_another(station: Workspace) -> None:
    folder = str(station.folder)
    data = finish(gather(station, station.run(1).plan(), station.run(1)))
    tried = answer(TryChanges(RunImage(folder, 1, IMAGE), (change("mix", image=9, share=0.25),), smallest=False))
    wanted = 0.75 * data.pixels[IMAGE - 1].astype(float) + 0.25 * data.pixels[8]
    assert np.abs(tried.pixels[0] - wanted).max() <= 0.51
    for wrong in ({"image": 1.5}, {"image": 9, "share": 2}, {"image": "x"}, {"share": float("nan")}, {"picture": 9}):
        with pytest.raises(LensError, match=r"change\.mix"):
            change("mix", **wrong)


def test_every_cause_has_its_share_and_remedies_that_can_be_carried_out(station: Workspace) -> None:
    result = answer(Causes(str(station.folder), 1, "training"))
    assert sum(group.share for group in result.groups) == pytest.approx(1)
    names = set(station.catalogue.classes())
    kinds = set()
    for group in result.groups:
        assert group.share == pytest.approx(len(group.images) / result.mistakes)
        assert group.remedies
        for remedy in group.remedies:
            kinds.add(remedy.kind)
            assert remedy.words
            assert not remedy.forecast.endswith(".")
            if remedy.plan is not None:
                Plan.read(remedy.plan)
            if remedy.merges is not None:
                assert set(remedy.merges) <= names
                pair = set(remedy.merges)
                rows = finish(gather(station, station.run(1).plan(), station.run(1))).collection.rows
                scores = {each.image: each for each in answer(Score(str(station.folder), 1, "training")).answers}
                inside = [
                    image
                    for image in group.images
                    if {found_name(station, rows[image - 1].label), found_name(station, scores[image].predicted)}
                    == pair
                ]
                assert remedy.turned == pytest.approx(len(inside) / len(group.images))
            if remedy.turned is None and remedy.kind in ("weight", "resolution", "collect"):
                assert remedy.forecast.startswith("Not tried")
    assert "decide" in kinds


def found_name(station: Workspace, label: int) -> str:
    return station.catalogue.classes()[label]


def test_an_image_of_a_class_the_model_does_not_know_is_told_so_by_everything(station: Workspace) -> None:
    station.catalogue.correct({IMAGE: Correction(label=6)}, new_classes=["odd"])
    folder = str(station.folder)
    for request in (
        Explain(RunImage(folder, 1, IMAGE)),
        Maps(RunImage(folder, 1, IMAGE)),
        Neighbours(RunImage(folder, 1, IMAGE)),
        Trust(RunImage(folder, 1, IMAGE)),
        LayerNumbers(folder, 1, "convolution 1", image=IMAGE),
        Channels(RunImage(folder, 1, IMAGE), "relu 2"),
        TryChanges(RunImage(folder, 1, IMAGE), (SMALL,)),
    ):
        with pytest.raises(NotHere, match="its class «odd» came after the run was trained"):
            answer(request)


def test_a_script_looks_inside_as_the_window_does(station: Workspace) -> None:
    import attentive_lens as al

    folder, run = str(station.folder), al.open_workspace(station.folder).run(1)
    assert set(run.maps(IMAGE)) == set(MAP_METHODS)
    black = (
        answer(Explain(RunImage(folder, 1, IMAGE), by("integrated_gradients", baseline="black")))
        .map("predicted")
        .values
    )
    assert np.array_equal(run.explain(IMAGE, baseline="black")["predicted"], black)
    assert [each.name for each in run.class_maps("training")] == [
        each.name for each in answer(ClassMaps(folder, 1, "training")).classes
    ]
    assert all(each.remedies for each in run.causes("training"))
    assert run.what_next() == answer(WhatNext(folder, 1))
    assert np.array_equal(run.activity("relu 1").used, answer(LayerActivity(folder, 1, "relu 1")).used)
    assert run.numbers("convolution 1", image=IMAGE).gradient is not None
    (covered,) = run.try_changes(IMAGE, SMALL.write_kind())
    assert covered == answer(TryChanges(RunImage(folder, 1, IMAGE), (SMALL,), smallest=False)).after[0].probabilities
