"""The kinds of layer a network can have: their settings and rules of shape."""

from attentive_lens.plan.layers.activations import Elu, Gelu, LeakyRelu, Relu, Sigmoid, Silu, Softmax, Tanh
from attentive_lens.plan.layers.base import DoesNotFit, LayerSettings, Reach, Shape
from attentive_lens.plan.layers.connected import Connected, Output
from attentive_lens.plan.layers.convolution import Convolution
from attentive_lens.plan.layers.joining import Add, Concatenate, Multiply
from attentive_lens.plan.layers.normalising import BatchNormalisation, GroupNormalisation, LocalResponse
from attentive_lens.plan.layers.pooling import AveragePooling, GlobalPooling, MaxPooling, Pooling, PowerPooling
from attentive_lens.plan.layers.resampling import Resampling, TransposedConvolution
from attentive_lens.plan.layers.simple import Dropout, Flatten

LAYERS: dict[str, type[LayerSettings]] = {
    layer.kind: layer
    for layer in (
        Convolution,
        TransposedConvolution,
        MaxPooling,
        AveragePooling,
        PowerPooling,
        GlobalPooling,
        Relu,
        LeakyRelu,
        Elu,
        Gelu,
        Silu,
        Tanh,
        Sigmoid,
        Softmax,
        BatchNormalisation,
        GroupNormalisation,
        LocalResponse,
        Dropout,
        Resampling,
        Add,
        Multiply,
        Concatenate,
        Flatten,
        Connected,
        Output,
    )
}

__all__ = [
    "LAYERS",
    "Add",
    "AveragePooling",
    "BatchNormalisation",
    "Concatenate",
    "Connected",
    "Convolution",
    "DoesNotFit",
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
    "Output",
    "Pooling",
    "PowerPooling",
    "Reach",
    "Relu",
    "Resampling",
    "Shape",
    "Sigmoid",
    "Silu",
    "Softmax",
    "Tanh",
    "TransposedConvolution",
]
