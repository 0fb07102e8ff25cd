"""Hyperparameter sweeps: plans that differ in chosen settings, and which of them are worth training on."""

from __future__ import annotations

import itertools
import math
import re
import tomllib
from collections.abc import Iterable, Sequence
from dataclasses import dataclass, replace

from attentive_lens.core.random import random_generator
from attentive_lens.desk.results.comparing import RunRow
from attentive_lens.errors import BadUsage, BadValue
from attentive_lens.plan.plan import Plan

MOST = 1000
"""Plans of one sweep."""
EVEN = 10.0
"""Ratio of a range's ends from which on random values are drawn evenly by their logarithm."""


@dataclass(frozen=True)
class Axis:
    """A setting and the values it takes, or the ends of a range that random values are drawn from.

    Attributes
    ----------
    key : str
        As `Plan.changed` takes it.
    values : tuple
        Plain values; of a range its two ends.
    is_range : bool
        Whether anything between the two is meant.
    """

    key: str
    values: tuple[object, ...]
    is_range: bool = False


def read_axis(words: str) -> Axis:
    """From «optimiser.learning_rate=0.0003,0.001,0.003», or «…=0.0001..0.01» for a range.

    Raises
    ------
    BadUsage
        If it is neither.
    """
    key, equals, rest = words.partition("=")
    if not equals or not key.strip() or not rest.strip():
        raise BadUsage("The sweep cannot be read", f"«{words}» names no setting with values", "Write KEY=VALUE,VALUE")
    ends = re.fullmatch(r"\s*(\S+?)\s*\.\.\s*(\S+)\s*", rest)
    if ends is not None:
        low, high = _value(ends[1]), _value(ends[2])
        numbers = all(isinstance(end, int | float) and not isinstance(end, bool) for end in (low, high))
        if not numbers or not low < high:  # type: ignore[operator]
            why = f"«{rest}» is no range of two numbers, the lower first"
            raise BadUsage(f"The sweep over {key} cannot be read", why, "Write KEY=0.0001..0.01")
        return Axis(key.strip(), (low, high), True)
    values = tuple(_value(part.strip()) for part in rest.split(",") if part.strip())
    return Axis(key.strip(), tuple(dict.fromkeys(values)))


def _value(words: str) -> object:
    """A plain value as TOML has it; what is none is text."""
    try:
        return tomllib.loads(f"value = {words}")["value"]
    except (ValueError, RecursionError):
        return words


def grid(plan: Plan, axes: Sequence[Axis]) -> tuple[Plan, ...]:
    """Every combination of the values.

    Raises
    ------
    BadUsage
        If a range is among them, or they are too many.
    BadValue
        If a plan takes no such setting or value.
    """
    for axis in axes:
        if axis.is_range:
            raise BadUsage(
                f"The sweep over {axis.key} has no end", "a grid needs values", "Name values, or use --random"
            )
    count = math.prod(len(axis.values) for axis in axes)
    if not axes or count > MOST:
        why = f"{count} plans are more than {MOST}" if axes else "no setting is named"
        raise BadUsage("The sweep was not begun", why, "Name settings with a few values each")
    return tuple(
        _with(plan, [(axis.key, value) for axis, value in zip(axes, values, strict=True)])
        for values in itertools.product(*(axis.values for axis in axes))
    )


def sample(plan: Plan, axes: Sequence[Axis], count: int) -> tuple[Plan, ...]:
    """So many random combinations, none twice; the plan's seed decides them.

    Between the ends of a range values are drawn evenly, by their logarithm where the ends are far apart; where both
    are whole numbers, whole numbers are.
    """
    rng = random_generator(plan.seed, "hyperparameter sweep")

    def drawn(axis: Axis) -> object:
        if not axis.is_range:
            return axis.values[int(rng.integers(len(axis.values)))]
        low, high = (float(end) for end in axis.values)  # type: ignore[arg-type]
        far = low > 0 and high / low >= EVEN
        value = math.exp(rng.uniform(math.log(low), math.log(high))) if far else rng.uniform(low, high)
        whole = all(isinstance(end, int) for end in axis.values)
        return round(value) if whole else float(f"{value:.3g}")

    plans: dict[Plan, None] = {}
    for _ in range(20 * count):
        if len(plans) == count:
            break
        plans[_with(plan, [(axis.key, drawn(axis)) for axis in axes])] = None
    return tuple(plans)


def folds(plan: Plan, count: int) -> tuple[Plan, ...]:
    """Of cross-validation: a plan a fold, which it holds out."""
    plans = []
    for fold in range(1, count + 1):
        of_fold = plan.changed({"split.folds": count, "split.validation_fold": fold})
        plans.append(replace(of_fold, name=f"{plan.name}: fold {fold} of {count}"[:200]))
    return tuple(plans)


def _with(plan: Plan, settings: Iterable[tuple[str, object]]) -> Plan:
    chosen = dict(settings)
    changed = plan.changed(chosen)
    words = ", ".join(f"{_word(key)} {value:g}" if isinstance(value, float) else f"{_word(key)} {value}"
                      for key, value in chosen.items())  # fmt: skip
    return replace(changed, name=f"{plan.name}: {words}"[:200])


def _word(key: str) -> str:
    section, _, name = key.rpartition(".")
    return section if name == "kind" else name.replace("_", " ")


def rungs(epochs: int, plans: int) -> tuple[int, ...]:
    """Epochs after which the worse half of the plans is given up (Jamieson & Talwalkar 2016, figure 3)."""
    halvings = max(0, math.ceil(math.log2(max(1, plans))))
    result = sorted({max(1, round(epochs / 2**k)) for k in range(halvings, -1, -1)})
    return tuple(result)


def better_half(rows: Sequence[RunRow]) -> tuple[RunRow, ...]:
    """The better half of some runs by their validation accuracy, of equals by their loss; at least one."""
    known = [row for row in rows if row.accuracy is not None]
    ranked = sorted(known, key=lambda row: (-(row.accuracy or 0.0), row.loss if row.loss is not None else math.inf))
    return tuple(ranked[: max(1, math.ceil(len(rows) / 2))])


def check_judged(plan: Plan) -> None:
    """Refuse to compare plans that nothing judges."""
    if not plan.split.validation_fraction and not plan.split.folds:
        why = "no images are held out for validation, so nothing tells which plan is better"
        raise BadValue("The sweep was not begun", why, "Set split.validation_fraction")
