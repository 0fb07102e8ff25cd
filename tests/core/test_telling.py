"""Numbers with their sign, and names beside them that keep their hyphens."""

from __future__ import annotations

from types import SimpleNamespace

import numpy as np
import pytest

from attentive_lens.core.telling import signed


@pytest.mark.parametrize(
    ("value", "form", "words"),
    [(-6, ".1f", "\u22126.0"), (6.04, ".1f", "+6.0"), (0, ".0f", "+0"), (-0.5, ".2f", "\u22120.50")],
)
def test_a_minus_is_no_hyphen(value: float, form: str, words: str) -> None:
    assert signed(value, form) == words


def test_a_class_keeps_the_hyphen_in_its_name() -> None:
    from attentive_lens.window.explaining.channel_rows import spoken

    seen = SimpleNamespace(classes=("two-celled", "netted"), speaks=np.array([[-1.5], [0.25]]))
    assert spoken(seen, 0) == "two-celled \u22121.50, netted +0.25"  # type: ignore[arg-type]
