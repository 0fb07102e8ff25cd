"""The one layout of the stages: a list at the left, the hero in the middle, one column of evidence at the right."""

from __future__ import annotations

from PyQt6.QtCore import Qt
from PyQt6.QtGui import QResizeEvent
from PyQt6.QtWidgets import QSplitter, QWidget

from attentive_lens.window.parts.basics import Margins, button, horizontal
from attentive_lens.window.session import Session

LEAST, USUAL, PART = 364, 388, 0.33
"""Pixels of the evidence at least and to begin with, and its part of a narrow window."""
WIDE, NARROW = "Wide", "Narrow"
WIDE_TIP = "Give this column the whole width, or back what stands beside it (F)."
HERO = 400
"""Pixels of the hero at least."""


class StageLayout(QWidget):
    """List, hero and evidence; the hero takes what the others leave.

    The width of the evidence is remembered with the workspace.

    Parameters
    ----------
    session : Session
        Remembers the width.
    key : str
        The stage's.
    hero, evidence : QWidget
        In the middle, and at the right.
    list_ : QWidget or None
        At the left.
    least, usual : int
        Pixels of the evidence at least, and to begin with.
    margins : tuple of int
        Around all of it.

    Attributes
    ----------
    is_alone : bool
        Whether the evidence has the whole width.
    wide : QPushButton
        Gives it that, or takes it back: for a corner of the evidence.
    """

    def __init__(
        self,
        session: Session,
        key: str,
        hero: QWidget,
        evidence: QWidget,
        list_: QWidget | None = None,
        least: int = LEAST,
        usual: int = USUAL,
        margins: Margins = (16, 12, 0, 8),
    ) -> None:
        super().__init__()
        self.session, self._key = session, key
        self.list_, self.hero, self.evidence = list_, hero, evidence
        self.is_alone = self._hero_alone = False
        self.wide = button(WIDE, f"{key} evidence alone", WIDE_TIP, self.widen)
        self._least, self._usual = least, usual
        outer = horizontal(self, spacing=12, margins=margins)
        evidence.setAttribute(Qt.WidgetAttribute.WA_StyledBackground)
        evidence.setProperty("role", "evidence")
        if list_ is not None:
            outer.addWidget(list_)
        self.splitter = QSplitter(Qt.Orientation.Horizontal)
        self.splitter.setObjectName(f"{key} splitter")
        self.splitter.setChildrenCollapsible(False)
        self.splitter.setHandleWidth(12)
        hero.setMinimumWidth(HERO)
        evidence.setMinimumWidth(least)
        self.splitter.addWidget(hero)
        self.splitter.addWidget(evidence)
        self.splitter.setStretchFactor(0, 1)
        self.splitter.setStretchFactor(1, 0)
        self.splitter.splitterMoved.connect(lambda *_: self._remember())
        outer.addWidget(self.splitter, 1)

    def resizeEvent(self, event: QResizeEvent | None) -> None:
        """The evidence as wide as it was left, or a part of a narrow window."""
        super().resizeEvent(event)
        layout = self.layout()
        if layout is not None:
            layout.activate()
        usual = min(self._usual, max(self._least, int(self.width() * PART)))
        wide = self.session.widths.get(self._key, usual)
        self.splitter.setSizes([max(HERO, self.splitter.width() - wide - self.splitter.handleWidth()), wide])

    def _remember(self) -> None:
        self.session.widths[self._key] = self.splitter.sizes()[1]

    def widen(self) -> None:
        """Give the evidence the whole width, or its column back."""
        self.is_alone = not self.is_alone
        self.wide.setText(NARROW if self.is_alone else WIDE)
        self._show()

    def show_hero_alone(self, alone: bool) -> None:
        """Give the hero the whole width, for what has neither list nor evidence; before that stands what stood."""
        self._hero_alone = alone
        self._show()

    def _show(self) -> None:
        self.hero.setHidden(self.is_alone and not self._hero_alone)
        self.evidence.setHidden(self._hero_alone)
        if self.list_ is not None:
            self.list_.setHidden(self.is_alone or self._hero_alone)
