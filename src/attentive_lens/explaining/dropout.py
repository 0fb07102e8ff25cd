"""Dropout at work on one image: what it strikes out, and how far the answers move with what is struck."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from attentive_lens.core.random import random_generator
from attentive_lens.engine.arrays import Array
from attentive_lens.explaining.probe import Probe


@dataclass(frozen=True)
class DropoutAtWork:
    """What M draws of the masks did.

    Attributes
    ----------
    masks : dict
        Node → M×(shape of its output) bool, whether a value stayed; all of a map alike where whole channels drop out.
    answers : ndarray, M×K float32
        The answers with each draw, as the model's output function makes them.
    """

    masks: dict[str, NDArray[np.bool_]]
    answers: NDArray[np.float32]


def at_work(probe: Probe, image: Array, draws: int, seed: int = 0) -> DropoutAtWork:
    """Draw the masks of every dropout layer as training does, all else as in inference.

    Values that stay are divided by 1 − rate (inverted dropout, Srivastava et al. 2014, section 10). Normalisations use
    their running figures, so that what moves is dropout alone; in training the batch moves them too. The spread is no
    measure of how sure the model is: it depends on the rate.

    Parameters
    ----------
    probe : Probe
        The model.
    image : ndarray, H×W×C
        Prepared.
    draws : int
        M.
    seed : int
        Of the draws.
    """
    network = probe.network
    images = np.repeat(image[None], draws, axis=0)
    edited: dict[str, Array] = {}
    masks: dict[str, NDArray[np.bool_]] = {}
    for node in network.plan.nodes:
        rate = getattr(node.layer, "rate", 0.0)
        if node.layer.kind != "dropout" or not rate:
            continue
        source = node.after[0]
        ready = probe.predictor.ready
        inputs = network.forward(images, watch=frozenset({source}), edited=edited, ready=ready).outputs[source]
        shape = inputs.shape
        if node.layer.unit == "channel":  # type: ignore[attr-defined]
            shape = (draws, *(1 for _ in shape[1:-1]), shape[-1])
        drawn = random_generator(seed, f"dropout of {node.name}").random(shape, np.float32) >= rate
        masks[node.name] = np.broadcast_to(drawn, inputs.shape)
        edited[node.name] = (inputs * drawn / np.float32(1 - rate)).astype(inputs.dtype)
    raw = network.forward(images, edited=edited, ready=probe.predictor.ready).outputs[network.output]
    answers = probe.predictor.output.answers(probe.predictor.output.spread(raw))
    return DropoutAtWork(masks, np.asarray(answers, np.float32))
