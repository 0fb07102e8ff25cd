"""What a training loop drives: something that learns from batches and can be evaluated.

The loop knows nothing of networks and optimisers, so a learner may have several of either.
"""

from __future__ import annotations

from abc import ABC, abstractmethod
from collections.abc import Callable, Iterable, Mapping
from typing import Any, TypeAlias

import numpy as np
from numpy.typing import NDArray

from attentive_lens.engine.arrays import Array, Weights
from attentive_lens.engine.batches import statistics
from attentive_lens.engine.layers import StepContext
from attentive_lens.engine.network import Network, Route, fingerprint
from attentive_lens.engine.optimisers import OPTIMISERS, Optimiser, clip, norm
from attentive_lens.engine.ranks import ALONE, Cut, Ranks
from attentive_lens.engine.schedules import At, learning_rate_factor
from attentive_lens.engine.threads import ThreadPool
from attentive_lens.errors import LensError
from attentive_lens.images.feeding import Batch
from attentive_lens.images.pixel_format import PixelArray
from attentive_lens.images.preprocessing import Preprocessor
from attentive_lens.images.rows import Chosen
from attentive_lens.plan.nodes import Learning, Node
from attentive_lens.plan.plan import Plan
from attentive_lens.plan.schedules import ScheduleSettings
from attentive_lens.plan.unfreezing import unfreezing_of
from attentive_lens.training.averaging import AVERAGE, AVERAGING
from attentive_lens.training.control import Rates, rate_at
from attentive_lens.training.figures import Health
from attentive_lens.training.film import Frame
from attentive_lens.training.frozen_outputs import outputs_of
from attentive_lens.training.health import HealthWatch
from attentive_lens.training.metrics import Metrics

STATISTICS_IMAGES = 1024
"""On which running statistics of averaged weights are taken anew."""


Stepped = tuple[Metrics, float, Weights, Mapping[str, Array]]
"""Figures of a batch, the loss that was made small, its gradients, and sums over the batch."""


AnyOptimiser: TypeAlias = Optimiser[Any]


class SharedFault(LensError):
    """What every process that trains finds in the same step; each raises it."""


class Learner(ABC):
    """Base of what can be trained.

    Attributes
    ----------
    learning_rate : float
        Of the last step; 0 before the first.
    rates : Rates
        Set while it trains.
    predicted : ndarray, N int64
        Classes said of the last step's images that this process computed.
    """

    learning_rate: float = 0.0
    rates: Rates = ()
    predicted: NDArray[np.int64] = np.zeros(0, np.int64)

    @abstractmethod
    def learn(self, batch: Batch, context: StepContext, batches: int) -> Metrics:
        """One step of so many in an epoch; raises `LensError` without changing anything if the numbers blew up."""

    @abstractmethod
    def evaluate(self, pixels: PixelArray | Chosen, labels: NDArray[np.int64]) -> Metrics:
        """Loss and right answers on images that are never changed, M×H×W×C uint8."""

    def before_evaluation(self, fraction: float) -> None:
        """An epoch is over, and so much of the run, and is to be evaluated."""
        del fraction

    @abstractmethod
    def on_epoch_end(self, validation: Metrics | None) -> None:
        """An epoch is over and was evaluated so; None if it was not."""

    def frame(self, epoch: int, pixels: PixelArray | Chosen) -> Frame | None:
        """What it draws of some images N×H×W×C uint8, and of random codes; None where it draws nothing."""
        del epoch, pixels
        return None

    def health(self, images: int) -> Health | None:
        """How its layers did since the last time, on so many images; None where nobody looks."""
        del images
        return None

    @abstractmethod
    def weights(self) -> Weights:
        """A copy of what has been learned."""

    def model(self) -> Weights:
        """A copy of what was evaluated and is to be kept as a model: the weights, or a mean of them."""
        return self.weights()

    @abstractmethod
    def memory(self) -> dict[str, Array]:
        """All else that decides the next steps, for a checkpoint; `restore` takes it."""

    @abstractmethod
    def restore(self, weights: Weights, memory: Mapping[str, Array]) -> None:
        """Go on from a checkpoint."""


class NetworkLearner(Learner):
    """Base of what trains a network: what all of these share but the step.

    Parameters
    ----------
    network : Network
        Trained in place.
    plan : Plan
        Optimiser, schedule, loss, and what is frozen.
    preprocessor : Preprocessor
        For `evaluate`.
    thread_pool : ThreadPool
        Threads.
    frozen : str
        A node up to which nothing changes: only what stands after it is run, on its outputs, which stand in for images
        where they are kept and are computed from images where they are not.
    examples : callable, optional
        Gives batches of at least so many training images, others for another number: running statistics of averaged
        weights are taken on them, and the layers' health.
    """

    driven_rate = 0.0
    """The learning rate of the next step, whatever the plan says; 0 leaves it to that."""

    def __init__(
        self,
        network: Network,
        plan: Plan,
        preprocessor: Preprocessor,
        thread_pool: ThreadPool,
        frozen: str = "",
        examples: Callable[[int, int], Iterable[Batch]] | None = None,
        ranks: Ranks = ALONE,
    ) -> None:
        self.network, self.plan, self.preprocessor, self.thread_pool = network, plan, preprocessor, thread_pool
        self.unfreezing = unfreezing_of(plan)
        learnings = {node.name: self._learning(node) for node in network.plan.nodes}
        axes = {node.name: node.layer.filter_axis for node in network.plan.nodes}
        self.optimiser = OPTIMISERS[plan.optimiser.kind](plan.optimiser, learnings, axes)
        still = {node.name for node in network.plan.nodes if node.frozen}
        self.frozen, self.head = frozen, network.head(frozen) if frozen else network
        self._learns = frozenset(self.head.weights) - plan.frozen - still
        self.route = self._route_at(0)
        self.losses: list[float] = []
        self.averaging = AVERAGING[plan.averaging.kind](plan.averaging)
        self.examples, self.ranks = examples, ranks
        self.watch = HealthWatch(self.head, [node.name for node in network.plan.nodes], thread_pool)

    def _learning(self, node: Node) -> Learning:
        """How a node learns: its own multiplier of the learning rate, by its depth in the base."""
        factor = self.unfreezing.factors.get(node.name, 1.0)
        own = node.learning
        return own if factor == 1 else own.with_(lr_multiplier=own.lr_multiplier * factor)

    def _route_at(self, epoch: int) -> Route:
        """The way back to what learns in an epoch."""
        return self.head.route(self._learns - self.unfreezing.frozen_at(epoch))

    def cut(self, count: int) -> Cut:
        """How a batch of so many images is shared out."""
        return Cut(count, self.head.multiply_adds, self.ranks)

    def sound(self, images: Array, batch: Batch, context: StepContext, loss: float, gradients: Weights) -> None:
        """Refuse a step whose numbers ran away, and clip gradients that are too long."""
        length = norm(gradients)
        if not (np.isfinite(loss) and np.isfinite(length)):
            began = self._first(self.where_it_began(images, batch, context))
            raise SharedFault(
                f"Training stopped in epoch {context.epoch + 1}, batch {context.batch + 1}",
                f"numbers ran away: infinity or no number at all began {began}; the step was not taken",
                "Train again with a learning rate ten times smaller, or with gradient clipping at norm 1",
            )
        if self.plan.training.clip_norm:
            clip(gradients, length, self.plan.training.clip_norm)

    def change(
        self, optimiser: AnyOptimiser, gradients: Weights, factor: float, context: StepContext, batches: int
    ) -> None:
        """Take an optimiser's step, and look at it now and then."""
        since = {name: first * batches for name, first in self.unfreezing.begins.items()}
        weights = self.network.weights
        if self.examples is not None and not self.ranks.index and self.watch.due(context.batch, batches):
            norms = self.watch.norms(gradients)
            before = {node: {name: a.copy() for name, a in weights[node].items()} for node in norms}
            optimiser.step(weights, gradients, factor, since)
            self.watch.step(before, weights, norms)
        else:
            optimiser.step(weights, gradients, factor, since)

    @abstractmethod
    def loss_on(self, batch: Batch) -> float:
        """The plain loss on a batch as in training, all that is random always the same; nothing is learned."""

    @abstractmethod
    def where_it_began(self, images: Array, batch: Batch, context: StepContext) -> str:
        """Where in a step numbers first were none, «in relu 2» and the like; empty if not here."""

    def _first(self, began: str) -> str:
        """What the first process found that found something."""
        return next(filter(None, self.ranks.gather_words(began)), "where gradients meet")

    def factor(self, context: StepContext, batches: int, schedule: ScheduleSettings | None = None) -> float:
        """Of the planned learning rate at a step of an epoch of so many: the schedule's, on the rate that was set.

        Another ``schedule`` than the plan's takes its place.
        """
        number, planned = context.epoch * batches + context.batch, self.plan.optimiser.learning_rate
        if self.driven_rate:
            return self.driven_rate / planned
        at = At(number, batches, self.plan.training.epochs, self.losses, self.plan.stopping.batches)
        scheduled = learning_rate_factor(schedule or self.plan.schedule, at)
        return scheduled * (rate_at(self.rates, number, planned) / planned)

    def _fed(self, images: Array) -> Array:
        """What the head takes: the images themselves, or their outputs at the frozen node, kept or computed now."""
        if not self.frozen or images.shape[1:] == self.head.image_shape:
            return images
        return outputs_of(self.network, self.frozen, images, self.thread_pool)

    def before_evaluation(self, fraction: float) -> None:
        """Takes an epoch's weights into their mean, and the mean's running statistics anew where they must be."""
        self.ranks.say("before evaluation", fraction=fraction)
        averaging = self.averaging
        averaging.after_epoch(self.network.weights, fraction)
        if not averaging.estimates_statistics or averaging.weights is None or self.examples is None:
            return
        head, context = self._evaluated()[1], StepContext(self.plan.seed, 0, 0, 0)
        totals: dict[str, Array] = {}
        for batch in self.examples(STATISTICS_IMAGES, 0):
            for name, sums in self.statistics(head, batch, context).items():
                totals[name] = totals[name] + sums if name in totals else sums
        head.restate(totals)

    def statistics(self, head: Network, batch: Batch, context: StepContext) -> Mapping[str, Array]:
        """Sums over a whole batch of what normalises over it and learns; see `Network.restate`."""
        cut = self.cut(batch.count)
        return statistics(head, self._fed(batch.images[cut.rows]), self.route, context, self.thread_pool, cut)

    def _evaluated(self) -> tuple[Network, Network]:
        """The network that is judged, whole and after the frozen part: the one that trains, or the averaged one."""
        if self.averaging.weights is None:
            return self.network, self.head
        network = self.network
        averaged = Network(network.plan, network.image_shape, self.averaging.weights, network.kernels)
        return averaged, averaged.head(self.frozen) if self.frozen else averaged

    def _own(self, count: int) -> tuple[bool, int, int]:
        """Whether so many images are shared out among the processes, and from which to which this one judges."""
        ranks, shared = self.ranks, count >= self.ranks.count  # of fewer everybody judges all
        begin, end = (count * k // ranks.count for k in (ranks.index, ranks.index + 1)) if shared else (0, count)
        return shared, begin, end

    def _check_numbers(self, losses: NDArray[np.float64]) -> None:
        """Refuse to go on with weights by which validation images have no loss."""
        if not np.isfinite(losses).all():
            raise SharedFault(
                "Training stopped after an epoch",
                "on the validation images the numbers ran away: their loss is infinite or no number at all",
                "Train again with a smaller learning rate, or with gradient clipping at norm 1",
            )

    def check_alike(self) -> None:
        """All processes hold the same weights, to the bit: their steps were the same."""
        if self.ranks.count == 1:
            return
        digests = self.ranks.gather(np.frombuffer(bytes.fromhex(fingerprint(self.network.weights)), np.uint8))
        apart = [number for number, digest in enumerate(digests, 1) if digest.tobytes() != digests[0].tobytes()]
        if apart:
            raise SharedFault(
                "Training stopped after an epoch",
                f"process {apart[0]} of {self.ranks.count} came to other weights than process 1, as happens where"
                " machines have other processors or libraries",
                "Train on machines of one kind",
            )

    def on_epoch_end(self, validation: Metrics | None) -> None:
        """Remembers the loss, for a schedule that waits for plateaus: an epoch without one is as the one before."""
        self.ranks.say("epoch end")
        if validation is not None:
            self.losses.append(validation.loss)
        elif self.losses:
            self.losses.append(self.losses[-1])

    def weights(self) -> Weights:
        """A copy."""
        return self.network.copy_weights()

    def model(self) -> Weights:
        """A copy of the averaged weights where there are some."""
        return self._evaluated()[0].copy_weights()

    def memory(self) -> dict[str, Array]:
        """The optimiser's arrays by ``node/array/name``; its steps, the losses and the averages under no node."""
        parts = {
            f"{node}/{array}/{name}": value
            for (node, array), arrays in self.optimiser.memory.items()
            for name, value in arrays.items()
        }
        parts["/steps"] = np.array([self.optimiser.steps], np.float64)
        parts["/losses"] = np.array(self.losses, np.float64)
        return parts | self.averaging.memory()

    def restore(self, weights: Weights, memory: Mapping[str, Array]) -> None:
        """As `weights` and `memory` gave them."""
        for node, arrays in weights.items():
            for name, value in arrays.items():
                self.network.weights[node][name] = value.copy()
        self.optimiser.steps = int(memory["/steps"][0])
        self.losses = [float(loss) for loss in memory["/losses"]]
        self.averaging.restore(memory)
        for key, value in memory.items():
            node, _, rest = key.partition("/")
            array, _, name = rest.partition("/")
            if node and name != AVERAGE:
                self.optimiser.memory.setdefault((node, array), {})[name] = value.copy()


class OneNetworkLearner(NetworkLearner):
    """One network, one optimiser; subclasses say what a step makes small and how images are judged."""

    def learn(self, batch: Batch, context: StepContext, batches: int) -> Metrics:
        """Forward, backward, step."""
        self.ranks.say("learn", epoch=context.epoch, batch=context.batch, batches=batches, rates=self.rates)
        if self.unfreezing.begins:
            self.route = self._route_at(context.epoch)
        images, cut = self._fed(batch.images), self.cut(batch.count)
        metrics, loss, gradients, sums = self.step(images, batch, context, cut, batches)
        self.sound(images, batch, context, loss, gradients)
        factor = self.factor(context, batches)
        self.change(self.optimiser, gradients, factor, context, batches)
        self.head.absorb(sums)
        self.averaging.after_step(self.network.weights)
        self.learning_rate = self.plan.optimiser.learning_rate * factor
        return metrics

    @abstractmethod
    def step(self, images: Array, batch: Batch, context: StepContext, cut: Cut, batches: int) -> Stepped:
        """What a batch of so many in the epoch gives, its images as the head takes them; nothing is changed yet."""
