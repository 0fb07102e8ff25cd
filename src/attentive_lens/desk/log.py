"""Where faults of the program are noted, and what of them was not seen by anybody yet."""

from __future__ import annotations

import traceback
from pathlib import Path
from typing import TextIO

from platformdirs import user_state_dir

SEEN = "faults_seen"
"""Bytes of the log that somebody has seen."""
LONGEST = 1 << 18
"""Bytes of what is new that are looked at: the last of them."""


def open_log() -> TextIO | None:
    """The log in the state folder, open for appending; None where it cannot be written."""
    try:
        _file().parent.mkdir(parents=True, exist_ok=True)
        return _file().open("a", encoding="utf-8")
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


def unseen_faults() -> str:
    """What was noted since somebody looked last; empty if nothing."""
    from attentive_lens.desk.remembering import remembered_number  # only here: every command notes faults

    try:
        with _file().open("rb") as log:
            end = log.seek(0, 2)
            begin = remembered_number(SEEN)
            log.seek(max(end - LONGEST, begin if begin <= end else 0))
            return log.read().decode("utf-8", "replace").strip()
    except OSError:
        return ""


def see_faults() -> None:
    """Whatever is noted so far is seen now."""
    from attentive_lens.desk.remembering import remember_setting

    try:
        remember_setting(SEEN, _file().stat().st_size)
    except OSError:
        return


def _file() -> Path:
    return Path(user_state_dir("attentive-lens")) / "faults.log"
