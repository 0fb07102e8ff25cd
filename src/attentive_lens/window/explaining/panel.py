"""What every panel of evidence does: it is shown an image, asks about it, and takes only the answer it waits for."""

from __future__ import annotations

from collections.abc import Callable
from functools import partial
from typing import ClassVar, TypeVar

from PyQt6.QtCore import pyqtSignal
from PyQt6.QtWidgets import QStackedWidget, QVBoxLayout, QWidget

from attentive_lens.core.records import PlainTable
from attentive_lens.desk.requests.base import Request
from attentive_lens.desk.requests.explaining import Explanation
from attentive_lens.window.parts.basics import horizontal, vertical, view_button
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

    @property
    def leaves(self) -> tuple[Panel, ...]:
        """Itself, or the panels it is made of."""
        return (self,)

    @property
    def front(self) -> Panel:
        """Itself, or that of its panels that is seen."""
        return self

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

    def forget(self) -> None:
        """Images have other contents, or another run or set is in view: nothing that was found stands."""


class PanelGroup(Panel):
    """Panels under one title, of which one is seen, with a word for each.

    Attributes
    ----------
    members : tuple of type
        The kinds of its panels, in their order.
    """

    members: ClassVar[tuple[type[Panel], ...]] = ()

    def __init__(self, session: Session) -> None:
        super().__init__(session)
        self.panels = tuple(kind(session) for kind in self.members)
        inside = vertical(self, spacing=6)
        self.add_above(inside)
        row = horizontal(spacing=0)
        self.words = {}
        for panel in self.panels:
            show = partial(self.bring, type(panel))
            self.words[type(panel)] = view_button(panel.title, f"view {panel.title.lower()}", f"{panel.tip}.", show)
            row.addWidget(self.words[type(panel)])
        row.addStretch()
        inside.addLayout(row)
        self.stack = QStackedWidget()
        for panel in self.panels:
            self.stack.addWidget(panel)
        inside.addWidget(self.stack, 1)
        self.bring(self.members[0])

    def add_above(self, inside: QVBoxLayout) -> None:
        """What stands above the words."""

    @property
    def leaves(self) -> tuple[Panel, ...]:
        """Its panels."""
        return self.panels

    @property
    def front(self) -> Panel:
        """The one that is seen."""
        return self.panels[self.stack.currentIndex()]

    def bring(self, kind: type[Panel]) -> None:
        """Bring the panel of a kind to the front; it asks for what it lacks."""
        self.stack.setCurrentIndex(self.members.index(kind))
        for each, word in self.words.items():
            word.setChecked(each is kind)
        if self.explanation is not None:
            self.front.show_explanation(self.explanation)

    def changed(self, explanation: Explanation, same: bool) -> None:
        """Only the panel in front asks."""
        self.front.show_explanation(explanation)
