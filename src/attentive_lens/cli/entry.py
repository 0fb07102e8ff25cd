"""From words on the command line to a command and an exit code: 0 done, 1 failed with a reason, 2 wrong usage."""

from __future__ import annotations

import difflib
import os
import sys
from collections.abc import Callable
from pathlib import Path
from typing import Any

from attentive_lens.errors import BadUsage

COMMANDS = (
    "demo",
    "new",
    "rescan",
    "label",
    "faults",
    "plan",
    "train",
    "watch",
    "score",
    "explain",
    "causes",
    "layer",
    "channel",
    "neighbours",
    "try",
    "predict",
    "measure",
)
COMPLETING = "_ATTENTIVE_LENS_COMPLETE"
"""Set by a shell that asks how a command could go on."""


def is_command(words: list[str]) -> bool:
    """Whether these words are for `run_command`, rather than naming a workspace for the window."""
    return COMPLETING in os.environ or bool(words and (words[0] in COMMANDS or words[0].startswith("-")))


def workspace_named(words: list[str]) -> str | None:
    """The folder to open the window on, or None.

    Raises
    ------
    BadUsage
        If the words are neither a command nor one folder; with the nearest command.
    """
    if not words:
        return None
    first, *rest = words
    if Path(first).exists():
        if rest:
            why = f"the window takes one folder, and «{' '.join(rest)}» stands behind it"
            raise BadUsage(f"{first} was not opened", why, "Leave that out, or name a command first")
        return first
    near = difflib.get_close_matches(first, COMMANDS, n=1)
    remedy = f"Did you mean «{near[0]}»?" if near else "See «attentive-lens --help»"
    raise BadUsage(f"«{first}» is not known", "it is neither a command nor a folder that exists", remedy)


def run_command(words: list[str], open_window: Callable[[str | None], int]) -> int:
    """Run the command named by the first word.

    Parameters
    ----------
    words : list of str
        Without the program's name.
    open_window : callable
        Opens the window on a workspace; given from outside, for this face does not know the other.
    """
    from typer.exceptions import Abort, TyperException

    from attentive_lens.cli import collecting, commands, explaining, planning
    from attentive_lens.cli.app import app
    from attentive_lens.cli.speaking import say_json

    del collecting, commands, explaining, planning  # imported for their commands

    context: dict[str, Any] = {"open_window": open_window}
    try:
        code = app(words, standalone_mode=False, prog_name="attentive-lens", obj=context)
    except TyperException as error:
        message = error.format_message().rstrip(".")
        command = next((word for word in words if word in COMMANDS), "")
        remedy = f"See «{' '.join(filter(None, ('attentive-lens', command, '--help')))}»"
        if "--json" in words:
            what = f"The command {command or words[0]} was not understood"
            say_json({"error": {"what": what, "why": message, "remedy": remedy}})
        else:
            sys.stderr.write(f"{message}. {remedy}.\n")
        return error.exit_code
    except Abort:
        return 1
    except SystemExit as end:
        return int(end.code or 0)
    return int(code or 0)
