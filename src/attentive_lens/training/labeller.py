"""What learns to answer several labels, each by itself."""

from __future__ import annotations

from collections.abc import Callable, Iterable

import numpy as np
from numpy.typing import NDArray

from attentive_lens.engine.arrays import Array
from attentive_lens.engine.layers import StepContext
from attentive_lens.engine.losses import Loss
from attentive_lens.engine.network import Network
from attentive_lens.engine.ranks import ALONE, Cut, Ranks
from attentive_lens.engine.threads import ThreadPool
from attentive_lens.images.feeding import Batch
from attentive_lens.images.preprocessing import Preprocessor
from attentive_lens.plan.plan import Plan
from attentive_lens.training.classifier import Classifier
from attentive_lens.training.learner import Stepped
from attentive_lens.training.metrics import Metrics, measured_labels


class Labeller(Classifier):
    """A classifier of several labels.

    Parameters
    ----------
    targets : ndarray, C×K float32
        Labels of each set of them, 1 or 0; images are numbered by their sets.
    counts : ndarray, C
        Training images of each set.
    """

    def __init__(
        self,
        targets: NDArray[np.float32],
        counts: NDArray[np.int64],
        network: Network,
        plan: Plan,
        preprocessor: Preprocessor,
        thread_pool: ThreadPool,
        frozen: str = "",
        examples: Callable[[int, int], Iterable[Batch]] | None = None,
        ranks: Ranks = ALONE,
    ) -> None:
        super().__init__(network, plan, preprocessor, thread_pool, None, frozen, examples, ranks)
        self.labels_of_sets = targets
        having = np.rint(counts @ targets).astype(np.int64)
        self.loss = Loss.of(plan.loss, having, int(counts.sum()))
        self.watch.right = self.loss.right

    def step(self, images: Array, batch: Batch, context: StepContext, cut: Cut, batches: int) -> Stepped:
        """As of classes; there is no one class that was said."""
        stepped = super().step(images, batch, context, cut, batches)
        self.predicted = self.predicted[:0]
        return stepped

    def targets(self, labels: NDArray[np.int64], classes: int) -> Array:
        """Of sets of labels."""
        return self.labels_of_sets[labels]

    def measured(self, scores: Array, losses: NDArray[np.float64], labels: NDArray[np.int64]) -> Metrics:
        """Of labels."""
        return measured_labels(scores, losses, self.labels_of_sets[labels] > 0)
