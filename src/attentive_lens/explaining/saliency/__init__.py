"""Maps of which pixels an answer depends on. Each method is one file and one line here."""

from __future__ import annotations

from attentive_lens.explaining.saliency.base import MapMethod
from attentive_lens.explaining.saliency.gradient import Gradient
from attentive_lens.explaining.saliency.gradient_times_input import GradientTimesInput

METHODS: dict[str, MapMethod] = {"gradient_times_input": GradientTimesInput(), "gradient": Gradient()}
DEFAULT = "gradient_times_input"

__all__ = ["DEFAULT", "METHODS", "MapMethod"]
