"""Special functions of SciPy, loaded when one is first needed: most networks begin to train without."""

from __future__ import annotations

import numpy as np

from attentive_lens.engine.arrays import Array


def expit(x: Array) -> Array:
    """1 / (1 + e⁻ˣ), of any shape."""
    from scipy.special import expit as of

    return np.asarray(of(x))


def erf(x: Array) -> Array:
    """The error function, of any shape."""
    from scipy.special import erf as of

    return np.asarray(of(x))
