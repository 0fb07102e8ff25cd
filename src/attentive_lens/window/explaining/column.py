"""The column of evidence beside the lens: one thing at a time that is asked of the image."""

from __future__ import annotations

from functools import partial
from typing import TypeVar

from PyQt6.QtWidgets import QStackedWidget, QWidget

from attentive_lens.core.records import PlainTable
from attentive_lens.desk.requests.explaining import Explanation
from attentive_lens.window.explaining.alike import AlikePanel
from attentive_lens.window.explaining.change import ChangePanel
from attentive_lens.window.explaining.common import CommonPanel
from attentive_lens.window.explaining.layers import LayersPanel
from attentive_lens.window.explaining.maps import MapsPanel
from attentive_lens.window.explaining.panel import Panel, PanelGroup
from attentive_lens.window.parts.basics import horizontal, vertical, view_button
from attentive_lens.window.session import Session

PANELS: tuple[type[Panel], ...] = (
    MapsPanel,
    LayersPanel,
    AlikePanel,
    ChangePanel,
    CommonPanel,
)
"""In their order; each has Ctrl+Shift and its number."""
P = TypeVar("P", bound=Panel)


class EvidenceColumn(QWidget):
    """Its panels, of which one is seen.

    Parameters
    ----------
    session : Session
        Whose images.
    """

    def __init__(self, session: Session) -> None:
        super().__init__()
        self.setObjectName("evidence")
        self._shown: Explanation | None = None
        self.groups = tuple(kind(session) for kind in PANELS)
        self.every = tuple(leaf for group in self.groups for leaf in group.leaves)
        inside = vertical(self, spacing=8, margins=(12, 0, 16, 0))
        row = horizontal(spacing=0)
        self.tabs = []
        for place, kind in enumerate(PANELS):
            tip = f"{kind.tip} (Ctrl+Shift+{place + 1})."
            tab = view_button(kind.title, f"evidence {kind.title.lower()}", tip, partial(self.open_group, place))
            row.addWidget(tab)
            self.tabs.append(tab)
        row.addStretch()
        self.head = row
        inside.addLayout(row)
        self.panels = QStackedWidget()
        for panel in self.groups:
            self.panels.addWidget(panel)
        inside.addWidget(self.panels, 1)
        self.open_group(0)

    @property
    def current(self) -> Panel:
        """The panel that is seen."""
        return self.groups[self.panels.currentIndex()].front

    def of(self, kind: type[P]) -> P:
        """The panel of a kind."""
        return next(panel for panel in (*self.every, *self.groups) if isinstance(panel, kind))

    def open(self, kind: type[P]) -> P:
        """Bring the panel of a kind to the front."""
        panel = self.of(kind)
        place, group = next((k, each) for k, each in enumerate(self.groups) if each is panel or panel in each.leaves)
        if isinstance(group, PanelGroup) and panel is not group:
            group.bring(kind)
        self.open_group(place)
        return panel

    def replay(self, kind: str, settings: PlainTable) -> None:
        """Show evidence of a kind again, in the panel that pinned it."""
        for panel in self.every:
            if panel.pins == kind:
                self.open(type(panel)).replay(settings)

    def open_group(self, place: int) -> None:
        """Bring one to the front; it asks for what it lacks."""
        self.panels.setCurrentIndex(place)
        for k, tab in enumerate(self.tabs):
            tab.setChecked(k == place)
        self._refresh()

    def show_explanation(self, explanation: Explanation) -> None:
        """Another image."""
        self._shown = explanation
        self._refresh()

    def _refresh(self) -> None:
        """Only the panel in front asks."""
        if self._shown is not None:
            self.groups[self.panels.currentIndex()].show_explanation(self._shown)

    def restyled(self) -> None:
        """Maps are drawn in the theme's colours."""
        for panel in (*self.every, *(group for group in self.groups if group not in self.every)):
            panel.restyled()
        self._refresh()
