"""What the map on the right speaks for: the true class, another one, or the difference of both answers."""

from __future__ import annotations

from attentive_lens.desk.requests.explaining import Explanation
from attentive_lens.window import look
from attentive_lens.window.parts.basics import Chooser

DIFFERENCE = "said − true"
WIDEST = 132
"""Pixels."""


class RightMap(Chooser):
    """The list of what it may speak for; what was chosen stays while it is there."""

    def __init__(self) -> None:
        super().__init__()
        self.setObjectName("right map")
        self.setAccessibleName("the map on the right")
        self.setToolTip("What the map on the right speaks for; the difference shows what pulled to either.")
        self.setFont(look.font())
        self.setMaximumWidth(WIDEST)

    @property
    def target(self) -> str | None:
        """A class besides said and true that a map is wanted for."""
        chosen = self.currentData()
        return str(chosen) if chosen else None

    @property
    def pulls(self) -> bool:
        """Whether the difference of both is shown."""
        return self.currentText() == DIFFERENCE

    def choose(self, name: str) -> None:
        """A class, or none."""
        self.setCurrentIndex(max(0, self.findData(name) if name else 0))

    def list_for(self, explanation: Explanation, against: str) -> None:
        """What there is for another image; ``against`` is the class that stands in for the true one."""
        chosen, target = self.currentText(), against or self.target
        self.clear()
        if explanation.true is not None:
            self.addItem("true", "")
            if explanation.predicted != explanation.true:
                self.addItem(DIFFERENCE, "")
        for name in explanation.probabilities:
            if name not in (explanation.true, explanation.predicted):
                self.addItem(f"for {name}", name)
        self.setCurrentIndex(max(0, self.findData(target) if target else self.findText(chosen)))
