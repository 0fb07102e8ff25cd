"""The arithmetic of every kind of layer, under the names of ``plan.layers``."""

from __future__ import annotations

from attentive_lens.core.extensions import Parts, is_kind, raising
from attentive_lens.engine.layers.activations import ACTIVATIONS
from attentive_lens.engine.layers.base import INFERENCE, AnyLayer, Call, Layer, Rule, StepContext
from attentive_lens.engine.layers.coding import CODING
from attentive_lens.engine.layers.connected import CONNECTED
from attentive_lens.engine.layers.convolution import CONVOLUTIONS
from attentive_lens.engine.layers.generating import GENERATING
from attentive_lens.engine.layers.joining import JOINING
from attentive_lens.engine.layers.normalising import NORMALISATIONS
from attentive_lens.engine.layers.pooling import POOLINGS
from attentive_lens.engine.layers.resampling import RESAMPLINGS
from attentive_lens.engine.layers.simple import SIMPLE

LAYERS: Parts[type[AnyLayer]] = Parts(
    {
        **CONVOLUTIONS,
        **POOLINGS,
        **ACTIVATIONS,
        **NORMALISATIONS,
        **SIMPLE,
        **RESAMPLINGS,
        **JOINING,
        **CONNECTED,
        **CODING,
        **GENERATING,
    },
    "engine.layers",
    raising,
    lambda thing: thing if is_kind(thing, Layer) else None,
)
"""By kind; each family's table stands at the end of its file."""

__all__ = ["INFERENCE", "LAYERS", "Call", "Layer", "Rule", "StepContext"]
