"""The optimisers' settings. To add one: a class and a line here, its arithmetic and a line in ``engine/optimisers``."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any, ClassVar

from attentive_lens.core.extensions import take_kinds
from attentive_lens.core.values import Kind, spec


def _epsilon() -> Any:
    """Of a division by the root of squares."""
    return spec(
        1e-8,
        label="epsilon",
        low=1e-12,
        high=0.1,
        meaning="Added to the root of the squares.",
        ends="Usual: 0.00000001. Large ones turn it into plain descent, and steps become small.",
    )


@dataclass(frozen=True)
class OptimiserSettings(Kind):
    """Base of the optimisers' settings."""

    section: ClassVar[str] = "optimiser"

    learning_rate: float = spec(
        0.001,
        label="learning rate",
        low=1e-8,
        high=10.0,
        meaning="Length of a step; the schedule changes it.",
        ends="Usual: 0.0003 to 0.003 with adam, 0.01 to 0.1 with sgd. Too low: hardly anything is learned in "
        "the time; too high: the loss jumps or runs away. «Sweep learning rates» finds one.",
    )
    weight_decay: float = spec(
        0.0,
        label="weight decay",
        low=0.0,
        high=1.0,
        meaning="Pull of every kernel and matrix towards zero.",
        ends="Usual: 0 to 0.05 decoupled, up to 0.001 in the gradient. At 0 weights grow freely; large ones "
        "hold them so small that nothing is learned.",
    )
    decoupled: bool = spec(
        True,
        label="decoupled weight decay",
        meaning="Weight decay acts apart from the optimiser's rule (with Adam: AdamW); if not, it is added to the"
        " gradient (L2 penalty).",
    )

    @property
    def state_arrays(self) -> int:
        """Arrays of the weights' size that it keeps, for the memory a run needs."""
        return 0


@dataclass(frozen=True)
class Adam(OptimiserSettings):
    """Adaptive moments."""

    kind: ClassVar[str] = "adam"
    idea: ClassVar[str] = "Scales the step of every weight by running means of its gradient and the gradient's square."

    beta1: float = spec(
        0.9,
        label="beta 1",
        low=0.0,
        high=0.9999,
        meaning="Memory of the gradient's running mean.",
        ends="Usual: 0.9, 0 to 0.5 for pairs that draw. At 0 every batch pulls its own way; near 1 steps go on "
        "long after the slope has turned.",
    )
    beta2: float = spec(
        0.999,
        label="beta 2",
        low=0.0,
        high=0.99999,
        meaning="Memory of the squares' running mean.",
        ends="Usual: 0.999. Lower reacts to single batches; nearer 1 needs thousands of steps to follow.",
    )
    epsilon: float = _epsilon()

    @property
    def state_arrays(self) -> int:
        """Mean and square."""
        return 2


@dataclass(frozen=True)
class Sgd(OptimiserSettings):
    """Stochastic gradient descent."""

    kind: ClassVar[str] = "sgd"
    idea: ClassVar[str] = "Stochastic gradient descent: a step down the gradient, with momentum if any."

    momentum: float = spec(
        0.9,
        label="momentum",
        low=0.0,
        high=0.9999,
        meaning="Part of the last step kept in the next; 0: plain descent.",
        ends="Usual: 0.9. At 0 progress is slow and unsteady; near 1 it overshoots and swings.",
    )
    nesterov: bool = spec(
        False, label="Nesterov momentum", meaning="Whether the gradient is taken ahead, where momentum leads."
    )

    @property
    def state_arrays(self) -> int:
        """The velocity."""
        return 1 if self.momentum else 0


@dataclass(frozen=True)
class AdaGrad(OptimiserSettings):
    """Adaptive gradient."""

    kind: ClassVar[str] = "adagrad"
    idea: ClassVar[str] = "Divides the step of every weight by the root of all its squared gradients so far."

    epsilon: float = spec(
        1e-10,
        label="epsilon",
        low=1e-12,
        high=0.1,
        meaning="Added to the root of the squares.",
        ends="Usual: 1e-10. Large ones make the first steps small.",
    )

    @property
    def state_arrays(self) -> int:
        """The squares."""
        return 1


@dataclass(frozen=True)
class RmsProp(OptimiserSettings):
    """Root mean square propagation."""

    kind: ClassVar[str] = "rmsprop"
    idea: ClassVar[str] = "Divides the step of every weight by the root of a running mean of its squared gradients."

    decay_rate: float = spec(
        0.9,
        label="decay rate",
        low=0.0,
        high=0.9999,
        meaning="Memory of the running mean.",
        ends="Usual: 0.9 to 0.99. Lower reacts to single batches; near 1 it follows late.",
    )
    epsilon: float = _epsilon()

    @property
    def state_arrays(self) -> int:
        """The squares."""
        return 1


OPTIMISERS: dict[str, type[OptimiserSettings]] = {
    rule.kind: rule
    for rule in (
        Adam,
        Sgd,
        AdaGrad,
        RmsProp,
    )
}
take_kinds(OPTIMISERS, "plan.optimisers", OptimiserSettings)
