"""The drawer under the lens: one thing at a time that is asked of the image, as tall as it is wanted."""

from __future__ import annotations

from collections.abc import Callable
from functools import partial

from PyQt6.QtWidgets import QHBoxLayout, QSizePolicy, QStackedWidget, QVBoxLayout, QWidget

from attentive_lens.desk.requests.explaining import Explanation
from attentive_lens.window.explaining.change import ChangePanel
from attentive_lens.window.explaining.filters import FiltersPanel
from attentive_lens.window.explaining.layers import LayersPanel
from attentive_lens.window.explaining.neighbours import NeighboursPanel
from attentive_lens.window.parts.basics import button, view_button
from attentive_lens.window.session import Session

TIPS = {
    "Activations": "What each layer makes of this image (Ctrl+Shift+1).",
    "Filters": "What the channels of a layer look for in all training images (Ctrl+Shift+2).",
    "Neighbours": "The training images that a layer finds nearest (Ctrl+Shift+3).",
    "Change": "Change the image by hand and see the answer follow (Ctrl+Shift+4).",
}
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
        self._shown: tuple[int, Explanation] | None = None
        self.layers, self.filters = LayersPanel(session), FiltersPanel(session)
        self.neighbours, self.change = NeighboursPanel(session), ChangePanel(session)
        inside = QVBoxLayout(self)
        inside.setContentsMargins(0, 0, 0, 0)
        inside.setSpacing(6)
        row = QHBoxLayout()
        self.tabs = {}
        for place, (words, tip) in enumerate(TIPS.items()):
            self.tabs[words] = view_button(words, f"drawer {words.lower()}", tip, partial(self.open_panel, place))
            row.addWidget(self.tabs[words])
        row.addStretch()
        tip = "Let the drawer take the whole height, or give the lens its room back."
        self.tall = button("Tall", "tall drawer", tip, self._grow, checkable=True)
        row.addWidget(self.tall)
        inside.addLayout(row)
        self.panels = QStackedWidget()
        for panel in (self.layers, self.filters, self.neighbours, self.change):
            self.panels.addWidget(panel)
        inside.addWidget(self.panels, 1)
        self.tabs["Activations"].setChecked(True)
        self._grow()

    def open_panel(self, place: int) -> None:
        """Bring one to the front; it asks for what it lacks."""
        self.panels.setCurrentIndex(place)
        for k, tab in enumerate(self.tabs.values()):
            tab.setChecked(k == place)
        self._refresh()

    def show_explanation(self, run: int, explanation: Explanation) -> None:
        """Another image."""
        self._shown = (run, explanation)
        self._refresh()

    def _refresh(self) -> None:
        """Only the panel in front asks."""
        if self._shown is not None:
            showing = (
                self.layers.show_layers,
                self.filters.show_explanation,
                self.neighbours.show_explanation,
                self.change.show_explanation,
            )
            showing[self.panels.currentIndex()](*self._shown)

    def _grow(self) -> None:
        tall = self.tall.isChecked()
        policy = QSizePolicy.Policy.Expanding if tall else QSizePolicy.Policy.Fixed
        self.setSizePolicy(QSizePolicy.Policy.Expanding, policy)
        self.setMinimumHeight(0 if tall else HEIGHT)
        self.setMaximumHeight(16_777_215 if tall else HEIGHT)
        self._make_room(tall)
