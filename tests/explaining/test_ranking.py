"""Ranks of a map's values, against the statistics library."""

from __future__ import annotations

import numpy as np
from hypothesis import given
from hypothesis import strategies as st
from scipy.stats import rankdata

from attentive_lens.explaining.trust import _ranks


@given(st.lists(st.integers(-3, 3), min_size=1, max_size=30))
def test_ranks_are_those_of_the_statistics_library(values: list[int]) -> None:
    assert np.array_equal(_ranks(np.array(values, np.float64)), rankdata(values))
    square = np.array([values, values], np.float64)
    assert np.array_equal(_ranks(square), rankdata(square))
