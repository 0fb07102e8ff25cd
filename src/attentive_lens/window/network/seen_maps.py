"""What a trained run's layers made of the sample image: a picture for every plate that still is as it was there."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np
from numpy.typing import NDArray
from PyQt6.QtGui import QImage

from attentive_lens.desk.requests.explaining import ActivationMaps, Activations, RunImage
from attentive_lens.errors import LensError
from attentive_lens.plan.difference import same_so_far
from attentive_lens.plan.editing import Nodes
from attentive_lens.plan.plan import Plan
from attentive_lens.window.parts.basics import ink_on_paper, to_image
from attentive_lens.window.session import Session

SAMPLE = 0
"""Row of the image whose maps are shown."""


class SeenMaps:
    """The most active feature map of each layer in a trained run, asked for once a run.

    Parameters
    ----------
    session : Session
        Whose runs they are.
    arrived : callable
        Called when maps have come.
    """

    def __init__(self, session: Session, arrived: Callable[[], None]) -> None:
        self.session, self._arrived = session, arrived
        self.run: int | None = None
        self._asked: tuple[int, int] | None = None
        self._maps: dict[str, NDArray[np.float32]] = {}
        self._plan: Plan | None = None

    def pictures(self, plan: Plan, nodes: Nodes, run: int | None) -> dict[str, QImage]:
        """Pictures by node, of a run, or else of the one in view; none until they have come.

        Nodes that were changed since, and all that they feed, have none.
        """
        view = self.session.runs.views.get(run) if run is not None else self.session.runs.view
        if view is None or not view.has_model:
            self.run = None
            return {}
        wanted = (view.number, len(view.epochs))
        if self._asked != wanted and self.session.runs.training is None:
            self._ask(*wanted)
        if self._plan is None or self._asked != wanted:
            return {}
        same = same_so_far(plan, nodes, self._plan)
        return {name: to_image(ink_on_paper(map_)) for name, map_ in self._maps.items() if name in same}

    def _ask(self, number: int, epochs: int) -> None:
        self._asked, self.run, self._maps = (number, epochs), number, {}
        try:
            self._plan = self.session.workspace.run(number).plan()
        except LensError:
            self._plan = None
            return
        self.session.ask(
            Activations(RunImage(self.session.place, number, SAMPLE + 1)),
            self._take,
            lambda _: None,  # a model that cannot be read is told where it is asked for
            priority=8,
            scope="maps on plates",
        )

    def _take(self, activations: ActivationMaps) -> None:
        for name, maps in activations.outputs.items():
            if maps.ndim == 3:
                most = int(np.abs(maps).mean(axis=(0, 1)).argmax())
                self._maps[name] = maps[:, :, most]
        self._arrived()
