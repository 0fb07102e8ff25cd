"""The drawer under the lens: one thing at a time that is asked of the image, as tall as it is wanted."""

from __future__ import annotations

from collections.abc import Callable
from functools import partial
from typing import TypeVar

from PyQt6.QtWidgets import QSizePolicy, QStackedWidget, QWidget

from attentive_lens.core.records import PlainTable
from attentive_lens.desk.requests.explaining import Explanation
from attentive_lens.window.explaining.activations import ActivationsPanel
from attentive_lens.window.explaining.causes import CausesPanel
from attentive_lens.window.explaining.change import ChangePanel
from attentive_lens.window.explaining.classes import ClassesPanel
from attentive_lens.window.explaining.filters import FiltersPanel
from attentive_lens.window.explaining.maps import MapsPanel
from attentive_lens.window.explaining.neighbours import NeighboursPanel
from attentive_lens.window.explaining.numbers import NumbersPanel
from attentive_lens.window.explaining.panel import Panel
from attentive_lens.window.parts.basics import button, horizontal, vertical, view_button
from attentive_lens.window.session import Session

PANELS: tuple[type[Panel], ...] = (
    MapsPanel,
    ActivationsPanel,
    FiltersPanel,
    NumbersPanel,
    NeighboursPanel,
    ChangePanel,
    CausesPanel,
    ClassesPanel,
)
"""In their order; each has Ctrl+Shift and its number."""
P = TypeVar("P", bound=Panel)
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
        self.every = tuple(kind(session) for kind in PANELS)
        inside = vertical(self, spacing=6)
        row = horizontal(spacing=0)
        self.tabs = {}
        for place, kind in enumerate(PANELS):
            tip = f"{kind.tip} (Ctrl+Shift+{place + 1})."
            name = f"drawer {kind.title.lower()}"
            self.tabs[kind] = view_button(kind.title, name, tip, partial(self.open_panel, place))
            row.addWidget(self.tabs[kind])
        row.addStretch()
        tip = "Let the drawer take the whole height, or give the lens its room back (Ctrl+Shift+T)."
        self.tall = button("Tall", "tall drawer", tip, self._grow, checkable=True)
        row.addWidget(self.tall)
        inside.addLayout(row)
        self.panels = QStackedWidget()
        for panel in self.every:
            self.panels.addWidget(panel)
        inside.addWidget(self.panels, 1)
        self.open(ActivationsPanel)
        self._grow()

    def of(self, kind: type[P]) -> P:
        """The panel of a kind."""
        return next(panel for panel in self.every if isinstance(panel, kind))

    def open(self, kind: type[P]) -> P:
        """Bring the panel of a kind to the front."""
        self.open_panel(PANELS.index(kind))
        return self.of(kind)

    def replay(self, kind: str, settings: PlainTable) -> None:
        """Show evidence of a kind again, in the panel that pinned it."""
        for panel in self.every:
            if panel.pins == kind:
                self.open(type(panel)).replay(settings)

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
        for panel in self.every:
            panel.restyled()
        self._refresh()

    def _grow(self) -> None:
        tall = self.tall.isChecked()
        policy = QSizePolicy.Policy.Expanding if tall else QSizePolicy.Policy.Fixed
        self.setSizePolicy(QSizePolicy.Policy.Expanding, policy)
        self.setMinimumHeight(0 if tall else HEIGHT)
        self.setMaximumHeight(16_777_215 if tall else HEIGHT)
        for panel in self.every:
            panel.set_tall(tall)
        self._make_room(tall)
