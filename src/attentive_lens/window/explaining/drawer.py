"""The drawer under the lens: one thing at a time that is asked of the image, as tall as it is wanted."""

from __future__ import annotations

from collections.abc import Callable
from functools import partial

from PyQt6.QtWidgets import QHBoxLayout, QSizePolicy, QStackedWidget, QVBoxLayout, QWidget

from attentive_lens.desk.requests.explaining import Explanation
from attentive_lens.window.explaining.activations import ActivationsPanel
from attentive_lens.window.explaining.causes import CausesPanel
from attentive_lens.window.explaining.change import ChangePanel
from attentive_lens.window.explaining.classes import ClassesPanel
from attentive_lens.window.explaining.filters import FiltersPanel
from attentive_lens.window.explaining.maps import MapsPanel
from attentive_lens.window.explaining.neighbours import NeighboursPanel
from attentive_lens.window.explaining.numbers import NumbersPanel
from attentive_lens.window.parts.basics import button, view_button
from attentive_lens.window.session import Session

TIPS = {
    "Maps": "The maps that all methods make of this image, side by side",
    "Activations": "What each layer makes of this image",
    "Filters": "What the channels of a layer look for in all training images",
    "Numbers": "A layer's weights, their gradient for this image, and what the optimiser remembers",
    "Neighbours": "The training images that a layer finds nearest",
    "Change": "Change the image by hand and see the answer follow",
    "Causes": "What the mistakes have in common, and what can be done about it",
    "Classes": "What the right answers of every class rest on",
}
"""The panels in their order; each has Ctrl+Shift and its number."""
HEIGHT = 300
"""Pixels while it is not tall."""


class Drawer(QWidget):
    """Its panels, of which one is seen.

    Parameters
    ----------
    session : Session
        Whose images.
    make_room : callable
        Called with whether the drawer takes the whole height.
    """

    def __init__(self, session: Session, make_room: Callable[[bool], None]) -> None:
        super().__init__()
        self._make_room = make_room
        self._shown: Explanation | None = None
        self.maps, self.activations = MapsPanel(session), ActivationsPanel(session)
        self.filters, self.numbers = FiltersPanel(session), NumbersPanel(session)
        self.neighbours, self.change = NeighboursPanel(session), ChangePanel(session)
        self.causes, self.classes = CausesPanel(session), ClassesPanel(session)
        inside = QVBoxLayout(self)
        inside.setContentsMargins(0, 0, 0, 0)
        inside.setSpacing(6)
        row = QHBoxLayout()
        row.setSpacing(0)
        self.tabs = {}
        for place, (words, tip) in enumerate(TIPS.items()):
            tip = f"{tip} (Ctrl+Shift+{place + 1})."
            self.tabs[words] = view_button(words, f"drawer {words.lower()}", tip, partial(self.open_panel, place))
            row.addWidget(self.tabs[words])
        row.addStretch()
        tip = "Let the drawer take the whole height, or give the lens its room back (Ctrl+Shift+T)."
        self.tall = button("Tall", "tall drawer", tip, self._grow, checkable=True)
        row.addWidget(self.tall)
        inside.addLayout(row)
        self.panels = QStackedWidget()
        self.every = (
            self.maps,
            self.activations,
            self.filters,
            self.numbers,
            self.neighbours,
            self.change,
            self.causes,
            self.classes,
        )
        for panel in self.every:
            self.panels.addWidget(panel)
        inside.addWidget(self.panels, 1)
        self.open_named("Activations")
        self._grow()

    def open_named(self, words: str) -> None:
        """Bring a panel to the front by its name."""
        self.open_panel(list(TIPS).index(words))

    def open_panel(self, place: int) -> None:
        """Bring one to the front; it asks for what it lacks."""
        self.panels.setCurrentIndex(place)
        for k, tab in enumerate(self.tabs.values()):
            tab.setChecked(k == place)
        self._refresh()

    def show_explanation(self, explanation: Explanation) -> None:
        """Another image."""
        self._shown = explanation
        self._refresh()

    def _refresh(self) -> None:
        """Only the panel in front asks."""
        if self._shown is None:
            return
        self.every[self.panels.currentIndex()].show_explanation(self._shown)

    def restyled(self) -> None:
        """Maps are drawn in the theme's colours."""
        self.activations.draw_maps()
        self.causes.draw()
        self.classes.draw()
        self._refresh()

    def _grow(self) -> None:
        tall = self.tall.isChecked()
        policy = QSizePolicy.Policy.Expanding if tall else QSizePolicy.Policy.Fixed
        self.setSizePolicy(QSizePolicy.Policy.Expanding, policy)
        self.setMinimumHeight(0 if tall else HEIGHT)
        self.setMaximumHeight(16_777_215 if tall else HEIGHT)
        for panel in (self.maps, self.activations, self.classes):
            panel.set_tall(tall)
        self._make_room(tall)
