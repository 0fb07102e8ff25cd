"""A command of ours in a process of its own, for long work that must not stop when the window does not."""

from __future__ import annotations

import json
import sys
from collections.abc import Callable

from PyQt6.QtCore import QByteArray, QObject, QProcess

from attentive_lens.errors import LensError


def run_command(
    parent: QObject, words: list[str], ended: Callable[[int, str], None], doing: Callable[[str], None] | None = None
) -> QProcess:
    """Start ``attentive-lens`` with some words.

    Parameters
    ----------
    parent : QObject
        Owns the process; with it the process ends.
    words : list of str
        Command and arguments.
    ended : callable
        Gets the exit code and the last line of output, or of errors if it failed.
    doing : callable or None
        Gets each line of progress.
    """
    process = QProcess(parent)

    def finished(code: int, _: QProcess.ExitStatus) -> None:
        predicted, complaint = (
            _last_line(data) for data in (process.readAllStandardOutput(), process.readAllStandardError())
        )
        if not code:
            ended(code, predicted)
            return
        try:
            ended(code, str(LensError(**json.loads(predicted)["error"])))
        except (ValueError, KeyError, TypeError):
            ended(code, complaint or "That did not work.")

    def read() -> None:
        lines = process.peek(1 << 16).decode(errors="replace").strip().splitlines()
        if doing is not None and lines:
            doing(lines[-1])

    process.finished.connect(finished)
    process.setReadChannel(QProcess.ProcessChannel.StandardError)
    process.readyReadStandardError.connect(read)
    process.start(sys.executable, ["-m", "attentive_lens", *words])
    return process


def _last_line(data: QByteArray) -> str:
    lines = bytes(data.data()).decode(errors="replace").strip().splitlines()
    return lines[-1] if lines else ""
