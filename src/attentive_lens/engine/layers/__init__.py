"""The arithmetic of every kind of layer, under the names of ``plan.layers``."""

from __future__ import annotations

from typing import Any

from attentive_lens.engine.layers.base import Layer, Moment
from attentive_lens.engine.layers.connected import ConnectedLayer
from attentive_lens.engine.layers.convolution import ConvolutionLayer
from attentive_lens.engine.layers.pooling import MaxPoolingLayer
from attentive_lens.engine.layers.simple import DropoutLayer, FlattenLayer, ReluLayer

LAYERS: dict[str, type[Layer[Any]]] = {
    "convolution": ConvolutionLayer,
    "max pooling": MaxPoolingLayer,
    "relu": ReluLayer,
    "dropout": DropoutLayer,
    "flatten": FlattenLayer,
    "fully connected": ConnectedLayer,
    "answers": ConnectedLayer,
}

__all__ = ["LAYERS", "Layer", "Moment"]
