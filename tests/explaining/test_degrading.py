"""Pictures made worse: slight before strong, the same every time, and of their shape."""

from __future__ import annotations

from io import BytesIO

import numpy as np
import pytest
from PIL import Image
from scipy.ndimage import gaussian_filter

from attentive_lens.core.jobs import finish
from attentive_lens.desk.requests.models import Score
from attentive_lens.desk.requests.robustness import MeasureRobustness
from attentive_lens.desk.tasks import carry_out
from attentive_lens.errors import LensError
from attentive_lens.explaining.degrading import DEGRADATIONS, Degradation
from attentive_lens.workspace import Workspace

down, across = np.mgrid[:64, :72]
SCENE = np.stack([120 + 60 * np.sin(across / 4), 120 + 50 * np.cos(down / 3), 90 + 2 * down], axis=2)
SCENE = (SCENE + np.random.default_rng(0).normal(0, 6, SCENE.shape)).clip(0, 255).astype(np.uint8)


@pytest.mark.parametrize("channels", [1, 3])
@pytest.mark.parametrize("name", DEGRADATIONS)
def test_each_way_goes_from_slight_to_strong(name: str, channels: int) -> None:
    way, scene = DEGRADATIONS[name], SCENE[:, :, :channels]
    off = []
    for grade in way.grades:
        made = way.apply(scene, grade, 7)
        assert (made.shape, made.dtype) == (scene.shape, np.uint8)
        assert np.array_equal(made, way.apply(scene, grade, 7))
        off.append(np.abs(made.astype(float) - scene).mean())
    assert off[0] > 0
    if name not in ("rotation", "shift"):  # a periodic scene may move into itself
        assert off == sorted(off)


def test_known_answers() -> None:
    half = DEGRADATIONS["darker"].apply(SCENE, 0.5, 0)
    assert np.array_equal(half, (SCENE * 0.5 + 0.5).astype(np.uint8))
    flat = DEGRADATIONS["contrast"].apply(SCENE, 0.0, 0)
    assert np.abs(flat - SCENE.mean()).max() <= 1
    blurred = DEGRADATIONS["blur"].apply(SCENE, 5.0, 0)
    wanted = gaussian_filter(SCENE.astype(float), (3.2, 3.2, 0), mode="nearest")
    assert np.abs(blurred - wanted).max() <= 1
    noise = DEGRADATIONS["noise"].apply(np.full((80, 80, 3), 128, np.uint8), 8, 1).astype(float) - 128
    assert noise.std() == pytest.approx(8 * 2.55, rel=0.05)
    assert not np.array_equal(*(DEGRADATIONS["noise"].apply(SCENE, 8, k) for k in (1, 2)))
    stream = BytesIO()
    Image.fromarray(SCENE).save(stream, "JPEG", quality=25)
    stream.seek(0)
    assert np.array_equal(DEGRADATIONS["JPEG"].apply(SCENE, 25, 0), np.asarray(Image.open(stream)))


def test_what_breaks_is_what_was_right_and_is_wrong_then(station: Workspace, monkeypatch: pytest.MonkeyPatch) -> None:
    nothing = Degradation("nothing", "", (1.0,), lambda pixels, _, __: pixels)
    monkeypatch.setitem(DEGRADATIONS, "nothing", nothing)
    folder = str(station.folder)
    result = finish(carry_out(MeasureRobustness(folder, 1, "training", ("nothing", "darker", "shift"))))
    scores = finish(carry_out(Score(folder, 1, "training")))
    right = {answer.image: answer for answer in scores.answers if answer.predicted == answer.true}
    assert result.images == result.in_all == scores.images
    assert result.right.count == len(right)
    same, darker, shifted = result.ways
    assert (same.grades[0].right.count, same.grades[0].broken) == (len(right), ())
    for way in (darker, shifted):
        for grade in way.grades:
            assert set(grade.broken) <= right.keys()
            assert all(predicted != right[n].true for n, predicted in zip(grade.broken, grade.predicted, strict=True))
            assert len(grade.broken) >= len(right) - grade.right.count
    assert darker.grades[-1].right.count < len(right)
    assert finish(carry_out(MeasureRobustness(folder, 1, "training", ("nothing", "darker", "shift")))) == result, "kept"
    few = finish(carry_out(MeasureRobustness(folder, 1, "training", ("nothing",), most=12)))
    assert few.images < few.in_all
    with pytest.raises(LensError, match="way"):
        finish(carry_out(MeasureRobustness(folder, 1, "training", ("fog",))))
