"""What every panel of evidence does: it is shown an image, asks about it, and takes only the answer it waits for."""

from __future__ import annotations

from collections.abc import Callable
from typing import ClassVar, TypeVar

from PyQt6.QtCore import pyqtSignal
from PyQt6.QtWidgets import QWidget

from attentive_lens.core.records import PlainTable
from attentive_lens.desk.requests.base import Request
from attentive_lens.desk.requests.explaining import Explanation
from attentive_lens.window.session import Session

R = TypeVar("R")


class Panel(QWidget):
    """Base of the panels.

    Attributes
    ----------
    title, tip : str
        On its tab, and what it shows in one sentence.
    pins : str
        The kind of evidence that it pins and shows again; empty for none.
    explanation : Explanation or None
        Of the image in view.

    Signals
    -------
    opened
        Number of an image that somebody wants to see.
    pinned
        Kind, a sentence and settings of evidence for the image's case.
    walked
        Numbers of images to walk through; none for all mistakes.
    noted
        A sentence for the case's note.
    remedied
        What is done about images, and their numbers.
    """

    title: ClassVar[str] = ""
    tip: ClassVar[str] = ""
    pins: ClassVar[str] = ""

    opened = pyqtSignal(int)
    pinned = pyqtSignal(str, str, dict)
    walked = pyqtSignal(list)
    noted = pyqtSignal(str)
    remedied = pyqtSignal(str, list)

    def __init__(self, session: Session) -> None:
        super().__init__()
        self.session = session
        self.explanation: Explanation | None = None
        self._awaited: dict[str, Request[object]] = {}

    def show_explanation(self, explanation: Explanation) -> None:
        """Another image, or the same explained otherwise; what was asked of another image is not taken any more."""
        same = explanation.is_of_same(self.explanation)
        self.explanation = explanation
        if not same:
            self._awaited = {}
        self.changed(explanation, same)

    def changed(self, explanation: Explanation, same: bool) -> None:
        """Show it; ``same`` tells whether the image and the run are those shown already."""

    def ask(
        self,
        request: Request[R],
        show: Callable[[R], None],
        fail: Callable[[str], None],
        priority: int = 3,
        scope: str = "",
    ) -> None:
        """Ask the worker; the answer is shown unless something else was asked in that scope since, or an image came."""
        self._awaited[scope] = request

        def take(result: R) -> None:
            if self._awaited.get(scope) is request:
                show(result)

        def refuse(sentence: str) -> None:
            if self._awaited.pop(scope, None) is request:
                fail(sentence)

        self.session.ask(request, take, refuse, priority, scope)

    def awaits(self, request: Request[object], scope: str) -> bool:
        """Whether this was asked in that scope, and nothing else since."""
        return self._awaited.get(scope) == request

    def replay(self, settings: PlainTable) -> None:
        """Show again what was pinned."""

    def restyled(self) -> None:
        """Draw what is shown in the theme's colours."""

    def set_tall(self, tall: bool) -> None:
        """Larger pictures where there is room."""

    def forget(self) -> None:
        """Images have other contents, or another run or set is in view: nothing that was found stands."""
