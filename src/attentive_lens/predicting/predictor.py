"""From images to a model's answers: preprocessing, network, kernels, output function and batching in one object."""

from __future__ import annotations

from collections.abc import Mapping
from functools import cached_property

import numpy as np
from numpy.typing import NDArray

from attentive_lens.engine.arrays import Array
from attentive_lens.engine.batches import inference
from attentive_lens.engine.folding import folded
from attentive_lens.engine.network import Network
from attentive_lens.engine.outputs import OUTPUTS, OutputFunction
from attentive_lens.engine.threads import ThreadPool
from attentive_lens.errors import BadValue
from attentive_lens.formats.bundle import ModelFile
from attentive_lens.images.pixel_format import PixelArray
from attentive_lens.images.preprocessing import Preprocessor
from attentive_lens.plan.nodes import IMAGE
from attentive_lens.plan.tasks import IMAGES


class Predictor:
    """A trained model that is asked; whoever asks, the same image gives the same bits.

    Evaluation during training, scores, predictions, explanations, trust, causes and faults all ask here. It holds as
    long as the network's weights do not change.

    Parameters
    ----------
    network : Network
        Trained.
    preprocessor : Preprocessor
        What is done to an image first.
    classes : tuple of str
        Names by class number, K.
    output : str or OutputFunction
        What makes answers of the network's raw scores, one of `OUTPUTS`.
    thresholds : tuple of float
        Of several labels, from which probability each is said, K; empty where an image has one class.
    thread_pool : ThreadPool, optional
        Threads; the caller's alone if left out. Their number changes no bit.
    """

    def __init__(
        self,
        network: Network,
        preprocessor: Preprocessor,
        classes: tuple[str, ...],
        output: str | OutputFunction = "softmax",
        thread_pool: ThreadPool | None = None,
        thresholds: tuple[float, ...] = (),
    ) -> None:
        self.network = network
        self.preprocessor = preprocessor
        self.classes = classes
        self.output_name = output
        self.thresholds = thresholds
        self.thread_pool = thread_pool

    @classmethod
    def of(cls, model: ModelFile, thread_pool: ThreadPool | None = None) -> Predictor:
        """From a model file alone."""
        thresholds = model.thresholds if model.several else ()
        return cls(model.network(), model.preprocessor, model.classes, model.output_function, thread_pool, thresholds)

    def with_network(self, network: Network) -> Predictor:
        """The same questions to other weights."""
        output, thresholds = self.output_name, self.thresholds
        return Predictor(network, self.preprocessor, self.classes, output, self.thread_pool, thresholds)

    @property
    def draws(self) -> bool:
        """Whether the network gives images, and answers no classes."""
        return self.output_name == IMAGES

    @cached_property
    def output(self) -> OutputFunction:
        """What makes answers of scores.

        Raises
        ------
        BadValue
            If the network draws images: it has layers to look into, but no answers.
        """
        if self.draws:
            why = "its network draws images"
            raise BadValue("The model answers no classes", why, "Ask it for drawings, or choose a classifier")
        return OUTPUTS[self.output_name] if isinstance(self.output_name, str) else self.output_name

    @cached_property
    def _inference(self) -> tuple[Network, Mapping[str, object]]:
        """The network with all folded that can be, and what its layers work out of their weights once."""
        network = folded(self.network)
        return network, network.prepared()

    @cached_property
    def ready(self) -> Mapping[str, object]:
        """What the unfolded network's layers work out of their weights once, for those who walk it themselves."""
        return self.network.prepared()

    def prepare(self, pixels: PixelArray) -> Array:
        """Images at the input size N×H×W×C uint8 as the network takes them, float32.

        Raises
        ------
        BadValue
            If it draws of noise: its layers would be seen at work on a drawing, not on these images.
        """
        if self.network.plan.meeting:
            why = "its network draws images of noise"
            raise BadValue("The model looks at no image of yours", why, "Ask it for drawings, or choose another run")
        return self.preprocessor.apply(pixels)

    def raw_scores(self, images: Array) -> Array:
        """What the network gives for prepared images N×H×W×C: N×K, or N×1 for one score of two classes."""
        network, ready = self._inference
        with np.errstate(over="ignore", invalid="ignore"):
            return inference(network, images, self.thread_pool, ready=ready)

    def scores(self, images: Array) -> Array:
        """The classes' scores N×K of prepared images, before the output function."""
        return self.output.spread(self.raw_scores(images))

    def answers(self, images: Array) -> Array:
        """Answers N×K of prepared images: probabilities, or scores where the loss was a distance."""
        return self.output.answers(self.scores(images))

    def said(self, answers: Array) -> NDArray[np.bool_]:
        """Which of several labels are said of N images, N×K, from their answers."""
        return np.asarray(answers > np.asarray(self.thresholds, answers.dtype))

    def sureness(self, answers: Array) -> Array:
        """How sure the least sure of several labels is of N images, from answers N×K: said, or not said, 0–1."""
        return np.asarray(np.where(self.said(answers), answers, 1 - answers).min(axis=1))

    def predicted(self, scores: Array) -> NDArray[np.intp]:
        """Class numbers N with the greatest of the classes' scores N×K, the first of equals.

        By scores, not by answers: probabilities of very sure answers round to the same 1.
        """
        return np.asarray(scores.argmax(axis=1))

    def checked(self, scores: Array) -> Array:
        """Answers from the classes' scores N×K.

        Raises
        ------
        BadValue
            If they are no numbers.
        """
        if not np.isfinite(scores).all():
            why = "its scores are infinite or no numbers: its weights are too large for such images"
            raise BadValue("The model gives no answer", why, "Choose another model, or train again")
        return self.output.answers(scores)

    def outputs(self, node: str, images: Array) -> Array:
        """A node's output for every prepared image."""
        if node == IMAGE:
            return images
        return inference(self.network, images, self.thread_pool, node, ready=self.ready)

    def scores_with(self, node: str, outputs: Array, image: Array) -> Array:
        """The classes' scores N×K of one prepared image, a node's output being replaced by each of N others."""
        if node == IMAGE:
            return self.scores(outputs)
        copies = np.broadcast_to(image, (len(outputs), *image.shape))
        raw = inference(self.network, copies, self.thread_pool, edited={node: outputs}, ready=self.ready)
        return self.output.spread(raw)
