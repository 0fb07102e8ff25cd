"""A server from its beginning to its end."""

from __future__ import annotations

import asyncio
import logging
import signal
import socket
from collections.abc import Callable, Iterator
from contextlib import contextmanager, suppress
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import uvicorn
import uvloop
from uvicorn.protocols.http.httptools_impl import HttpToolsProtocol

from attentive_lens.desk.results.drift import DriftByDay, HeldOut
from attentive_lens.desk.results.familiar import Familiar
from attentive_lens.errors import BadFile, BadUsage, NotHere
from attentive_lens.formats.bundle import ModelFile
from attentive_lens.serving.answering import Answerer
from attentive_lens.serving.application import ENDPOINTS, application
from attentive_lens.serving.guard import THIS_MACHINE, Guard
from attentive_lens.serving.limits import Limits
from attentive_lens.serving.served import Served

KEEP_SECONDS = 60
"""Between two writings of the days' counts."""
LAST_SECONDS = 10
"""For what is under way when the server is ended."""


@dataclass(frozen=True)
class Serving:
    """What is to be served, and how.

    Attributes
    ----------
    model : ModelFile
    name : str
        Of its file.
    host : str
        Address or name of this machine that is listened at.
    port : int
        0 for any that is free.
    token : str
        Empty where none is needed.
    limits : Limits
    familiar : Familiar or None
        What it was trained on, where each answer is to say how unlike that its image is.
    held_out : HeldOut or None
        What images are compared with.
    no_drift : NotHere or None
        Why there is none.
    drift : Path or None
        A file that keeps the counts of each day.
    """

    model: ModelFile
    name: str
    host: str = "127.0.0.1"
    port: int = 8765
    token: str = ""
    limits: Limits = Limits()
    familiar: Familiar | None = None
    held_out: HeldOut | None = None
    no_drift: NotHere | None = None
    drift: Path | None = None


class _Impatient(HttpToolsProtocol):
    """Ends a connection that does not say what it wants: the library waits for ever."""

    patience = 30.0
    _waiting: asyncio.TimerHandle | None = None

    def connection_made(self, transport: Any) -> None:
        super().connection_made(transport)
        self._waiting = self.loop.call_later(self.patience, transport.close)

    def on_headers_complete(self) -> None:
        self._patient()
        super().on_headers_complete()

    def connection_lost(self, exc: Exception | None) -> None:
        self._patient()
        super().connection_lost(exc)

    def _patient(self) -> None:
        if self._waiting is not None:
            self._waiting.cancel()
            self._waiting = None


class _Server(uvicorn.Server):
    """Ends in order when it is told to: the library's own would raise the signal anew, and end at once."""

    @contextmanager
    def capture_signals(self) -> Iterator[None]:
        loop = asyncio.get_running_loop()
        for number in (signal.SIGINT, signal.SIGTERM):
            loop.add_signal_handler(number, self.handle_exit, number, None)
        try:
            yield
        finally:
            for number in (signal.SIGINT, signal.SIGTERM):
                loop.remove_signal_handler(number)


def run_server(serving: Serving, say: Callable[[str, int], None]) -> None:
    """Serve until the process is told to end (Ctrl+C, or a signal to terminate); blocks.

    Parameters
    ----------
    serving : Serving
    say : callable
        Called once with the address and the port when requests are answered.

    Raises
    ------
    BadUsage
        If the address cannot be listened at.
    BadFile
        If the file of days cannot be gone on with.
    BadValue
        If the model answers no classes.
    """
    days = DriftByDay(serving.held_out, serving.drift) if serving.held_out is not None else None
    listening = _listening(serving.host, serving.port)
    with listening:
        answerer = Answerer(serving.model, serving.limits, serving.familiar, days)
        served = Served(answerer, serving.name, serving.no_drift, bool(serving.token))
        try:
            with asyncio.Runner(loop_factory=uvloop.new_event_loop) as runner:
                runner.run(_serve(serving, served, listening, say))
        finally:
            served.close()
            if days is not None:
                days.keep()


def _listening(host: str, port: int) -> socket.socket:
    try:
        family, _, _, _, address = socket.getaddrinfo(host, port, type=socket.SOCK_STREAM)[0]
        return socket.create_server(address[:2], family=family)
    except OSError as error:
        why = str(getattr(error, "strerror", None) or error).lower()
        raise BadUsage(f"{host}:{port} cannot be listened at", why, "Name another with --host or --port") from None


async def _serve(serving: Serving, served: Served, listening: socket.socket, say: Callable[[str, int], None]) -> None:
    names = THIS_MACHINE if is_this_machine(serving.host) else frozenset()
    free = frozenset(each.path for each in ENDPOINTS if each.is_open)
    guard = Guard(application(served), serving.limits, serving.token, names, free)
    protocol = type("_Protocol", (_Impatient,), {"patience": serving.limits.seconds})
    config = uvicorn.Config(
        guard,
        http=protocol,
        ws="none",
        lifespan="off",
        proxy_headers=False,
        log_config=None,
        access_log=False,
        server_header=False,
        limit_concurrency=serving.limits.connections,
        backlog=min(2048, 4 * serving.limits.connections),
        timeout_keep_alive=int(serving.limits.seconds),
        timeout_graceful_shutdown=LAST_SECONDS,
    )
    logging.getLogger("uvicorn").setLevel(logging.CRITICAL + 1)  # faults are noted in our log, and answered
    server = _Server(config)
    keeping = asyncio.create_task(_keep(served))
    saying = asyncio.create_task(_say(server, listening, say))
    try:
        await server.serve([listening])
    finally:
        for task in (keeping, saying):
            task.cancel()


async def _say(server: uvicorn.Server, listening: socket.socket, say: Callable[[str, int], None]) -> None:
    while not server.started:
        await asyncio.sleep(0.01)
    host, port = listening.getsockname()[:2]
    say(host, port)


async def _keep(served: Served) -> None:
    """Write the days' counts now and then; where that fails the next time may do."""
    days = served.answerer.days
    while days is not None and days.file is not None:
        await asyncio.sleep(KEEP_SECONDS)
        with suppress(BadFile):
            await asyncio.to_thread(_kept_now, served.answerer, days)


def _kept_now(answerer: Answerer, days: DriftByDay) -> None:
    with answerer.counting:
        days.keep()


def is_this_machine(host: str) -> bool:
    """Whether an address is one that only this machine reaches."""
    try:
        return all(address[4][0] in ("127.0.0.1", "::1") for address in socket.getaddrinfo(host, None))
    except OSError:
        return False
