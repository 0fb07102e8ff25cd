"""From words on the command line to a command and an exit code: 0 done, 1 failed with a reason, 2 wrong usage."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

COMMANDS = (
    "demo",
    "new",
    "rescan",
    "label",
    "faults",
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


def run_command(words: list[str], open_window: Callable[[str | None], int]) -> int:
    """Run the command named by the first word.

    Parameters
    ----------
    words : list of str
        Without the program's name.
    open_window : callable
        Opens the window on a workspace; given from outside, for this face does not know the other.
    """
    from attentive_lens.cli import collecting, commands, explaining
    from attentive_lens.cli.app import app

    del collecting, commands, explaining  # imported for their commands

    context: dict[str, Any] = {"open_window": open_window}
    try:
        code = app(words, standalone_mode=True, prog_name="attentive-lens", obj=context)
    except SystemExit as end:
        return int(end.code or 0)
    return int(code or 0)
