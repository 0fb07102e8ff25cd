"""What training takes in memory, said from the plan alone."""

from __future__ import annotations

from collections.abc import Collection

from attentive_lens.plan.examination import Facts
from attentive_lens.plan.layers.base import product
from attentive_lens.plan.pieces import INFERENCE_PIECE, pieces_of
from attentive_lens.plan.plan import Plan

PROGRAM = 95 * 2**20
"""Bytes that a process holds before it has a plan: interpreter, libraries, compiled loops."""
FED = 6
"""Copies of a training batch's prepared images: learned from, waiting, and being made."""
WANTED = 4
"""Copies of the images that a network is to draw and of what it draws, beside those it sees."""
EVALUATED = 2
"""Copies of an evaluation batch's prepared images while they are made."""
COPIES = 2
"""Copies of all weights beside those that learn: of the best epoch, and what kernels make of them or a file takes."""
PASSING = 3
"""Copies of a piece's largest map, a thread: output, gradient, what a kernel lays out anew."""


def training_memory(plan: Plan, facts: Collection[Facts], validation: int) -> int:
    """Bytes that a process holds at most while it trains, pages of mapped image files apart.

    A piece's maps are kept until its gradients are there: of as many pieces as there are threads, or of all where a
    normalisation that learns needs sums of the whole batch. A rectifier changes the map of a layer with weights, or of
    a joining one, in place. Gradients by the weights are kept for every piece until they are added up. Of what steps
    and evaluations take in turn, a quarter of the lesser is not used again by the other. `benchmarks/memory.py`
    holds this against what processes took.

    Parameters
    ----------
    plan : Plan
        Batch sizes, threads, precision, optimiser, averaging, and what is frozen and so keeps no maps.
    facts : collection of Facts
        Of the network with an answer for each class.
    validation : int
        Images of the validation set.
    """
    training, nodes = plan.training, {node.name: node for node in plan.network.nodes}
    learned = [fact for fact in facts if fact.name not in plan.frozen]
    pieces = pieces_of(training.batch_size * sum(fact.multiply_adds for fact in learned))
    arrays = plan.optimiser.state_arrays + plan.averaging.state_arrays
    weights = sum(fact.weights for fact in learned) * (pieces + arrays)
    weights += sum(fact.weights for fact in facts) * (1 + COPIES)
    together = any(nodes[fact.name].layer.whole_batch for fact in learned if fact.name in nodes)
    piece = -(-training.batch_size // pieces)
    alive = training.batch_size if together else piece * min(pieces, training.threads)
    weighted = {fact.name for fact in facts if fact.weights}

    def in_place(name: str) -> bool:
        node = nodes.get(name)
        if node is None or not node.layer.is_rectifier:
            return False
        before = nodes.get(node.after[0])
        return before is not None and (before.name in weighted or before.layer.joins)

    maps = sum(fact.numbers for fact in learned if not in_place(fact.name))
    image = product(plan.preprocessing.shape)
    passing = PASSING * training.threads
    step = alive * maps + passing * _largest(learned) * piece
    wanted = WANTED if plan.task.draws else 0
    evaluation = (EVALUATED + wanted) * min(training.evaluation_batch_size, validation) * image
    evaluation += passing * _largest(facts) * INFERENCE_PIECE
    fed = (FED + wanted) * training.batch_size * image
    return PROGRAM + training.bytes_a_number * (weights + max(step, evaluation) + min(step, evaluation) // 4) + 4 * fed


def _largest(facts: Collection[Facts]) -> int:
    """Numbers of the largest map of one image."""
    return max((fact.numbers for fact in facts), default=0)
