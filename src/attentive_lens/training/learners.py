"""Which learner trains a plan."""

from __future__ import annotations

from collections.abc import Callable, Iterable

import numpy as np
from numpy.typing import NDArray

from attentive_lens.engine.network import Network
from attentive_lens.engine.ranks import ALONE, Ranks
from attentive_lens.engine.threads import ThreadPool
from attentive_lens.images.feeding import Batch
from attentive_lens.images.preprocessing import Preprocessor
from attentive_lens.plan.frost import frozen_part
from attentive_lens.plan.plan import Plan
from attentive_lens.training.adversary import Adversary
from attentive_lens.training.autoencoder import AutoEncoder
from attentive_lens.training.classifier import Classifier
from attentive_lens.training.labeller import Labeller
from attentive_lens.training.learner import NetworkLearner


def learner_for(
    plan: Plan,
    network: Network,
    preprocessor: Preprocessor,
    thread_pool: ThreadPool,
    counts: NDArray[np.int64],
    examples: Callable[[int, int], Iterable[Batch]] | None = None,
    ranks: Ranks = ALONE,
    targets: NDArray[np.float32] | None = None,
) -> NetworkLearner:
    """What learns the plan's task; ``counts`` are the training images of each class.

    Of several labels, ``targets`` C×K are those of each set of labels, by which images are numbered.
    """
    if plan.task.is_pair:
        return Adversary(counts, network, plan, preprocessor, thread_pool, "", examples, ranks)
    if plan.task.draws:
        return AutoEncoder(network, plan, preprocessor, thread_pool, "", examples, ranks)
    frozen = frozen_part(plan).node
    if targets is not None:
        return Labeller(targets, counts, network, plan, preprocessor, thread_pool, frozen, examples, ranks)
    return Classifier(network, plan, preprocessor, thread_pool, counts, frozen, examples, ranks)
