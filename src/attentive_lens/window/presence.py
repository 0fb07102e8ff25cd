"""One window for each workspace: who opens it again has the window that is there brought to the front."""

from __future__ import annotations

import contextlib
import hashlib
import os
import socket
import struct
from collections.abc import Callable
from pathlib import Path

from PyQt6 import sip
from PyQt6.QtCore import QObject, QSocketNotifier
from PyQt6.QtWidgets import QApplication, QWidget

WORD, ANSWER = b"to the front", b"it is"
SECONDS = 1.0
TOKENS = ("XDG_ACTIVATION_TOKEN", "DESKTOP_STARTUP_ID")
"""By which a desktop lets a program that was started bring a window to the front."""
LONGEST = 4096


def bring_to_front(window: QWidget) -> None:
    """Show a window above all others, as far as the desktop allows it."""
    if window.isMinimized():
        window.showNormal()
    window.show()
    window.raise_()
    window.activateWindow()
    QApplication.alert(window)


def ask_to_front(folder: Path) -> bool:
    """Whether another process of this user has a window on the workspace, which it then brought to the front."""
    token = next((os.environ[name] for name in TOKENS if os.environ.get(name)), "")
    with contextlib.suppress(OSError), socket.socket(socket.AF_UNIX, socket.SOCK_SEQPACKET) as own:
        own.settimeout(SECONDS)
        own.connect(_address(folder))
        if _user_of(own) != os.getuid():
            return False
        own.send(WORD + b"\n" + token.encode("utf-8", "replace")[: LONGEST - len(WORD) - 1])
        return own.recv(LONGEST) == ANSWER
    return False


class Presence(QObject):
    """Tells other processes that a window has a workspace open, until it is closed.

    Parameters
    ----------
    folder : Path
        Of the workspace.
    to_front : callable
        Brings the window to the front.
    """

    def __init__(self, folder: Path, to_front: Callable[[], None]) -> None:
        super().__init__()
        self._to_front = to_front
        self._socket: socket.socket | None = socket.socket(socket.AF_UNIX, socket.SOCK_SEQPACKET | socket.SOCK_CLOEXEC)
        try:
            self._socket.bind(_address(folder))
            self._socket.listen(4)
        except OSError:  # another window of it is there, and this one reads only
            self._socket.close()
            self._socket = None
            return
        self._socket.setblocking(False)
        self._notifier = QSocketNotifier(sip.voidptr(self._socket.fileno()), QSocketNotifier.Type.Read, self)
        self._notifier.activated.connect(self._answer)

    def _answer(self) -> None:
        if self._socket is None:
            return
        with contextlib.suppress(OSError):
            other, _ = self._socket.accept()
            with other:
                other.settimeout(SECONDS / 10)
                if _user_of(other) != os.getuid():
                    return
                word, _, token = other.recv(LONGEST).partition(b"\n")
                if word == WORD:
                    if token:
                        os.environ[TOKENS[0]] = token.decode("utf-8", "replace")
                    self._to_front()
                    other.send(ANSWER)

    def close(self) -> None:
        """The window is gone."""
        if self._socket is not None:
            self._notifier.setEnabled(False)
            self._socket.close()
            self._socket = None


def _address(folder: Path) -> str:
    """A name that no file has, and that goes with the process (unix(7), abstract)."""
    digest = hashlib.sha256(os.fsencode(folder.resolve())).hexdigest()[:32]
    return f"\0attentive-lens-{os.getuid()}-{digest}"


def _user_of(connected: socket.socket) -> int:
    """Number of the user at the other end."""
    credentials = connected.getsockopt(socket.SOL_SOCKET, socket.SO_PEERCRED, struct.calcsize("3i"))
    return int(struct.unpack("3i", credentials)[1])
