"""After a fault of the program: the offer to copy what happened, without anything of the user's in it."""

from __future__ import annotations

from PyQt6.QtGui import QGuiApplication
from PyQt6.QtWidgets import QFrame

from attentive_lens.core.telling import Rows
from attentive_lens.desk.about import about, clean_trace
from attentive_lens.desk.log import see_faults, unseen_faults
from attentive_lens.window.parts.basics import button, horizontal, label

SENTENCE = (
    "The program had a fault when it ran last. A report holds versions, the machine, and where in the program it was:"
    " no image, no name of a file, no word of yours."
)


def report() -> str:
    """What is copied."""
    lines: list[str] = []
    for each in about(QGuiApplication.platformName()).words():
        lines += [": ".join(row) for row in each.cells] if isinstance(each, Rows) else [each]
    return "\n".join([*lines, "", clean_trace(unseen_faults())]) + "\n"


class FaultOffer(QFrame):
    """A strip with the offer; it goes once it was taken or put aside, and stands nowhere else then."""

    def __init__(self) -> None:
        super().__init__()
        self.setObjectName("fault offer")
        self.setProperty("role", "panel")
        row = horizontal(self, spacing=12, margins=(16, 6, 16, 6))
        words = label(SENTENCE, "warn", name="fault words")
        words.setWordWrap(True)
        row.addWidget(words, 1)
        tip = "Copy the report, to paste it where faults are reported."
        row.addWidget(button("Copy the report", "copy fault report", tip, self._copy))
        row.addWidget(button("Put aside", "put fault aside", "Say no more of this fault.", self._put_aside))
        self.setVisible(bool(unseen_faults()))

    def _copy(self) -> None:
        clipboard = QGuiApplication.clipboard()
        if clipboard is not None:
            clipboard.setText(report())
        self._put_aside()

    def _put_aside(self) -> None:
        see_faults()
        self.hide()
