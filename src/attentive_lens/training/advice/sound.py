"""Between which values the figures of a layer's health are sound."""

from __future__ import annotations

from attentive_lens.plan.plan import Plan
from attentive_lens.training.advice.layers import DEAD, DEAD_CONNECTED, EXPLODED
from attentive_lens.training.advice.rates import LARGE

FIGURES = ("update", "gradient", "activation", "dead")
"""Of `Health`, in the order in which they are shown."""
LIMITS: dict[str, tuple[float, float]] = {
    "update": (1e-7, LARGE),
    "gradient": (1e-7, EXPLODED),
    "activation": (1e-4, 1e4),
    "dead": (0.0, DEAD),
}
"""Least and greatest sound value. A schedule may end with steps as small as it likes."""


def is_sound(plan: Plan, layer: str, figure: str, value: float | None) -> bool:
    """Whether a layer's figure is within its limits; what was not looked at is."""
    if value is None:
        return True
    low, high = LIMITS[figure]
    if figure == "dead" and connected_before(plan, layer):
        high = DEAD_CONNECTED
    if figure == "gradient" and layer == plan.network.nodes[-1].name:
        high *= 10
    return low <= value <= high


def connected_before(plan: Plan, layer: str) -> bool:
    """Whether a rectifier stands after a fully connected layer."""
    kinds = {node.name: node.layer.kind for node in plan.network.nodes}
    sources = next((node.after for node in plan.network.nodes if node.name == layer), ())
    return any(kinds.get(source) == "fully connected" for source in sources)


def unsound(plan: Plan, values: dict[str, tuple[float | None, ...]]) -> dict[str, tuple[str, ...]]:
    """Figures outside their limits, by layer; layers without any are left out.

    Parameters
    ----------
    plan : Plan
        Of the run.
    values : dict
        By figure, one entry a layer of the plan's network.
    """
    result = {}
    for place, node in enumerate(plan.network.nodes):
        wrong = tuple(
            figure
            for figure in FIGURES
            if place < len(values[figure]) and not is_sound(plan, node.name, figure, values[figure][place])
        )
        if wrong:
            result[node.name] = wrong
    return result
