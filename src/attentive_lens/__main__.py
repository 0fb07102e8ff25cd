"""The command: faces of the desk by name, or the window."""

from __future__ import annotations

import os
import sys

# Matrix products use our own threads; this must stand before NumPy is first imported.
os.environ.setdefault("OPENBLAS_NUM_THREADS", "1")

from attentive_lens.cli.entry import COMMANDS, run_command


def main() -> int:
    """Run a command, or open the window on the workspace named, and return the exit code."""
    words = sys.argv[1:]
    if words and (words[0] in COMMANDS or words[0].startswith("-")):
        return run_command(words, _open_window)
    return _open_window(words[0] if words else None)


def _open_window(workspace: str | None) -> int:
    from attentive_lens.window.application import open_window

    return open_window(workspace)


if __name__ == "__main__":
    sys.exit(main())
