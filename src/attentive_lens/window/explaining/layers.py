"""Activations: the bench with the strongest map on every plate, and the channels of the chosen one."""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray
from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import QHBoxLayout, QScrollArea, QVBoxLayout, QWidget

from attentive_lens.desk.design import facts_of
from attentive_lens.desk.requests.explaining import ActivationMaps, Activations, Explanation
from attentive_lens.window import look
from attentive_lens.window.bench.bench import Bench
from attentive_lens.window.bench.plates import chosen_plates, plates_of
from attentive_lens.window.parts.basics import ink_on_paper, label, to_image
from attentive_lens.window.parts.picture import Strip
from attentive_lens.window.session import Session

SHOWN = 24
"""Channels, at most."""


class LayersPanel(QWidget):
    """The bench above, channels of the chosen plate below, the most active first."""

    def __init__(self, session: Session) -> None:
        super().__init__()
        self.session = session
        self.maps: dict[str, NDArray[np.float32]] = {}
        inside = QVBoxLayout(self)
        inside.setContentsMargins(0, 0, 0, 0)
        inside.setSpacing(6)
        head = QHBoxLayout()
        head.addStretch()
        self.note = label(role="faint", size=look.SMALL, name="layer note")
        head.addWidget(self.note)
        inside.addLayout(head)
        self.bench = Bench("explain bench", 132)
        self.bench.setFixedHeight(190)
        self.bench.chosen.connect(lambda _: self._show_channels())
        scroll = QScrollArea()
        scroll.setWidgetResizable(True)
        scroll.setFixedHeight(204)
        scroll.setVerticalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        scroll.setWidget(self.bench)
        inside.addWidget(scroll)
        self.channels = Strip("channels", 40)
        inside.addWidget(self.channels)

    def show_layers(self, run: int, explanation: Explanation) -> None:
        """Of the image explained; the maps on the plates are asked for, and follow."""
        plan = self.session.runs.plan()
        if plan is None:
            return
        network, facts = facts_of(plan, len(self.session.images.collection.classes))
        by_name = {fact.name: fact for fact in facts}
        every = plates_of(network.nodes, by_name, plan.preprocessing.shape, plan.frozen)
        plates = chosen_plates(every, [len(p.shape) == 3 or p is every[-1] for p in every])
        if tuple(p.name for p in plates) != tuple(p.name for p in self.bench.plates) or not self.bench.pictures:
            self.bench.show_plates(plates)
        self.bench.show_pictures({"image": to_image(explanation.pixels)})
        if self.bench.current is None:
            self.bench.current = 1
        self.maps = {}
        names = {layer.name for layer in explanation.layers}
        layers = tuple(plate.output for plate in plates if plate.output in names and len(plate.shape) == 3)
        request = Activations(layers, self.session.place, run, explanation.image or 0)
        if explanation.image is None:
            model = str(self.session.workspace.run(run).model)
            request = Activations(layers, model=model, file=explanation.file)
        self.session.ask(request, self._take, priority=2, scope="activations")
        self._show_channels()

    def _take(self, activations: ActivationMaps) -> None:
        self.maps = {name: maps for name, maps in activations.outputs.items() if maps.ndim == 3}
        self.draw_maps()

    def draw_maps(self) -> None:
        """The maps in the colours of the theme, on the plates and below."""
        pictures = {name: to_image(ink_on_paper(maps[:, :, _order(maps)[0]])) for name, maps in self.maps.items()}
        self.bench.show_pictures({**self.bench.pictures, **pictures})
        self._show_channels()

    def _show_channels(self) -> None:
        if self.bench.current is None or not self.bench.plates:
            return
        plate = self.bench.plates[self.bench.current]
        maps = self.maps.get(plate.output)
        if maps is None:
            self.channels.show_pictures([])
            flat = len(plate.shape) != 3
            self.note.setText(f"{plate.name} has no maps: it is one row of values" if flat else "")
            return
        self.channels.show_pictures([to_image(ink_on_paper(maps[:, :, c])) for c in _order(maps)[:SHOWN]])
        self.note.setText(f"below: {plate.name}, the most active of {maps.shape[2]} channels first")


def _order(maps: NDArray[Any]) -> NDArray[np.int64]:
    """Channels, the most active first."""
    return np.argsort(-np.abs(maps).mean(axis=(0, 1)), kind="stable")
