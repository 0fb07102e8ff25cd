"""Maps of one channel of the image: together they are the map of all; of a channel that adds nothing it is empty."""

from __future__ import annotations

import numpy as np
import pytest
from tests.answering import probe_of
from tests.explaining.test_explaining import IMAGE, SHAPE, linear
from tests.explaining.test_methods import ADDING, graph, small

from attentive_lens.errors import BadUsage
from attentive_lens.explaining.methods import MAP_METHODS, ByChannelSettings, MapSettings
from attentive_lens.explaining.probe import Probe, Targets
from attentive_lens.explaining.saliency import METHODS, map_method

NAMES = ("dark", "middle", "light")
KINDS = [kind for kind, settings in MAP_METHODS.items() if issubclass(settings, ByChannelSettings)]


def of(kind: str, channel: str = "") -> MapSettings:
    return MAP_METHODS[kind]().with_(channel=channel)


def test_what_gives_each_channel_its_part_can_be_asked_for_one() -> None:
    assert set(ADDING) < set(KINDS)
    assert {"class_activation", "occlusion", "random_masks"}.isdisjoint(KINDS)


@pytest.mark.parametrize("kind", KINDS)
@pytest.mark.parametrize("probe", [small(), graph()], ids=["chain", "graph"])
def test_maps_by_channel_are_the_map_of_all(kind: str, probe: Probe) -> None:
    targets = Targets.classes([0, 2], 3)
    whole = map_method(of(kind), None, NAMES).maps(probe, IMAGE, targets)
    parts = [map_method(of(kind, name), None, NAMES).maps(probe, IMAGE, targets) for name in NAMES]
    together = np.sum(parts, axis=0) if kind in ADDING else np.max(parts, axis=0)
    np.testing.assert_allclose(together, whole, atol=1e-6 * max(1.0, float(np.abs(whole).max())), rtol=1e-4)
    assert not any(np.allclose(parts[0], other) for other in (whole, *parts[1:]))


@pytest.mark.parametrize("kind", ["gradient_times_input", "gradient", "smoothed_gradient", "integrated_gradients"])
def test_a_channel_that_adds_nothing_has_an_empty_map(kind: str) -> None:
    weights = np.random.default_rng(2).standard_normal(SHAPE)
    weights[..., (0, 1)] = 0
    probe, targets = probe_of(linear(weights)), Targets.classes([0], 2)
    whole = map_method(of(kind), None, NAMES).maps(probe, IMAGE, targets)
    for name in NAMES:
        own = map_method(of(kind, name), None, NAMES).maps(probe, IMAGE, targets)
        assert np.allclose(own, whole if name == "light" else 0)
    assert np.abs(whole).max() > 0


@pytest.mark.parametrize("kind", KINDS)
def test_one_channel_alone_promises_no_sum_and_a_strange_one_is_refused(kind: str) -> None:
    probe, targets = small(), Targets.classes([1], 3)
    if kind in ADDING[1:]:
        assert map_method(of(kind), None, NAMES).should_sum_to(probe, IMAGE, targets) is not None
    assert map_method(of(kind, "dark"), None, NAMES).should_sum_to(probe, IMAGE, targets) is None
    for known in (NAMES, ()):
        with pytest.raises(BadUsage, match="sees no channel «infrared»"):
            map_method(of(kind, "infrared"), None, known)
    assert of(kind, "dark").words.endswith("of channel dark")
    assert METHODS[kind](of(kind)).channel is None
