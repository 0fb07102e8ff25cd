"""How the layers of a run did, as series to be drawn, and what of it is not sound."""

from __future__ import annotations

from dataclasses import dataclass

from attentive_lens.desk.training.runs import RunView
from attentive_lens.plan.plan import Plan
from attentive_lens.training.advice.sound import FIGURES, is_sound, unsound

Series = dict[tuple[str, str], tuple[float | None, ...]]
"""By layer and figure, one value an epoch."""

__all__ = ["FIGURES", "LayersHealth", "Series", "health_of", "is_sound"]


@dataclass(frozen=True)
class LayersHealth:
    """Of a run's last epochs.

    Attributes
    ----------
    looks : int
        Epochs after which the layers were looked at, in all.
    series : Series
        Of the last of them.
    wrong : dict
        Figures outside their limits after the last epoch, by layer.
    """

    looks: int
    series: Series
    wrong: dict[str, tuple[str, ...]]


def health_of(view: RunView, plan: Plan, most: int) -> LayersHealth | None:
    """Of at most so many last epochs; None where layers were not looked at."""
    looks = [epoch.health for epoch in view.epochs if epoch.health is not None]
    if not looks:
        return None
    series: Series = {}
    for place, node in enumerate(plan.network.nodes):
        for figure in FIGURES:
            values = (getattr(look, figure) for look in looks[-most:])
            series[node.name, figure] = tuple(each[place] if place < len(each) else None for each in values)
    last = {figure: getattr(looks[-1], figure) for figure in FIGURES}
    return LayersHealth(len(looks), series, unsound(plan, last))
