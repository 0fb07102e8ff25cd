"""Layers: the bench with the strongest map on every plate, and of the plate chosen maps, filters and numbers."""

from __future__ import annotations

from PyQt6.QtWidgets import QScrollArea, QVBoxLayout

from attentive_lens.desk.requests.explaining import ActivationMaps, Activations, Explanation
from attentive_lens.plan.nodes import IMAGE
from attentive_lens.window.bench.bench import Bench
from attentive_lens.window.bench.plates import chosen_plates, plates_of
from attentive_lens.window.explaining.activations import ActivationsPanel, strongest
from attentive_lens.window.explaining.filters import FiltersPanel
from attentive_lens.window.explaining.layer_panel import LayerPanel
from attentive_lens.window.explaining.numbers import NumbersPanel
from attentive_lens.window.explaining.panel import PanelGroup
from attentive_lens.window.parts.basics import ink_on_paper, to_image
from attentive_lens.window.session import Session

PLATE, BENCH = 72, 158
"""Pixels of the tallest plate, and of the bench with its names."""


class LayersPanel(PanelGroup):
    """One bench; the plate chosen on it is the one whose maps, filters or numbers stand below."""

    title = "Layers"
    tip = "What each layer makes of this image, what its filters look for, and its numbers"
    members = (ActivationsPanel, FiltersPanel, NumbersPanel)

    def __init__(self, session: Session) -> None:
        super().__init__(session)
        self.of_layer = [panel for panel in self.panels if isinstance(panel, LayerPanel)]
        self.activations = next(panel for panel in self.panels if isinstance(panel, ActivationsPanel))
        for panel in self.of_layer:
            panel.layer_asked.connect(self.choose_layer)

    def add_above(self, inside: QVBoxLayout) -> None:
        """The bench."""
        self.bench = Bench("explain bench", PLATE)
        self.bench.chosen.connect(lambda _: self._show_plate())
        self.bench_area = QScrollArea()
        self.bench_area.setWidgetResizable(True)
        self.bench_area.setWidget(self.bench)
        self.bench_area.setFixedHeight(BENCH)
        inside.addWidget(self.bench_area)

    def changed(self, explanation: Explanation, same: bool) -> None:
        """The plates of the run; the maps on them are asked for, and follow."""
        self._show_plates(explanation)
        self.activations.show_explanation(explanation)
        super().changed(explanation, same)
        layers = self._layers(explanation)
        self.ask(Activations(explanation.subject, layers), self._take, self.activations.fail, 0, "activations")

    def _show_plates(self, explanation: Explanation) -> None:
        """Those that have maps, weights or something struck out, and the last."""
        plan, known = self.session.runs.plan(), self.session.runs.facts()
        if plan is None or known is None:
            return
        network, facts = known
        by_name = {fact.name: fact for fact in facts}
        every = plates_of(network.nodes, by_name, plan.preprocessing.shape, plan.frozen)
        shown = [len(p.shape) == 3 or p.weights > 0 or p.holes or p is every[-1] for p in every]
        plates = chosen_plates(every, shown)
        if tuple(p.name for p in plates) != tuple(p.name for p in self.bench.plates) or not self.bench.pictures:
            self.bench.show_plates(plates)
        self.bench.show_pictures({IMAGE: to_image(explanation.pixels)})
        if self.bench.current is None:
            self.bench.current = min(1, len(plates) - 1)
        self._show_plate()

    def _layers(self, explanation: Explanation) -> tuple[str, ...]:
        names = {IMAGE, *(layer.name for layer in explanation.layers)}
        return tuple(p.output for p in self.bench.plates if p.output in names and len(p.shape) == 3)

    def _take(self, activations: ActivationMaps) -> None:
        self.activations.take_maps({name: maps for name, maps in activations.outputs.items() if maps.ndim == 3})
        self.restyled()

    def restyled(self) -> None:
        """The maps on the plates in the colours of the theme."""
        maps = self.activations.maps
        pictures = {
            name: to_image(ink_on_paper(each[:, :, strongest(each)[0]])) for name, each in maps.items() if name != IMAGE
        }
        self.bench.show_pictures({**self.bench.pictures, **pictures})

    def choose_layer(self, layer: str) -> None:
        """The plate that shows a node's output, if there is one."""
        place = next((k for k, plate in enumerate(self.bench.plates) if plate.output == layer), None)
        if place is not None and place != self.bench.current:
            self.bench.choose(place)

    def _show_plate(self) -> None:
        """The one chosen, in every panel."""
        if self.bench.current is not None and self.bench.plates:
            for panel in self.of_layer:
                panel.show_plate(self.bench.plates[self.bench.current])
