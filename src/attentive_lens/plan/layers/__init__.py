"""The kinds of layer a network can have: their settings and rules of shape."""

from attentive_lens.core.extensions import take_kinds
from attentive_lens.plan.layers.activations import (
    ACTIVATIONS,
    Clip,
    Elu,
    Gelu,
    LeakyRelu,
    ParametricRelu,
    Relu,
    Sigmoid,
    Silu,
    Softmax,
    Tanh,
)
from attentive_lens.plan.layers.base import DoesNotFit, LayerSettings, Reach, Shape
from attentive_lens.plan.layers.coding import CODING, Codes, Drawing, NormalCodes, Reshape
from attentive_lens.plan.layers.connected import CONNECTED, Connected, Output
from attentive_lens.plan.layers.convolution import CONVOLUTIONS, Convolution
from attentive_lens.plan.layers.generating import GENERATING, ClassInput, Noise, RealOrDrawn
from attentive_lens.plan.layers.joining import JOINING, Add, Concatenate, Multiply
from attentive_lens.plan.layers.normalising import (
    NORMALISATIONS,
    BatchNormalisation,
    GroupNormalisation,
    LocalResponse,
    ScaleAndShift,
)
from attentive_lens.plan.layers.pooling import (
    POOLINGS,
    AveragePooling,
    GlobalPooling,
    MaxPooling,
    Pooling,
    PowerPooling,
)
from attentive_lens.plan.layers.resampling import RESAMPLINGS, Resampling, TransposedConvolution
from attentive_lens.plan.layers.simple import SIMPLE, Dropout, Flatten

LAYERS: dict[str, type[LayerSettings]] = {
    layer.kind: layer
    for layer in (
        *CONVOLUTIONS,
        *POOLINGS,
        *ACTIVATIONS,
        *NORMALISATIONS,
        *SIMPLE,
        *RESAMPLINGS,
        *JOINING,
        *CONNECTED,
        *CODING,
        *GENERATING,
    )
}
"""By kind; each family's table stands at the end of its file."""
take_kinds(LAYERS, "plan.layers", LayerSettings)

__all__ = [
    "LAYERS",
    "Add",
    "AveragePooling",
    "BatchNormalisation",
    "ClassInput",
    "Clip",
    "Codes",
    "Concatenate",
    "Connected",
    "Convolution",
    "DoesNotFit",
    "Drawing",
    "Dropout",
    "Elu",
    "Flatten",
    "Gelu",
    "GlobalPooling",
    "GroupNormalisation",
    "LayerSettings",
    "LeakyRelu",
    "LocalResponse",
    "MaxPooling",
    "Multiply",
    "Noise",
    "NormalCodes",
    "Output",
    "ParametricRelu",
    "Pooling",
    "PowerPooling",
    "Reach",
    "RealOrDrawn",
    "Relu",
    "Resampling",
    "Reshape",
    "ScaleAndShift",
    "Shape",
    "Sigmoid",
    "Silu",
    "Softmax",
    "Tanh",
    "TransposedConvolution",
]
