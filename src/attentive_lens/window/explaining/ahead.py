"""The next image explained while somebody looks at this one."""

from __future__ import annotations

from functools import partial

from attentive_lens.desk.requests.explaining import Explain, Explanation
from attentive_lens.window.session import Session


class Ahead:
    """Remembers one explanation that nobody asked for yet; runs that still train are not asked ahead."""

    def __init__(self, session: Session) -> None:
        self.session = session
        self._known: tuple[Explain, Explanation] | None = None
        session.runs_changed.connect(self.forget)
        session.images_changed.connect(self.forget)

    def forget(self) -> None:
        """Labels or models may be others now."""
        self._known = None

    def known(self, request: Explain) -> Explanation | None:
        """What was asked ahead, if it is this."""
        return self._known[1] if self._known is not None and self._known[0] == request else None

    def prepare(self, request: Explain) -> None:
        """Ask, when nothing else is asked."""
        view = self.session.runs.view
        if view is not None and view.state == "done" and self.known(request) is None:
            self.session.ask(request, partial(self._keep, request), lambda _: None, priority=9, scope="ahead")

    def _keep(self, request: Explain, explanation: Explanation) -> None:
        if explanation.complete:
            self._known = (request, explanation)
