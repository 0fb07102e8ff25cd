"""The kinds of layer a network can have: their settings and rules of shape."""

from attentive_lens.plan.layers.base import DoesNotFit, LayerSettings, Reach, Shape
from attentive_lens.plan.layers.connected import Answers, Connected
from attentive_lens.plan.layers.convolution import Convolution
from attentive_lens.plan.layers.pooling import MaxPooling
from attentive_lens.plan.layers.simple import Dropout, Flatten, Relu

LAYERS: dict[str, type[LayerSettings]] = {
    layer.kind: layer for layer in (Convolution, MaxPooling, Relu, Dropout, Flatten, Connected, Answers)
}

__all__ = [
    "LAYERS",
    "Answers",
    "Connected",
    "Convolution",
    "DoesNotFit",
    "Dropout",
    "Flatten",
    "LayerSettings",
    "MaxPooling",
    "Reach",
    "Relu",
    "Shape",
]
