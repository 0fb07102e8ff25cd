"""What every stage's page does."""

from __future__ import annotations

from typing import ClassVar

from PyQt6.QtCore import Qt, pyqtSignal
from PyQt6.QtGui import QKeyEvent
from PyQt6.QtWidgets import QStackedLayout, QWidget

from attentive_lens.core.records import PlainTable
from attentive_lens.window.parts.stage_layout import StageLayout
from attentive_lens.window.session import Session


class Page(QWidget):
    """Base of the pages.

    Attributes
    ----------
    where : QWidget or None
        Where in its set one stands: shown in the top strip while the page is.
    parts : StageLayout or None
        Its list, hero and evidence; None where F is for something else.

    Signals
    -------
    action_changed
        The main action's words or whether it can be done, or the rail's line of state.
    leaving
        It is about to show something else: where one is can be come back to.
    """

    key: ClassVar[str] = ""
    where: QWidget | None = None
    parts: StageLayout | None = None

    action_changed = pyqtSignal()
    leaving = pyqtSignal()

    def __init__(self, session: Session) -> None:
        super().__init__()
        self.session = session
        self.setObjectName(f"page {self.key}")
        self.setFocusPolicy(Qt.FocusPolicy.ClickFocus)

    def keyPressEvent(self, event: QKeyEvent | None) -> None:
        """F gives the evidence the whole width, or its column back, where no image in it takes the key."""
        if event is not None and event.text().upper() == "F" and self.parts is not None:
            self.parts.widen()
        else:
            super().keyPressEvent(event)

    def state(self) -> str:
        """A few words for the rail."""
        return ""

    def action(self) -> tuple[str, bool]:
        """Words of the main action, and whether it can be done now."""
        return "", False

    def act(self) -> None:
        """Do the main action."""

    def walk_through(self, images: list[int]) -> None:
        """Images that are gone through one by one."""

    def open_image(self, image: int) -> None:
        """Show an image, by its number, where the page is about one."""

    def open_file(self, file: str, against: str) -> None:
        """Likewise a file that no workspace knows: an image, its answer set against that of a class, or a model."""

    def show_view(self, name: str) -> None:
        """Show one of its views, where it has several."""

    def bookmark(self) -> PlainTable:
        """Where in it one is, for `come_back`."""
        return {}

    def come_back(self, bookmark: PlainTable) -> None:
        """To exactly where one was."""

    def restyled(self) -> None:
        """The theme is another: what was drawn in its colours and kept is drawn anew."""

    def entered(self) -> None:
        """The page came on the screen."""


def either(page: QWidget, empty: QWidget, full: QWidget) -> QStackedLayout:
    """A layout that shows the empty state or the stage itself."""
    stack = QStackedLayout(page)
    stack.setContentsMargins(0, 0, 0, 0)
    stack.addWidget(empty)
    stack.addWidget(full)
    return stack
