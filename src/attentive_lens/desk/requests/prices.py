"""The request for what a plan will cost on this machine."""

from __future__ import annotations

from dataclasses import dataclass
from typing import ClassVar

from attentive_lens.core.records import PlainTable
from attentive_lens.desk.requests.base import Request


@dataclass(frozen=True)
class ThreadTime:
    """What a batch takes with so many threads.

    Attributes
    ----------
    threads : int
        From 1.
    forward_seconds, step_seconds : float
        A batch answered, and a batch learned from, without making it; medians.
    """

    threads: int
    forward_seconds: float
    step_seconds: float


@dataclass(frozen=True)
class PlanPrice:
    """What an epoch costs, from a second of training on made-up pixels.

    Attributes
    ----------
    epoch_seconds : float
        All batches, and the evaluation after them.
    step_seconds, evaluation_seconds : float
        One batch, and the whole validation set.
    batches : int
        In an epoch.
    training, validation : int
        Images.
    memory, free : int
        Bytes that training holds at most, and that are free now.
    threads : tuple of ThreadTime
        For each number of threads that could be chosen, where that was asked for.
    """

    epoch_seconds: float
    step_seconds: float
    evaluation_seconds: float
    batches: int
    training: int
    validation: int
    memory: int
    free: int
    threads: tuple[ThreadTime, ...] = ()


@dataclass(frozen=True)
class PricePlan(Request[PlanPrice]):
    """What a plan, given as its table, will cost with a workspace's images; for each number of threads if wanted."""

    result: ClassVar[type[object]] = PlanPrice
    task: ClassVar[str] = "pricing.price"
    workspace: str
    plan: PlainTable
    threads: bool = False
