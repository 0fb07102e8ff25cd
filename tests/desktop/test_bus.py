"""What is said over the desktop's message bus, heard by a stand-in on a bus of its own."""

from __future__ import annotations

import contextlib
import io
import os
import shutil
import subprocess
import time
from collections.abc import Iterator
from dataclasses import dataclass, field
from pathlib import Path
from threading import Thread

import pytest
from jeepney import MessageType, message_bus, new_error, new_method_return
from jeepney.io.blocking import open_dbus_connection
from tests.cli.running import TINY, command, run_words

from attentive_lens.desktop.bus import notify, staying_awake
from attentive_lens.workspace import Workspace

NAMES = ("org.freedesktop.Notifications", "org.freedesktop.login1")


@dataclass
class StandIn:
    """Takes notices, and holds on sleep; the end of a hold is the end of its pipe."""

    notices: list[tuple[object, ...]] = field(default_factory=list)
    reasons: list[tuple[str, ...]] = field(default_factory=list)
    pipes: list[int] = field(default_factory=list)
    refuses: bool = False
    over: bool = False

    def serve(self) -> None:
        with open_dbus_connection("SESSION", enable_fds=True) as bus:
            for name in NAMES:
                bus.send_and_get_reply(message_bus.RequestName(name))
            while not self.over:
                try:
                    call = bus.receive(timeout=0.05)
                except TimeoutError:
                    continue
                if call.header.message_type is not MessageType.method_call:
                    continue
                if self.refuses:
                    bus.send(new_error(call, "org.freedesktop.DBus.Error.AccessDenied"))
                elif call.header.fields[3] == "Notify":
                    self.notices.append(call.body)
                    bus.send(new_method_return(call, "u", (len(self.notices),)))
                else:
                    self.reasons.append(call.body)
                    ours, theirs = os.pipe()
                    self.pipes.append(ours)
                    bus.send(new_method_return(call, "h", (theirs,)))
                    os.close(theirs)

    def is_held(self, number: int = -1) -> bool:
        """Whether the other end of a hold's pipe is open; whoever passed it on may take a moment to close its own."""
        os.set_blocking(self.pipes[number], False)
        limit = time.monotonic() + 1
        while time.monotonic() < limit:
            try:
                return os.read(self.pipes[number], 1) != b""
            except BlockingIOError:
                time.sleep(0.01)
        return True


@pytest.fixture
def desktop(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> Iterator[StandIn]:
    if not shutil.which("dbus-daemon"):
        pytest.skip("dbus-daemon is not installed")
    words = ["dbus-daemon", "--session", "--nofork", "--print-address", f"--address=unix:path={tmp_path / 'bus'}"]
    with subprocess.Popen(words, stdout=subprocess.PIPE, text=True) as daemon:
        assert daemon.stdout is not None
        address = daemon.stdout.readline().strip()
        for name in ("DBUS_SESSION_BUS_ADDRESS", "DBUS_SYSTEM_BUS_ADDRESS"):
            monkeypatch.setenv(name, address)
        stand_in = StandIn()
        thread = Thread(target=stand_in.serve)
        thread.start()
        limit = time.monotonic() + 10
        while not _is_there(NAMES[-1]) and time.monotonic() < limit:
            time.sleep(0.02)
        yield stand_in
        stand_in.over = True
        thread.join()
        for pipe in stand_in.pipes:
            os.close(pipe)
        daemon.terminate()


def _is_there(name: str) -> bool:
    with open_dbus_connection("SESSION") as bus:
        return bool(bus.send_and_get_reply(message_bus.NameHasOwner(name)).body[0])


def test_a_notice_has_its_words_and_how_urgent_it_is(desktop: StandIn) -> None:
    assert notify("pollen station", "Run 3 done: best validation accuracy 92.3%")
    assert notify("pollen station", "Memory is full: …", urgent=True)
    first, second = desktop.notices
    assert first[0] == "Attentive Lens" and first[2] == "attentive-lens"
    assert first[3:5] == ("pollen station", "Run 3 done: best validation accuracy 92.3%")
    assert [notice[6]["urgency"] for notice in (first, second)] == [("y", 1), ("y", 2)]  # type: ignore[index]


def test_sleep_is_held_off_for_a_reason_and_let_go(desktop: StandIn) -> None:
    with staying_awake("Run 3 trains") as is_awake:
        assert is_awake and desktop.is_held()
    assert not desktop.is_held()
    assert desktop.reasons == [("sleep", "Attentive Lens", "Run 3 trains", "block")]
    with pytest.raises(ZeroDivisionError), staying_awake("Run 4 trains"):
        raise ZeroDivisionError
    assert not desktop.is_held(), "whatever ends it"


def test_a_window_that_cannot_be_opened_is_told_where_there_is_no_terminal(
    desktop: StandIn, monkeypatch: pytest.MonkeyPatch
) -> None:
    for name in ("DISPLAY", "WAYLAND_DISPLAY"):
        monkeypatch.delenv(name, raising=False)
    monkeypatch.setenv("QT_QPA_PLATFORM", "xcb")
    said = io.StringIO()
    with contextlib.redirect_stderr(said):
        assert run_words() == 1
    ((*_, title, words, _, hints, _),) = desktop.notices
    assert title == "Attentive Lens" and "no display" in str(words) and str(words) in said.getvalue()
    assert hints["urgency"] == ("y", 2)  # type: ignore[index]


def test_a_desktop_that_refuses_or_is_not_there_harms_nobody(desktop: StandIn, monkeypatch: pytest.MonkeyPatch) -> None:
    desktop.refuses = True
    assert not notify("a", "b")
    with staying_awake("Run 3 trains") as is_awake:
        assert not is_awake
    for address in ("unix:path=/nowhere", "", "nonsense", "disabled:"):
        for name in ("DBUS_SESSION_BUS_ADDRESS", "DBUS_SYSTEM_BUS_ADDRESS"):
            monkeypatch.setenv(name, address)
        assert not notify("a", "b")
        with staying_awake("Run 3 trains") as is_awake:
            assert not is_awake or not address, "the machine's own bus may be there"


def test_a_run_holds_sleep_off_while_it_trains_and_tells_its_end_where_no_window_does(
    desktop: StandIn, station: Workspace
) -> None:
    command("train", station.folder, *TINY)
    number = station.runs()[-1].number
    assert desktop.reasons[-1][2] == f"Run {number} of {station.name} trains" and not desktop.is_held()
    assert not desktop.notices, "who typed it sees how it ended"
    for is_open in (True, False):
        run = station.claim_run(station.run(number).plan())
        _, held = station.for_window()
        assert held is not None and station.has_window
        if not is_open:
            os.close(held)
            assert not station.has_window
        command("train", station.folder, "--claimed", run.number)
        if is_open:
            os.close(held)
            assert not desktop.notices, "the window tells it"
    ((*_, title, words, _, _, _),) = desktop.notices
    assert title == station.name and f"Run {run.number} done" in str(words)
