"""A notice on the desktop when a run ends while nobody looks at the window."""

from __future__ import annotations

from threading import Thread

from PyQt6.QtCore import QObject
from PyQt6.QtWidgets import QWidget

from attentive_lens.desktop.bus import notify
from attentive_lens.window.session import Session


class Notices(QObject):
    """Tells the desktop of runs that ended, failed or broke off, unless the window is in front.

    Parameters
    ----------
    window : QWidget
        That may be in front.
    session : Session
        What is open.
    """

    def __init__(self, window: QWidget, session: Session) -> None:
        super().__init__(window)
        self._window, self._session = window, session
        session.runs.ended.connect(self._tell)

    def _tell(self, sentence: str, bad: bool) -> None:
        if not self._window.isActiveWindow():
            words = (self._session.workspace.name, sentence, bad)
            Thread(target=notify, args=words, daemon=True).start()  # whoever shows it may be slow
