from __future__ import annotations

import numpy as np
import pytest
from tests.answering import probe_of

from attentive_lens.engine.network import Network
from attentive_lens.explaining.feature_maps import feature_maps, first_filters, strongest
from attentive_lens.explaining.probe import Targets, contrast_targets, contrasts
from attentive_lens.explaining.saliency import METHODS, map_method
from attentive_lens.explaining.trust import blank, gains, rivals_of
from attentive_lens.plan.layers import Convolution, Flatten, Output
from attentive_lens.plan.network import NetworkPlan
from attentive_lens.plan.starters import STARTERS

SHAPE = (16, 16, 3)


@pytest.fixture
def network() -> Network:
    return Network.start(STARTERS["two blocks"].network.with_outputs(3), SHAPE, 1, np.float64)


def linear(weights: np.ndarray) -> Network:
    """Two classes; the first one's score is the sum of the weights times the pixels, the second one's zero."""
    network = Network.start(NetworkPlan.stack([Flatten(), Output()]).with_outputs(2), weights.shape, 0, np.float64)
    matrix = np.zeros((weights.size, 2))
    matrix[:, 0] = weights.reshape(-1)
    network.weights["output"]["matrix"] = matrix
    return network


IMAGE = np.random.default_rng(0).standard_normal(SHAPE)


@pytest.mark.parametrize("name", METHODS)
def test_a_map_is_of_the_image_s_size_finite_and_the_same_alone_or_with_others(name: str, network: Network) -> None:
    method = map_method(name)
    probe = probe_of(network)
    maps = method.maps(probe, IMAGE, Targets.classes([0, 2], 3))
    assert maps.shape == (2, 16, 16)
    assert maps.dtype == np.float32
    assert np.isfinite(maps).all()
    assert method.settings.signed or maps.min() >= 0
    assert maps[1] == pytest.approx(method.maps(probe, IMAGE, Targets.classes([2], 3))[0], rel=1e-3, abs=1e-6)
    assert not np.allclose(maps[0], maps[1])
    assert method.settings.label
    assert method.settings.shows
    assert method.settings.misleads


def test_maps_of_a_linear_network_are_known() -> None:
    weights = np.random.default_rng(1).standard_normal(SHAPE)
    network = linear(weights)
    gradient = map_method("gradient").maps(probe_of(network), IMAGE, Targets.classes([0, 1], 2))
    assert gradient[0] == pytest.approx(np.abs(weights).max(axis=2), rel=1e-6)
    assert gradient[1].max() == 0
    parts = map_method("gradient_times_input").maps(probe_of(network), IMAGE, Targets.classes([0], 2))[0]
    assert parts == pytest.approx((weights * IMAGE).sum(axis=2), rel=1e-5)
    assert parts.sum() == pytest.approx(network.forward(IMAGE[None]).outputs["output"][0, 0], rel=1e-4)


def test_the_gradient_map_is_what_a_small_change_of_a_pixel_does(network: Network) -> None:
    map_ = map_method("gradient").maps(probe_of(network), IMAGE, Targets.classes([1], 3))[0]
    for row, column in ((0, 0), (7, 9), (15, 3)):
        moved = []
        for channel in range(3):
            step = np.zeros(SHAPE)
            step[row, column, channel] = 1e-6
            both = network.forward(np.stack([IMAGE + step, IMAGE - step])).outputs["output"][:, 1]
            moved.append(abs(both[0] - both[1]) / 2e-6)
        assert map_[row, column] == pytest.approx(max(moved), rel=1e-4)


def evidence(strength: float = 1.0) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    """Weights that look at a corner alone, an image with something there and noise all over, and the true map."""
    weights = np.zeros((32, 32, 3))
    weights[3:9, 21:27] = strength
    image = 0.6 * np.random.default_rng(3).standard_normal(weights.shape)
    image[3:9, 21:27] = 0.4
    return weights, image, np.abs(weights).max(axis=2).astype(np.float32)


def test_a_true_map_gains_and_no_false_one() -> None:
    weights, image, true = evidence()
    probe = probe_of(linear(weights))
    good, bad = gains(probe, image, np.stack([true, np.roll(true, 16, axis=(0, 1))]), [(0, 1), (0, 1)], [{}, {}])
    assert good.passed is True
    assert good.value == good.insertion - good.deletion
    assert good.value > good.limit > good.random
    assert 0.9 < good.share <= 1
    assert set(good.rivals) == {"edges", "middle"}
    assert bad.passed is False
    assert bad.share < 0.5
    (other,) = gains(probe, image, true[None], [(1, 0)], [{}])
    assert other.value == pytest.approx(-good.value), "what speaks for the one speaks against the other"
    assert other.passed is False


def test_where_no_order_of_the_pixels_gains_nothing_can_be_told() -> None:
    weights, image, true = evidence(0.01)
    (faint,) = gains(probe_of(linear(weights)), image, true[None], [(0, 1)], [{}])
    assert faint.value > faint.limit, "the same order, and hardly any odds"
    assert faint.passed is None


def test_a_map_must_gain_more_than_its_rivals_by_their_spread() -> None:
    weights, image, true = evidence()
    (gain,) = gains(probe_of(linear(weights)), image, true[None], [(0, 1)], [{"next class": true}])
    assert gain.rivals["next class"] == pytest.approx(gain.value)
    assert gain.limit == pytest.approx(gain.value + gain.spread)
    assert gain.passed is False, "it knows no more than the map for the next class"


def test_each_class_is_set_against_the_next_one() -> None:
    scores = np.array([0.5, 3.0, 2.0, -1.0])
    assert contrasts(scores, [1, 2, 0]) == [(1, 2), (2, 1), (0, 1)]
    assert contrast_targets([(1, 2), (0, 1)], 4).weights.tolist() == [[0, 1, -1, 0], [1, -1, 0, 0]]


@pytest.mark.parametrize("kind", ["gradient_times_input", "gradient", "class_activation"])
def test_the_rivals_of_a_map_are_the_opposite_one_and_that_of_other_weights(kind: str, network: Network) -> None:
    probe, method = probe_of(network), map_method(kind)
    targets = contrast_targets([(0, 2)], 3)
    maps = method.maps(probe, IMAGE, targets)
    empty = blank(probe)
    (rivals,) = rivals_of(method, probe, IMAGE, targets, maps, empty)
    back = method.maps(probe, IMAGE, contrast_targets([(2, 0)], 3))[0]
    assert rivals["next class"] == pytest.approx(back, abs=1e-6 * float(np.abs(back).max()))
    assert not np.allclose(rivals["random weights"], maps[0])
    assert np.array_equal(rivals["random weights"], method.maps(empty, IMAGE, targets)[0])
    assert not np.allclose(empty.scores(IMAGE[None]), probe.scores(IMAGE[None]))


def test_feature_maps_are_the_layers_outputs_and_the_strongest_come_first(network: Network) -> None:
    maps = feature_maps(network, IMAGE, list(network.layers))
    assert list(maps) == list(network.layers)
    assert maps["convolution 1"].shape == (16, 16, 8)
    order = strongest(maps["relu 1"], 5)
    strength = maps["relu 1"].mean(axis=(0, 1))[order]
    assert len(order) == 5
    assert (np.diff(strength) <= 0).all()


def test_first_filters_keep_their_signs_about_grey(network: Network) -> None:
    result = first_filters(network)
    assert result is not None
    name, pictures = result
    kernel = network.weights["convolution 1"]["kernel"]
    assert (name, pictures.shape) == ("convolution 1", (8, 3, 3, 3))
    assert ((pictures > 0.5) == (np.moveaxis(kernel, 3, 0) > 0)).all()
    assert pictures.min() >= 0
    assert pictures.max() <= 1
    flat = Network.start(NetworkPlan.stack([Flatten(), Output()]).with_outputs(2), SHAPE, 0)
    assert first_filters(flat) is None
    grey = NetworkPlan.stack([Convolution(filters=2), Flatten(), Output()]).with_outputs(2)
    one = first_filters(Network.start(grey, (8, 8, 1), 0))
    assert one is not None
    assert one[1].shape == (2, 3, 3, 3)
