"""What every view of the Results is."""

from __future__ import annotations

from collections.abc import Hashable
from typing import TYPE_CHECKING, ClassVar

from PyQt6.QtCore import pyqtSignal
from PyQt6.QtWidgets import QFrame, QWidget

from attentive_lens.core.objects import Same
from attentive_lens.window.session import Session

if TYPE_CHECKING:
    from attentive_lens.window.results.behind import Behind


class ResultsView(QFrame):
    """A panel that shows the scores in view in one way.

    Parameters
    ----------
    session : Session
        Whose scores.

    Attributes
    ----------
    word : str
        Its key in `results.views.VIEWS`, and on its button.
    beside : QWidget or None
        What stands beside it in place of the images behind what is chosen.

    Signals
    -------
    set_chosen
        The set whose scores are wanted.
    opened
        Place of an image that is to be explained.
    changed
        What the main action would do is another thing.
    """

    word: ClassVar[str] = ""
    beside: QWidget | None = None

    set_chosen = pyqtSignal(str)
    opened = pyqtSignal(int)
    changed = pyqtSignal()

    def __init__(self, session: Session) -> None:
        super().__init__()
        self.session = session
        self._asked_at: tuple[Hashable, ...] = ()
        self.setProperty("role", "panel")
        self.setObjectName(f"{self.word} view")

    def asks_anew(self, *more: Hashable) -> bool:
        """Whether run, set, scores in view or ``more`` are others than when this was true last: ask about them now."""
        runs, scores = self.session.runs, self.session.scores
        if runs.in_view is None or scores.current is None:
            return False
        at = (runs.in_view, scores.on, Same(scores.current), *more)
        anew, self._asked_at = at != self._asked_at, at
        return anew

    def leads_to(self, behind: Behind) -> None:
        """Connect what is chosen in it to the images behind."""

    def figure(self) -> str:
        """A few words for the list that only the view itself knows; empty where it has none, see `results.views`."""
        return ""

    def choose_none(self) -> None:
        """What is chosen is chosen elsewhere."""

    def action(self) -> tuple[str, bool] | None:
        """The main action's words, and whether it can be done; None for that of all views."""
        return None

    def act(self) -> None:
        """Do it."""

    def refresh(self) -> None:
        """Show the scores as they are now; called when the view is on the screen and they, or it, are new."""
