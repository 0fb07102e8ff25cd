"""What every view of the Results is."""

from __future__ import annotations

from PyQt6.QtWidgets import QFrame

from attentive_lens.window.session import Session


class ResultsView(QFrame):
    """A panel that shows the scores in view in one way.

    Parameters
    ----------
    session : Session
        Whose scores.
    name : str
        For tests.
    """

    def __init__(self, session: Session, name: str) -> None:
        super().__init__()
        self.session = session
        self.setProperty("role", "panel")
        self.setObjectName(name)

    def refresh(self) -> None:
        """Show the scores as they are now; called when the view is on the screen and they, or it, are new."""
