"""Where faults of the program are noted."""

from __future__ import annotations

import traceback
from pathlib import Path
from typing import TextIO

from platformdirs import user_state_dir


def open_log() -> TextIO | None:
    """The log in the state folder, open for appending; None where it cannot be written."""
    folder = Path(user_state_dir("attentive-lens"))
    try:
        folder.mkdir(parents=True, exist_ok=True)
        return (folder / "faults.log").open("a", encoding="utf-8")
    except OSError:
        return None


def note_fault(error: Exception) -> str:
    """Put the trace of a fault into the log; returns where it is, as a part of a sentence."""
    log = open_log()
    if log is None:
        return "its trace could not be noted"
    with log:
        traceback.print_exception(error, file=log)
    return f"its trace is in {log.name}"
