"""What a person says of a run: a name of its own, a note, whether it is pinned."""

from __future__ import annotations

import json
from dataclasses import asdict, dataclass
from pathlib import Path

from attentive_lens.core.files import write_text
from attentive_lens.errors import BadValue

MOST_NAME, MOST_NOTE = 200, 20_000


@dataclass(frozen=True)
class About:
    """A run's name (that of its plan if empty), a note of any length, and whether it stands first in the table.

    Raises
    ------
    BadValue
        If the name or the note is too long.
    """

    name: str = ""
    note: str = ""
    pinned: bool = False

    def __post_init__(self) -> None:
        for what, text, most in (("name", self.name, MOST_NAME), ("note", self.note, MOST_NOTE)):
            if len(text) > most:
                raise BadValue(f"The {what} was not kept", f"it has more than {most} letters", "Shorten it")


def read_about(file: Path) -> About:
    """What was said of a run; nothing where the file is missing or damaged."""
    try:
        table = json.loads(file.read_text("utf-8"))
        return About(str(table["name"]), str(table["note"]), bool(table["pinned"]))
    except (OSError, ValueError, LookupError, TypeError, BadValue):
        return About()


def write_about(file: Path, about: About) -> None:
    """Keep it; `BadFile` if it cannot be written."""
    write_text(file, json.dumps(asdict(about), ensure_ascii=False))
