"""Maps of images that are not square."""

from __future__ import annotations

import numpy as np
import pytest
from tests.answering import probe_of
from tests.explaining.test_explaining import linear

from attentive_lens.engine.network import Network
from attentive_lens.explaining.methods import MAP_METHODS
from attentive_lens.explaining.probe import Targets
from attentive_lens.explaining.saliency import map_method
from attentive_lens.plan.starters import STARTERS

ADDING = ("gradient_times_input", "integrated_gradients", "contribution", "contribution_alpha_beta")


@pytest.mark.parametrize("name", MAP_METHODS)
@pytest.mark.parametrize("sides", [(9, 14), (21, 6)])
def test_maps_are_of_the_image_s_rows_and_columns_and_find_what_decides_there(
    name: str, sides: tuple[int, int]
) -> None:
    shape = (*sides, 3)
    convolutional = probe_of(
        Network.start(STARTERS["two blocks"].network_for(sides).with_outputs(3), shape, 1, np.float64)
    )
    image = np.random.default_rng(3).normal(0, 1, shape)
    map_ = map_method(name).maps(convolutional, image, Targets.classes([1], 3))[0]
    assert map_.shape == sides
    assert np.isfinite(map_).all()
    if name in ("gradient_times_input", "integrated_gradients", "occlusion"):
        weights = np.zeros(shape)
        weights[1:4, sides[1] - 4 : sides[1] - 1] = 1.0
        answered = linear(weights)
        image = np.random.default_rng(2).normal(0, 0.05, shape)
        image[1:4, sides[1] - 4 : sides[1] - 1] = 0.4
        map_ = map_method(name).maps(probe_of(answered), image, Targets.classes([0], 2))[0]
        row, column = np.unravel_index(np.abs(map_).argmax(), sides)
        assert 0 <= row <= 5
        assert sides[1] - 6 <= column
