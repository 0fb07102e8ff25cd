"""Maps of which pixels an answer depends on. Each method is one file and one line here."""

from __future__ import annotations

from attentive_lens.explaining.saliency.base import MapMethod
from attentive_lens.explaining.saliency.gradient import Gradient

METHODS: dict[str, MapMethod] = {"gradient": Gradient()}

__all__ = ["METHODS", "MapMethod"]
