"""A list of a run's layers, from the last to the first."""

from __future__ import annotations

from attentive_lens.window import look
from attentive_lens.window.parts.basics import Chooser
from attentive_lens.window.session import Session


class LayerChooser(Chooser):
    """The layers of the run in view, the last before the answers first.

    Parameters
    ----------
    session : Session
        Whose runs.
    name, shown, tip : str
        For tests, for those who hear it, and what it decides.
    """

    def __init__(self, session: Session, name: str, shown: str, tip: str) -> None:
        super().__init__()
        self.session = session
        self._listed: int | None = None
        self.setObjectName(name)
        self.setAccessibleName(shown)
        self.setToolTip(tip)
        self.setFont(look.font())

    @property
    def layer(self) -> str:
        """The layer chosen; empty for the last, or the codes."""
        return str(self.currentData() or "")

    def list_layers(self) -> None:
        """Of another run; the one chosen stays if it has it."""
        known = self.session.runs.facts()
        if known is None or self._listed == self.session.runs.current:
            return
        self._listed = self.session.runs.current
        network, _ = known
        before = self.currentData()
        self.clear()
        self.addItem("the codes" if self.session.runs.draws else "the last layer", "")
        for node in reversed(network.nodes[:-1]):
            self.addItem(node.name, node.name)
        self.setCurrentIndex(max(0, self.findData(before)))
