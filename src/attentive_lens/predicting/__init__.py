"""The one way to an answer: what a trained model says of an image, whoever asks."""

from attentive_lens.predicting.predictor import Predictor

__all__ = ["Predictor"]
