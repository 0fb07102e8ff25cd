"""The command: faces of the desk by name, or the window."""

from __future__ import annotations

import atexit
import contextlib
import gc
import io
import json
import os
import sys

# Matrix products use our own threads; this must stand before NumPy is first imported.
os.environ.setdefault("OPENBLAS_NUM_THREADS", "1")

from attentive_lens.cli import libraries
from attentive_lens.cli.entry import is_command, run_command, workspace_named
from attentive_lens.core.launching import processes_launched
from attentive_lens.errors import LensError

gc.set_threshold(20_000, 20, 100)
"""Loading makes many objects that all stay; looked through as often as usual, they take a tenth of every start."""


def main() -> int:
    """Run a command, or open the window on the workspace named, and return the exit code."""
    words = sys.argv[1:]
    for stream in (sys.stdout, sys.stderr):
        if isinstance(stream, io.TextIOWrapper):
            stream.reconfigure(errors="backslashreplace")  # names that are no text are printed all the same
    if is_command(words):
        code = run_command(words, {"open_window": _open_window})
        _say_the_rest()
        return code
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


def _say_the_rest() -> None:
    """Write what is still unsaid; where nobody reads any more, that is no failure of what was done."""
    for stream in (sys.stdout, sys.stderr):
        try:
            if stream is not None:
                stream.flush()
        except (OSError, ValueError):
            with contextlib.suppress(OSError, ValueError):
                os.dup2(os.open(os.devnull, os.O_WRONLY), stream.fileno())


def _no_window(why: str, remedy: str) -> int:
    sentence = f"The window cannot be opened: {why}. {remedy}"
    if sys.stderr is None or not sys.stderr.isatty():  # started by a desktop: nobody reads a terminal
        from attentive_lens.desktop.bus import notify

        notify("Attentive Lens", sentence, urgent=True)
    if sys.stderr is not None:
        sys.stderr.write(f"{sentence}\n")
    return 1


def run() -> None:
    """The command's process: `main`, and its end once everybody has tidied up.

    The interpreter takes all modules apart at its end, half a second where much was loaded; that is left out. It is
    not where a launcher started this as one of several processes: MPI takes its leave at that very end, and a process
    gone without leave is a fault to the launcher, whose exit code then says nothing of ours.
    """
    codes: list[int] = []

    def end() -> None:
        if codes:
            _say_the_rest()
            os._exit(codes[0])

    if processes_launched() == 1:
        atexit.register(end)  # before all others, so it is called after them
    codes.append(main())
    sys.exit(codes[0])


if __name__ == "__main__":
    run()
