"""Where faults of the program are noted."""

from __future__ import annotations

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
