"""The command: faces of the desk by name, or the window."""

from __future__ import annotations

import json
import os
import sys

# Matrix products use our own threads; this must stand before NumPy is first imported.
os.environ.setdefault("OPENBLAS_NUM_THREADS", "1")

from attentive_lens.cli import libraries
from attentive_lens.cli.entry import is_command, run_command, workspace_named
from attentive_lens.errors import LensError


def main() -> int:
    """Run a command, or open the window on the workspace named, and return the exit code."""
    words = sys.argv[1:]
    if is_command(words):
        return run_command(words, _open_window)
    try:
        workspace = workspace_named(words)
    except LensError as error:
        json_line = json.dumps({"error": error.as_dict()}, ensure_ascii=False)
        sys.stdout.write(f"{json_line}\n") if "--json" in words else sys.stderr.write(f"{error}\n")
        return 2
    return _open_window(workspace)


def _open_window(workspace: str | None) -> int:
    environment = dict(os.environ)
    platform = libraries.platform_of(environment)
    if platform in ("xcb", "wayland") and not (environment.get("DISPLAY") or environment.get("WAYLAND_DISPLAY")):
        return _no_window("there is no display (DISPLAY is not set)", "Use the commands, see «attentive-lens --help».")
    lacking = libraries.missing(platform)
    if lacking:
        command = libraries.install_command(libraries.packages(lacking))
        return _no_window(f"the system lacks {', '.join(lacking)}, which Qt needs", f"As root, type: {command}")
    try:
        from attentive_lens.window.application import open_window
    except ImportError as error:
        return _no_window(f"PyQt6 could not be loaded ({error})", "Set the program up again with ./start.")
    return open_window(workspace)


def _no_window(why: str, remedy: str) -> int:
    sys.stderr.write(f"The window cannot be opened: {why}. {remedy}\n")
    return 1


if __name__ == "__main__":
    sys.exit(main())
