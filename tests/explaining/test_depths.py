"""What is tried on images does the same in 8 bits and in more, and a channel of the image counts from its mean."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
import pytest
from tests.explaining.test_explaining import IMAGE
from tests.explaining.test_methods import small

from attentive_lens.core.jobs import finish
from attentive_lens.explaining.causes.measures import MEASURES
from attentive_lens.explaining.change_settings import CHANGE_SETTINGS
from attentive_lens.explaining.changes import changed
from attentive_lens.explaining.channels import contributions, scaled, switched_off, without
from attentive_lens.explaining.degrading import DEGRADATIONS
from attentive_lens.explaining.probe import Targets
from attentive_lens.images.faults import FAULTS, find_faults
from attentive_lens.images.faults.base import Evidence
from attentive_lens.images.pixel_format import PixelArray, white_in
from attentive_lens.plan.nodes import IMAGE as THE_IMAGE

LEVEL = 1.01 / 255


def both(channels: int = 3, side: int = 24, count: int = 1) -> tuple[PixelArray, PixelArray]:
    """The same images in 8 bits and as fractions."""
    random = np.random.default_rng(2)
    rough = np.kron(random.random((count, side // 4, side // 4, channels)), np.ones((1, 4, 4, 1)))
    whole = (40 + 170 * rough + random.random((count, side, side, channels)) * 20).astype(np.uint8)
    return whole, whole / np.float32(255)


@pytest.mark.parametrize("kind", CHANGE_SETTINGS)
@pytest.mark.parametrize("channels", [1, 2, 3, 5])
def test_a_change_does_the_same_to_either_type(kind: str, channels: int) -> None:
    (whole,), (fine,) = both(channels)
    settings, others = CHANGE_SETTINGS[kind](), both(channels, count=2)
    covered = np.pad(np.ones((8, 10), np.float32), ((6, 10), (5, 9)))
    eight = changed(whole, settings, others[0][1] if settings.other_image else None, covered)
    deep = changed(fine, settings, others[1][1] if settings.other_image else None, covered)
    assert (eight.dtype, deep.dtype) == (np.uint8, np.float32)
    assert eight.shape == deep.shape == whole.shape
    assert np.abs(eight / 255 - deep).max() <= LEVEL
    assert not np.array_equal(deep, fine) or kind == "clone", "something was done; a clone of its own place is the same"


@pytest.mark.parametrize("name", DEGRADATIONS)
def test_pictures_become_worse_in_either_type(name: str) -> None:
    (whole,), (fine,) = both()
    for grade in DEGRADATIONS[name].grades[:2]:
        eight, deep = (DEGRADATIONS[name].apply(pixels, grade, 3) for pixels in (whole, fine))
        assert np.abs(eight / 255 - deep).max() <= LEVEL
        assert DEGRADATIONS[name].apply(both(5)[1][0], grade, 3).shape == (24, 24, 5)


@pytest.mark.parametrize("word", MEASURES)
def test_what_is_measured_is_the_same_in_either_type(word: str) -> None:
    whole, fine = both(count=6)
    sizes = np.full((6, 2), 12)
    eight, deep = (MEASURES[word].values(pixels, sizes) for pixels in (whole, fine))
    np.testing.assert_allclose(eight, deep, rtol=1e-4)
    imitated = [MEASURES[word].imitated(pixels, eight * 0.8) for pixels in (whole, fine)]
    assert imitated[1][0].dtype == np.float32
    assert np.abs(imitated[0][0] / 255 - imitated[1][0]).max() <= 2 * LEVEL
    assert imitated[0][1] == pytest.approx(imitated[1][1], rel=1e-3)


def test_finders_of_faults_find_the_same_in_either_type() -> None:
    whole, _ = both(side=32, count=40)
    random = np.random.default_rng(7)
    whole = random.integers(0, 40, whole.shape).astype(np.uint8) + whole // 2
    whole[7] = whole[3]
    whole[11:14] //= 12
    whole[20:30, :5, :5] = (250, 10, 10)
    labels, sizes = np.arange(40) % 2, np.full((40, 2), 32)
    sets = tuple("validation" if k % 5 == 0 else "training" for k in range(40))
    eight = Evidence(whole, labels, sets, ("a", "b"), sizes)
    deep = replace(eight, pixels=whole / np.float32(255))
    assert deep.images(np.array([3])).max() > 1.5, "levels from 0 to 255"
    findings = [[(each.kind, each.places) for each in finish(find_faults(seen, FAULTS))] for seen in (eight, deep)]
    assert findings[0] == findings[1]
    assert any(3 in places and 7 in places for _, places in findings[0])


def test_a_channel_of_the_image_is_without_effect_at_its_mean() -> None:
    probe, targets = small(), Targets.classes([0], 3)
    image = IMAGE + np.arange(IMAGE.shape[2]) + 2  # far from 0, which is nothing to a channel of the image
    flat = image.copy()
    flat[..., 1] = image[..., 1].mean()
    stronger = image.copy()
    stronger[..., 1] += image[..., 1] - image[..., 1].mean()
    rows = scaled(probe, image, THE_IMAGE, 1, [1.0, 0.0, 2.0])
    for row, wanted in zip(rows, (image, flat, stronger), strict=True):
        np.testing.assert_allclose(row, probe.answers(wanted[None])[0], atol=1e-6)
    falls = switched_off(probe, image, THE_IMAGE, targets)[0]
    wanted = probe.values(np.stack([image, flat]), targets)[:, 0]
    assert falls[1] == pytest.approx(wanted[0] - wanted[1], abs=1e-6)
    adds = contributions(probe, image, THE_IMAGE, targets)[0]
    near = image.copy()
    near[..., 1] += 1e-6 * (image[..., 1] - image[..., 1].mean())
    ends = probe.values(np.stack([image, near]), targets)[:, 0]
    assert (ends[1] - ends[0]) / 1e-6 == pytest.approx(adds[1], rel=1e-3, abs=1e-6)
    assert without("relu 1", image[None]).tolist() == [0]
    assert white_in(both()[1]) == 1
