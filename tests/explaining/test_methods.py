"""Map methods against closed forms, and what theory promises; trust must rank a true map above false ones."""

from __future__ import annotations

import numpy as np
import pytest
from scipy.ndimage import gaussian_filter
from tests.answering import by, probe_of
from tests.explaining.test_explaining import IMAGE, SHAPE, linear

from attentive_lens.core.random import random_generator
from attentive_lens.engine.network import Network
from attentive_lens.engine.threads import ThreadPool
from attentive_lens.errors import BadValue
from attentive_lens.explaining.methods import DEFAULT, MAP_METHODS
from attentive_lens.explaining.probe import Probe, Targets
from attentive_lens.explaining.regions import evaluated, marked
from attentive_lens.explaining.saliency import METHODS, map_method
from attentive_lens.explaining.saliency.class_activation import last_maps
from attentive_lens.explaining.saliency.integrated_gradients import BASELINES, IntegratedGradients
from attentive_lens.explaining.trust import (
    DRAWS,
    FRACTIONS,
    SMOOTH,
    _scores,
    gains,
    rank_correlation,
    stability,
    weight_randomisation,
)
from attentive_lens.plan.blocks import Residual, Squeeze, built
from attentive_lens.plan.layers import (
    AveragePooling,
    Convolution,
    Flatten,
    GlobalPooling,
    LayerSettings,
    MaxPooling,
    Output,
    PowerPooling,
    Relu,
    Resampling,
)
from attentive_lens.plan.network import NetworkPlan
from attentive_lens.plan.starters import STARTERS

ADDING = ("gradient_times_input", "integrated_gradients", "contribution", "contribution_alpha_beta")


def small(dtype: type = np.float64) -> Probe:
    return probe_of(Network.start(STARTERS["two blocks"].network.with_outputs(3), SHAPE, 1, dtype))


def graph() -> Probe:
    plan = built([Convolution(filters=4), Relu(), Residual(filters=6), Squeeze(reduction=2), GlobalPooling(), Output()])
    return probe_of(Network.start(plan.with_outputs(3), SHAPE, 1, np.float64))


def spot() -> tuple[Probe, np.ndarray, np.ndarray]:
    """A linear network that answers by one bright square, an image that has it, and where it is."""
    weights = np.zeros(SHAPE)
    weights[4:8, 9:13] = 1.0
    network = linear(weights)
    network.weights["output"]["bias"] = np.array([-2.0, 0.0])
    image = np.random.default_rng(2).normal(0, 0.05, SHAPE)
    image[4:8, 9:13] = 0.2
    return probe_of(network), image, weights.max(axis=2) > 0


@pytest.mark.parametrize("name", [name for name, method in MAP_METHODS.items() if method.signed])
def test_signed_maps_are_linear_in_what_they_explain(name: str) -> None:
    probe = small()
    both = map_method(name).maps(probe, IMAGE, Targets.classes([0, 2], 3))
    weights = Targets.classes([0, 2], 3).weights
    gap = map_method(name).maps(probe, IMAGE, Targets(weights[:1] - weights[1:]))[0]
    assert gap == pytest.approx(both[0] - both[1], abs=1e-5 * float(np.abs(both).max()))


def test_restoring_by_an_order_is_deleting_by_the_order_turned_round() -> None:
    probe = small()
    soft = np.zeros_like(IMAGE)
    order = np.random.default_rng(0).permutation(IMAGE.shape[0] * IMAGE.shape[1])
    deleted = _scores(probe, IMAGE, soft, [order])[0]
    restored = _scores(probe, soft, IMAGE, [order[::-1]])[0]
    assert pytest.approx(1) == FRACTIONS + FRACTIONS[::-1]
    assert restored == pytest.approx(deleted[::-1], abs=0.02), "but for a pixel at each step"
    assert not np.allclose(deleted, deleted[::-1], atol=1e-4)


def test_random_maps_gain_what_each_would_if_it_were_measured_alone() -> None:
    probe = small()
    height, width = IMAGE.shape[:2]
    (gain,) = gains(probe, IMAGE, np.ones((1, height, width), np.float32), [(0, 1)], [{}])
    noise = random_generator(0, "random maps").standard_normal((DRAWS // 2, height, width))
    maps = [sign * gaussian_filter(random_map, SMOOTH / 2) for sign in (1, -1) for random_map in noise]
    alone = np.array([gains(probe, IMAGE, map_[None].astype(np.float32), [(0, 1)], [{}])[0].value for map_ in maps])
    scale = 0.03 * float(np.abs(alone).max())
    assert alone[: DRAWS // 2] == pytest.approx(-alone[DRAWS // 2 :], abs=scale), "but for a pixel at each step"
    assert (gain.random, gain.spread, gain.best_random) == pytest.approx((0, alone.std(), alone.max()), abs=scale)


def test_no_images_are_asked_about_twice_for_orders_that_are_alike_or_turned_round(
    monkeypatch: pytest.MonkeyPatch,
) -> None:
    probe, asked_about = small(), []
    scores = probe.scores
    monkeypatch.setattr(probe, "scores", lambda images: asked_about.append(len(images)) or scores(images))
    map_ = np.random.default_rng(2).standard_normal(IMAGE.shape[:2]).astype(np.float32)
    one, two = gains(probe, IMAGE, np.stack([map_, -map_]), [(0, 1), (1, 0)], [{"next class": -map_}, {}])
    orders = DRAWS // 2 + 2 + 1
    assert sum(asked_about) == 2 * (orders * (len(FRACTIONS) - 2) + 2)
    assert one.rivals["next class"] == pytest.approx(-one.value)
    assert two.value == pytest.approx(one.value)


def from_the_mean() -> IntegratedGradients:
    """Each pixel's part as it is, from the mean of the training images."""
    return IntegratedGradients(by("integrated_gradients", baseline="training mean"), spread=0)


def test_methods_that_add_up_agree_on_a_linear_network() -> None:
    weights = np.random.default_rng(1).standard_normal(SHAPE)
    probe = probe_of(linear(weights))
    wanted = (weights * IMAGE).sum(axis=2)
    for method in (map_method("gradient_times_input"), from_the_mean()):
        assert method.maps(probe, IMAGE, Targets.classes([0], 2))[0] == pytest.approx(wanted, abs=1e-4)
    shared = map_method("contribution").maps(probe, IMAGE, Targets.classes([0], 2))[0]
    assert rank_correlation(shared, wanted) > 0.999


@pytest.mark.parametrize("baseline", BASELINES)
@pytest.mark.parametrize("probe", [small(), graph()], ids=["stack", "graph"])
def test_integrated_gradients_add_up_to_the_rise(baseline: str, probe: Probe) -> None:
    method, request = map_method(by("integrated_gradients", baseline=baseline)), Targets.classes([0, 2], 3)
    wanted = method.should_sum_to(probe, IMAGE, request)
    assert wanted is not None
    sums = method.maps(probe, IMAGE, request).sum(axis=(1, 2))
    assert sums == pytest.approx(wanted, abs=0.08 * float(np.abs(wanted).max()) + 1e-4)


@pytest.mark.parametrize("name", METHODS)
def test_every_method_takes_a_graph_and_probabilities(name: str) -> None:
    probe = graph()
    for of in ("score", "probability"):
        maps = map_method(name).maps(probe, IMAGE, Targets.classes([1, 2], 3, of))
        assert maps.shape == (2, *SHAPE[:2])
        assert np.isfinite(maps).all()


@pytest.mark.parametrize("name", ["gradient_times_input", "integrated_gradients", "occlusion", "random_masks"])
def test_the_map_of_a_difference_is_the_difference_of_maps(name: str) -> None:
    probe, method = small(), map_method(name)
    both = method.maps(probe, IMAGE, Targets.classes([0, 2], 3))
    gap = method.maps(probe, IMAGE, Targets(np.array([[1.0, 0.0, -1.0]])))[0]
    assert gap == pytest.approx(both[0] - both[1], abs=1e-4 * float(np.abs(both).max()))


def test_symmetric_pixels_have_equal_shares() -> None:
    weights = np.zeros(SHAPE)
    weights[3, 3] = weights[12, 12] = 0.7
    image = np.zeros(SHAPE)
    image[3, 3] = image[12, 12] = 0.5
    plain = {"integrated_gradients": from_the_mean()}
    for name in ADDING:
        method = plain.get(name) or map_method(name)
        map_ = method.maps(probe_of(linear(weights)), image, Targets.classes([0], 2))[0]
        assert map_[3, 3] == pytest.approx(map_[12, 12], rel=1e-5)
        assert map_[3, 3] > 0.1
        assert map_.sum() == pytest.approx(map_[3, 3] + map_[12, 12], rel=1e-4)
    probe, request = probe_of(linear(weights)), Targets.classes([0], 2)
    spread, whole = (
        method.maps(probe, image, request)[0]
        for method in (map_method("integrated_gradients"), IntegratedGradients(DEFAULT, spread=0))
    )
    assert spread.sum() == pytest.approx(whole.sum(), rel=1e-4), "what is spread out adds up to the same"
    assert spread[3, 3] == pytest.approx(spread[12, 12], rel=1e-5)


def test_networks_that_compute_the_same_have_the_same_gradients() -> None:
    """Implementation invariance: one layer, or two whose product it is."""
    weights = np.random.default_rng(3).standard_normal(SHAPE)
    one = linear(weights)
    two = Network.start(NetworkPlan.stack([Convolution(filters=3, kernel_size=1), Flatten(), Output()]).with_outputs(2),
                        SHAPE, 0, np.float64)  # fmt: skip
    mixing = np.random.default_rng(4).standard_normal((3, 3))
    two.weights["convolution 1"]["kernel"] = mixing.reshape(1, 1, 3, 3)
    undone = weights @ np.linalg.inv(mixing).T
    two.weights["output"]["matrix"] = np.stack([undone.reshape(-1), np.zeros(weights.size)], axis=1)
    for name in ("gradient", "gradient_times_input", "integrated_gradients", "occlusion", "smoothed_gradient"):
        maps = [map_method(name).maps(probe_of(net), IMAGE, Targets.classes([0], 2))[0] for net in (one, two)]
        assert maps[0] == pytest.approx(maps[1], abs=1e-4), name


@pytest.mark.parametrize("name", METHODS)
def test_every_method_finds_what_a_simple_network_rests_on(name: str) -> None:
    probe, image, where = spot()
    if name == "class_activation":
        with pytest.raises(BadValue, match="no feature maps"):
            map_method(name).maps(probe, image, Targets.classes([0], 2))
        return
    map_ = map_method(name).maps(probe, image, Targets.classes([0], 2))[0]
    assert map_[where].mean() > 3 * np.abs(map_[~where]).mean()
    assert where.reshape(-1)[map_.argmax()]


def test_class_activation_weighs_the_maps_of_the_layer_asked_for() -> None:
    probe = small()
    first = map_method(by("class_activation", layer="convolution 1")).maps(probe, IMAGE, Targets.classes([0], 3))[0]
    last = map_method(by("class_activation", layer="convolution 2")).maps(probe, IMAGE, Targets.classes([0], 3))[0]
    assert not np.allclose(first, last)
    assert np.array_equal(last, map_method("class_activation").maps(probe, IMAGE, Targets.classes([0], 3))[0])


def test_trust_ranks_a_true_map_above_constant_edge_and_false_ones() -> None:
    probe, image, where = spot()
    image[:, 2] += 2.0  # a strong edge that means nothing
    image[:, 2] -= 0.0
    true = where.astype(np.float32)
    edge = np.zeros_like(true)
    edge[:, 1:4] = 1
    maps = np.stack([true, np.roll(true, 8, axis=0), np.zeros_like(true), edge])
    good, false, constant, lines = gains(probe, image, maps, [(0, 1)] * 4, [{}] * 4)
    assert good.value > max(own.value for own in (false, constant, lines))
    assert [other.passed for other in (false, constant, lines)] == [False, False, False]
    assert good.deletion < min(own.deletion for own in (false, constant, lines))
    assert good.insertion > max(own.insertion for own in (false, constant, lines))
    assert good.rivals["edges"] < good.value


def test_a_method_that_ignores_the_network_does_not_pass_randomised_weights() -> None:
    probe = small()
    images = np.random.default_rng(0).standard_normal((4, *SHAPE))

    class Edges(METHODS["gradient"]):  # type: ignore[misc,valid-type]
        def maps(self, probe: Probe, image: np.ndarray, request: Targets) -> np.ndarray:
            return np.repeat(np.abs(np.gradient(image.mean(axis=2))[0])[None], len(request.weights), 0).astype(
                np.float32
            )

    blind = weight_randomisation(Edges(by("gradient")), probe, images, seed=9)
    assert blind.all_layers == pytest.approx(1.0)
    assert not blind.passed
    seeing = weight_randomisation(map_method("gradient"), probe, images, seed=9)
    assert seeing.all_layers < blind.all_layers
    assert seeing.noise > seeing.random
    steady = stability(map_method("gradient"), probe, images[0], Targets.classes([0], 3),
                       map_method("gradient").maps(probe, images[0], Targets.classes([0], 3)))  # fmt: skip
    assert steady[0] > 0.6


def test_rank_correlation_is_one_for_the_same_and_none_for_a_constant() -> None:
    map_ = np.random.default_rng(0).random((12, 12))
    assert rank_correlation(map_, 3 * map_ + 1) == pytest.approx(1)
    assert rank_correlation(map_, np.where(map_ > 0, map_, 9 * map_)) == pytest.approx(1), "what speaks for it counts"
    assert rank_correlation(map_, -map_) < 0.1, "the same strength against is not the same map"
    assert rank_correlation(map_, np.ones((12, 12))) == 0


def test_regions_are_found_and_what_they_give_is_measured() -> None:
    probe, image, where = spot()
    request = Targets.classes([0, 1], 2)
    map_ = map_method("gradient_times_input").maps(probe, image, request)[0]
    masks = marked(map_)
    regions = evaluated(probe, image, request, map_, masks)
    assert masks[0][where].all()
    assert regions[0].gives[0] > 0.8 * float(image[where].sum())
    assert regions[0].gives[1] == pytest.approx(0)
    assert regions[0].share == max(region.share for region in regions)
    assert abs(regions[0].top * 16 - 4) <= 2
    assert marked(np.zeros((8, 8), np.float32)) == []
    (drawn,) = evaluated(probe, image, request, map_, [where])
    lost = float((image[where] - image.mean(axis=(0, 1))).sum())
    assert drawn.gives[0] == pytest.approx(lost, rel=1e-6)


def test_threads_change_nothing() -> None:
    probe = small(np.float32)
    image = IMAGE.astype(np.float32)
    with ThreadPool(2) as thread_pool:
        for name in ("integrated_gradients", "occlusion"):
            many = map_method(name).maps(probe_of(probe.network, thread_pool), image, Targets.classes([1], 3))
            assert np.array_equal(many, map_method(name).maps(probe, image, Targets.classes([1], 3)))


@pytest.mark.parametrize("starter", STARTERS)
@pytest.mark.parametrize("name", ["contribution", "contribution_alpha_beta"])
def test_contribution_keeps_the_score_on_every_starting_network(name: str, starter: str) -> None:
    random = np.random.default_rng(4)
    side = (64, 64, 3)
    network = Network.start(STARTERS[starter].network.with_outputs(3), side, 3)
    image, request = random.standard_normal(side).astype(np.float32), Targets.classes([0, 1, 2], 3)
    plain = map_method(name).maps(probe_of(network), image, request).sum(axis=(1, 2))
    scores = probe_of(network).scores(image[None])[0]
    assert plain == pytest.approx(scores, abs=0.01 * float(np.abs(scores).max())), "fresh networks have no biases"
    for arrays in network.weights.values():
        for key in arrays.keys() & {"bias", "shift", "mean"}:
            arrays[key] += 0.3 * random.standard_normal(arrays[key].shape).astype(np.float32)
    probe = probe_of(network)
    wanted = map_method(name).should_sum_to(probe, image, request)
    assert wanted is not None
    scores = probe.scores(image[None])[0]
    assert map_method(name).maps(probe, image, request).sum(axis=(1, 2)) == pytest.approx(
        wanted, abs=0.01 * float(np.abs(scores).max())
    )
    assert np.abs(wanted - scores).max() > 0.01, "biases keep a part of their own"


@pytest.mark.parametrize("name", ["contribution", "contribution_alpha_beta"])
@pytest.mark.parametrize(
    "layer",
    [AveragePooling(), PowerPooling(power=3.0), MaxPooling(), GlobalPooling(mode="max"), Resampling(), Flatten()],
    ids=lambda layer: layer.kind,
)
def test_contribution_loses_nothing_in_any_layer(name: str, layer: LayerSettings) -> None:
    maps = [] if len(layer.output_shape((8, 8, 4))) == 1 else [Flatten()]
    plan = NetworkPlan.stack([Convolution(filters=4), Relu(), layer, *maps, Output()]).with_outputs(3)
    probe, request = probe_of(Network.start(plan, SHAPE, 3, np.float64)), Targets.classes([0, 1, 2], 3)
    scores = probe.scores(IMAGE[None])[0]
    sums = map_method(name).maps(probe, IMAGE, request).sum(axis=(1, 2))
    assert sums == pytest.approx(scores, abs=0.01 * float(np.abs(scores).max()))


def test_biases_keep_what_they_added_and_no_more() -> None:
    probe, image, _ = spot()
    request = Targets.classes([0], 2)
    scores = probe.scores(image[None])[0]
    method = map_method("contribution")
    wanted = method.should_sum_to(probe, image, request)
    assert wanted is not None
    bias = float(probe.network.weights["output"]["bias"][0])
    assert float(wanted[0]) == pytest.approx(float(scores[0]) - bias, rel=0.02)
    assert float(method.maps(probe, image, request).sum()) == pytest.approx(float(wanted[0]), rel=1e-3)


def test_class_activation_weighs_the_maps_that_all_paths_pass() -> None:
    residual = Network.start(STARTERS["residual"].network.with_outputs(3), (64, 64, 3), 1)
    name = last_maps(residual)
    nodes = [node.name for node in residual.plan.nodes]
    last = residual.plan.node(name)
    assert last.layer.kind == "relu"
    assert residual.plan.node(last.after[0]).layer.kind == "add"
    assert nodes.index(name) > max(nodes.index(n) for n in nodes if n.startswith("convolution"))
    assert last_maps(small().network) == "relu 2", "pooling only thins its maps out"
    image = np.random.default_rng(0).standard_normal((64, 64, 3)).astype(np.float32)
    probe, request = probe_of(residual), Targets.classes([0], 3)
    grads, outs = probe.gradients_at(name, image[None], request.weights)
    coarse = np.maximum((grads.mean(axis=(1, 2), keepdims=True) * outs).sum(axis=3), 0)[0]
    map_ = map_method("class_activation").maps(probe, image, request)[0]
    block = 64 // coarse.shape[0]
    row, column = np.unravel_index(int(map_.argmax()), map_.shape)
    assert coarse[row // block, column // block] == coarse.max() > 0


def test_random_masks_do_not_see_what_every_image_has() -> None:
    probe, image, _ = spot()
    before = map_method("random_masks").maps(probe, image, Targets.classes([0], 2))
    probe.network.weights["output"]["bias"] = np.array([500.0, 0.0])
    after = map_method("random_masks").maps(probe_of(probe.network), image, Targets.classes([0], 2))
    assert after == pytest.approx(before, abs=1e-4)


def test_weights_are_anew_enough_below_half_way_between_noise_and_nothing_in_common() -> None:
    images = np.random.default_rng(0).standard_normal((4, *SHAPE))
    seen = weight_randomisation(map_method("gradient"), small(), images, seed=9)
    assert seen.random < seen.limit < seen.noise
    assert seen.limit == pytest.approx((seen.random + seen.noise) / 2)
    assert seen.passed == (seen.all_layers < seen.limit)


def test_occlusion_is_the_mean_over_squares_that_lie_half_over_each_other() -> None:
    probe = small()
    side, plain = SHAPE[0] // 8, probe.scores(IMAGE[None])[0, 1]
    falls: dict[tuple[int, int], list[float]] = {}
    for top in range(-(side // 2), SHAPE[0], side // 2):
        for left in range(-(side // 2), SHAPE[1], side // 2):
            image, box = IMAGE.copy(), np.zeros(SHAPE[:2], bool)
            box[max(0, top) : top + side, max(0, left) : left + side] = True
            if not box.any():
                continue
            image[box] = IMAGE.mean(axis=(0, 1))
            fall = float(plain - probe.scores(image[None])[0, 1])
            for place in zip(*np.nonzero(box), strict=True):
                falls.setdefault(place, []).append(fall)
    wanted = np.array([[np.mean(falls[row, column]) for column in range(SHAPE[1])] for row in range(SHAPE[0])])
    map_ = map_method("occlusion").maps(probe, IMAGE, Targets.classes([1], 3))[0]
    assert map_ == pytest.approx(wanted, abs=1e-6)


def test_the_smoothed_gradient_is_the_mean_over_copies_with_a_tenth_of_the_range_as_noise() -> None:
    probe, request = small(), Targets.classes([1], 3)
    noise = random_generator(0, "smoothed gradient").standard_normal((16, *SHAPE), np.float32)
    copies = IMAGE + 0.1 * (IMAGE.max() - IMAGE.min()) * noise
    grads = [probe.gradients(copy[None], request.weights, request.of)[0] for copy in copies]
    wanted = np.abs(np.mean(grads, axis=0)).max(axis=2)
    map_ = map_method("smoothed_gradient").maps(probe, IMAGE, request)[0]
    assert map_ == pytest.approx(wanted, rel=1e-4, abs=1e-6 * float(wanted.max()))
