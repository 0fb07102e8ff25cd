"""The entry by which a desktop starts the program, with workspaces opened lately in its menu."""

from __future__ import annotations

import shutil
import string
import sys
from collections.abc import Sequence
from pathlib import Path

DATA = Path(__file__).parent / "data"
PROGRAM = "attentive-lens"
MOST = 6
"""Workspaces in the menu."""
QUOTED, UNQUOTED = '\\"`$', "-_./+,:@="
"""Signs that are escaped within quotes, and those that need none."""


def started_by() -> tuple[str, ...]:
    """The words that start this very program: its command, or else Python and the module."""
    named = Path(sys.argv[0])
    for file in (named, Path(sys.executable).with_name(PROGRAM)):
        if file.name == PROGRAM and file.is_file():
            return (str(file.absolute()),)
    on_path = shutil.which(PROGRAM)
    return (on_path,) if on_path else (sys.executable, "-m", "attentive_lens")


def entry(command: Sequence[str], workspaces: Sequence[Path] = ()) -> str:
    """The text of the entry (Desktop Entry Specification 1.4).

    Parameters
    ----------
    command : sequence of str
        The words that start the program.
    workspaces : sequence of Path
        Opened lately, the latest first; those whose path no entry can hold are left out.
    """
    words = " ".join(map(_in_exec, command))
    text = filled("entry.desktop", command=words, program=_in_value(command[0]))
    possible = [folder for folder in workspaces if str(folder).isprintable()][:MOST]
    if not possible:
        return text
    names = [f"workspace{number}" for number in range(1, len(possible) + 1)]
    text += f"Actions={';'.join(names)};\n"
    for name, folder in zip(names, possible, strict=True):
        shown = _in_value(folder.name or str(folder))
        text += f"\n[Desktop Action {name}]\nName={shown}\nIcon={PROGRAM}\nExec={words} {_in_exec(str(folder))}\n"
    return text


def filled(name: str, **values: str) -> str:
    """A file of `DATA` with its places filled in."""
    return string.Template((DATA / name).read_text("utf-8")).substitute(values)


def _in_exec(word: str) -> str:
    """A word of Exec: in quotes where it needs them, and then as a value."""
    word = word.replace("%", "%%")
    if not all(sign.isalnum() or sign in UNQUOTED for sign in word):
        word = '"' + "".join("\\" + sign if sign in QUOTED else sign for sign in word) + '"'
    return _in_value(word)


def _in_value(words: str) -> str:
    return words.replace("\\", "\\\\")
