"""Images of any depth and channels are shown through levels of their own, and no pixel is another for it."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import pytest

from attentive_lens.errors import BadValue
from attentive_lens.images.display import Display, read_display, usual_display, write_display
from attentive_lens.images.pixel_format import eight_bits, levels, of_levels
from tests.images.instruments import CHANNELS


def test_what_is_shown_is_a_window_on_the_scale_and_changes_no_pixel(tmp_path: Path) -> None:
    pixels = np.linspace(0, 1, 60, dtype=np.float32).reshape(3, 4, 5)
    before = pixels.copy()
    shown = Display(channels=(5,), level=0.5, width=0.5).shown(pixels)
    assert shown.shape == (3, 4, 1)
    wanted = ((pixels[..., 4:] - 0.25) / 0.5).clip(0, 1)
    np.testing.assert_allclose(shown / 255, wanted, atol=0.5 / 255 + 1e-6)
    assert np.array_equal(pixels, before)
    assert Display().shown(pixels).shape == (3, 4, 3)
    assert Display().shown(pixels[..., :2]).shape == (3, 4, 1)
    assert Display(channels=(9,)).shown(pixels).shape == (3, 4, 3), "a channel that this image does not have"
    plain = (pixels[..., :3] * 255).astype(np.uint8)
    assert Display(level=0.1, width=0.2).shown(plain) is not None
    assert np.array_equal(Display(level=0.1, width=0.2).shown(plain), plain), "ordinary pictures are as they are"
    with pytest.raises(BadValue, match="2 channels are named"):
        Display(channels=(1, 2))
    assert usual_display(CHANNELS).channels == (3, 2, 1)
    write_display(tmp_path, Display(channels=(2,), level=0.25))
    assert read_display(tmp_path) == Display(channels=(2,), level=0.25)
    (tmp_path / "display.json").write_text('{"level": 7}')
    assert read_display(tmp_path) == Display()


def test_levels_go_there_and_back() -> None:
    whole = np.arange(256, dtype=np.uint8).reshape(16, 16, 1)
    assert np.array_equal(of_levels(levels(whole), whole.dtype), whole)
    fine = np.linspace(0, 1, 999, dtype=np.float32)
    np.testing.assert_allclose(of_levels(levels(fine), fine.dtype), fine, atol=1e-7)
    assert eight_bits(fine).tolist() == [round(float(v) * 255) for v in fine.tolist()]
    assert of_levels(np.array([-3.0, 300.0]), np.dtype(np.float32)).tolist() == [0, 1]
