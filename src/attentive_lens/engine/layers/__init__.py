"""The arithmetic of every kind of layer, under the names of ``plan.layers``."""

from __future__ import annotations

from typing import Any

from attentive_lens.engine.layers.activations import (
    EluLayer,
    GeluLayer,
    LeakyReluLayer,
    ReluLayer,
    SigmoidLayer,
    SiluLayer,
    SoftmaxLayer,
    TanhLayer,
)
from attentive_lens.engine.layers.base import INFERENCE, Call, Layer, Rule, StepContext
from attentive_lens.engine.layers.connected import ConnectedLayer
from attentive_lens.engine.layers.convolution import ConvolutionLayer
from attentive_lens.engine.layers.joining import AddLayer, ConcatenateLayer, MultiplyLayer
from attentive_lens.engine.layers.normalising import (
    BatchNormalisationLayer,
    GroupNormalisationLayer,
    LocalResponseLayer,
)
from attentive_lens.engine.layers.pooling import (
    AveragePoolingLayer,
    GlobalPoolingLayer,
    MaxPoolingLayer,
    PowerPoolingLayer,
)
from attentive_lens.engine.layers.resampling import ResamplingLayer, TransposedConvolutionLayer
from attentive_lens.engine.layers.simple import DropoutLayer, FlattenLayer

LAYERS: dict[str, type[Layer[Any]]] = {
    "convolution": ConvolutionLayer,
    "transposed convolution": TransposedConvolutionLayer,
    "max pooling": MaxPoolingLayer,
    "average pooling": AveragePoolingLayer,
    "power pooling": PowerPoolingLayer,
    "global pooling": GlobalPoolingLayer,
    "relu": ReluLayer,
    "leaky relu": LeakyReluLayer,
    "elu": EluLayer,
    "gelu": GeluLayer,
    "silu": SiluLayer,
    "tanh": TanhLayer,
    "sigmoid": SigmoidLayer,
    "softmax": SoftmaxLayer,
    "batch normalisation": BatchNormalisationLayer,
    "group normalisation": GroupNormalisationLayer,
    "local response normalisation": LocalResponseLayer,
    "dropout": DropoutLayer,
    "resampling": ResamplingLayer,
    "add": AddLayer,
    "multiply": MultiplyLayer,
    "concatenate": ConcatenateLayer,
    "flatten": FlattenLayer,
    "fully connected": ConnectedLayer,
    "output": ConnectedLayer,
}

__all__ = ["INFERENCE", "LAYERS", "Call", "Layer", "Rule", "StepContext"]
