"""What is said to the desktop over its message bus: notices, and that the machine should not fall asleep.

Where there is no bus, or nobody on it who does this, nothing happens: a desktop is never needed.
"""

from __future__ import annotations

import contextlib
import os
from collections.abc import Iterator
from typing import TYPE_CHECKING, Any

from attentive_lens.desktop.entry import PROGRAM

if TYPE_CHECKING:
    from jeepney import Message
    from jeepney.io.blocking import DBusConnection

NAME = "Attentive Lens"
SECONDS = 2.0
"""At most that anybody is waited for."""
NORMAL, URGENT = 1, 2


def notify(title: str, words: str, urgent: bool = False) -> bool:
    """Show a notice (Desktop Notifications Specification 1.2); returns whether somebody took it.

    Waits at most a few seconds: not to be called where a window is drawn.
    """
    from jeepney import DBusAddress, new_method_call  # only here, as in all of this: a start is sooner without

    place = "/org/freedesktop/Notifications"
    server = DBusAddress(place, bus_name="org.freedesktop.Notifications", interface="org.freedesktop.Notifications")
    hints = {"urgency": ("y", URGENT if urgent else NORMAL), "desktop-entry": ("s", PROGRAM)}
    body: tuple[object, ...] = (NAME, 0, PROGRAM, title, words, [], hints, -1)
    with _connected("SESSION") as bus:
        return bus is not None and _asked_of(bus, new_method_call(server, "Notify", "susssasa{sv}i", body)) is not None


@contextlib.contextmanager
def staying_awake(why: str) -> Iterator[bool]:
    """Hold off sleep meanwhile (logind's inhibitors), for a reason that the desktop can show; yields whether it is.

    The hold is a file that is open: it ends with the process, however that ends.
    """
    from jeepney import DBusAddress, new_method_call

    place = "/org/freedesktop/login1"
    manager = DBusAddress(place, bus_name="org.freedesktop.login1", interface="org.freedesktop.login1.Manager")
    held: int | None = None
    with _connected("SYSTEM") as bus:
        if bus is not None:
            body = _asked_of(bus, new_method_call(manager, "Inhibit", "ssss", ("sleep", NAME, why, "block")))
            with contextlib.suppress(AttributeError, IndexError, TypeError):  # an answer of another kind
                held = body[0].to_raw_fd() if body is not None else None
    try:
        yield held is not None
    finally:
        if held is not None:
            os.close(held)


@contextlib.contextmanager
def _connected(bus: str) -> Iterator[DBusConnection | None]:
    """A connection to the bus of this user's desktop, or of the machine; None where there is none."""
    from jeepney.io.blocking import open_dbus_connection

    try:
        connection = open_dbus_connection(bus, enable_fds=bus == "SYSTEM", auth_timeout=SECONDS)
    except (OSError, KeyError, RuntimeError, ValueError):  # no bus, or one that lets nobody in
        yield None
        return
    try:
        yield connection
    finally:
        with contextlib.suppress(OSError):
            connection.close()


def _asked_of(bus: DBusConnection, call: Message) -> tuple[Any, ...] | None:
    """What is answered; None where nobody does, or with an error."""
    from jeepney import MessageType

    try:
        answer = bus.send_and_get_reply(call, timeout=SECONDS)
    except (OSError, TimeoutError, ValueError):
        return None
    return answer.body if answer.header.message_type is MessageType.method_return else None
