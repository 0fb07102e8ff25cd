"""Maps of flat areas do not hang on the order in which their pixels are looked at."""

from __future__ import annotations

import numpy as np
import pytest
from tests.answering import probe_of

from attentive_lens.engine.layers.pooling import MaxPoolingLayer
from attentive_lens.engine.network import Network
from attentive_lens.explaining.methods import MAP_METHODS, IntegratedGradientsSettings, MapSettings
from attentive_lens.explaining.probe import Probe, Targets
from attentive_lens.explaining.saliency import map_method
from attentive_lens.plan.layers import Convolution, GlobalPooling, MaxPooling, Output, Relu
from attentive_lens.plan.network import NetworkPlan

SHAPE = (16, 16, 3)
BY_GRADIENT = (
    *(MAP_METHODS[kind]() for kind in ("gradient", "gradient_times_input", "guided_gradient", "contribution")),
    IntegratedGradientsSettings(baseline="black"),
)


def mirrored_network() -> Probe:
    """A network that answers a mirrored image alike: its kernels are the same from both sides."""
    parts = [Convolution(filters=6), Relu(), MaxPooling(), Convolution(filters=6), Relu(), MaxPooling(),
             GlobalPooling(mode="max"), Output()]  # fmt: skip
    network = Network.start(NetworkPlan.stack(parts).with_outputs(2), SHAPE, 5, np.float64)
    for arrays in network.weights.values():
        for name, values in arrays.items():
            if values.ndim == 4:
                arrays[name] = values + values[:, ::-1]
    return probe_of(network)


def flat_image() -> np.ndarray:
    """A block on flat ground, the same from both sides; every window holds equal values."""
    image = np.full(SHAPE, 0.3)
    image[4:10, 5:11] = (0.9, 0.6, 0.2)
    return image


@pytest.mark.parametrize("settings", BY_GRADIENT, ids=lambda settings: settings.kind)
def test_what_is_the_same_from_both_sides_has_a_map_that_is(
    settings: MapSettings, monkeypatch: pytest.MonkeyPatch
) -> None:
    probe, image, request = mirrored_network(), flat_image(), Targets.classes([0], 2)
    (map_,) = map_method(settings).maps(probe, image, request)
    tolerance = 1e-6 * float(np.abs(map_).max())
    assert np.abs(map_).max() > 0
    assert map_ == pytest.approx(map_[:, ::-1], abs=tolerance)
    forward = MaxPoolingLayer.forward
    monkeypatch.setattr(MaxPoolingLayer, "forward", lambda *words: _first_alone(forward(*words)))
    (first,) = map_method(settings).maps(probe, image, request)
    assert np.abs(first - first[:, ::-1]).max() > 100 * tolerance, "were the first of equals taken alone"


def _first_alone(result: tuple[np.ndarray, tuple[object, ...]]) -> tuple[np.ndarray, tuple[object, ...]]:
    out, (place, shape, _) = result
    return out, (place, shape, None)
