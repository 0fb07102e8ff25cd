"""What tests of the server share: a server in a process of its own, and requests to it."""

from __future__ import annotations

import http.client
import json
import os
import signal
import subprocess
import sys
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from pathlib import Path
from types import TracebackType
from typing import Any, Self

BOUNDARY = "between images"
SECONDS = 60


@dataclass(frozen=True)
class Reply:
    status: int
    headers: Mapping[str, str]
    body: bytes

    @property
    def table(self) -> dict[str, Any]:
        """The JSON object."""
        table: dict[str, Any] = json.loads(self.body)
        return table

    @property
    def error(self) -> dict[str, str]:
        """What, why and remedy, in words."""
        error: dict[str, str] = self.table["error"]
        assert error.keys() == {"what", "why", "remedy"}
        assert all(error.values())
        return error


def form(images: Sequence[tuple[str, bytes]], field: str = "images") -> tuple[dict[str, str], bytes]:
    """Headers and body of a form with files."""
    parts = b""
    for name, content in images:
        head = f'--{BOUNDARY}\r\nContent-Disposition: form-data; name="{field}"; filename="{name}"\r\n'
        parts += f"{head}Content-Type: application/octet-stream\r\n\r\n".encode() + content + b"\r\n"
    kind = f'multipart/form-data; boundary="{BOUNDARY}"'
    return {"Content-Type": kind}, parts + f"--{BOUNDARY}--\r\n".encode()


class Server:
    """The command in a process of its own, as a context."""

    def __init__(self, model: Path, *words: object, environment: Mapping[str, str] | None = None) -> None:
        command = [sys.executable, "-m", "attentive_lens", "serve", str(model), "--port", "0", "--json"]
        self.process = subprocess.Popen(
            [*command, *map(str, words)],
            stdout=subprocess.PIPE,
            stderr=subprocess.PIPE,
            text=True,
            env={**os.environ, **(environment or {})},
        )
        assert self.process.stdout is not None
        line = self.process.stdout.readline()
        self.begun = json.loads(line) if line else {}
        self.port = int(self.begun["url"].rpartition(":")[2]) if "url" in self.begun else 0

    def ask(
        self, path: str, body: bytes | None = None, headers: Mapping[str, str] | None = None, method: str = ""
    ) -> Reply:
        """One request on a connection of its own."""
        connection = http.client.HTTPConnection("127.0.0.1", self.port, timeout=SECONDS)
        try:
            connection.request(method or ("GET" if body is None else "POST"), path, body, dict(headers or {}))
            reply = connection.getresponse()
            return Reply(reply.status, {k.lower(): v for k, v in reply.getheaders()}, reply.read())
        finally:
            connection.close()

    def predict(self, *images: bytes, **headers: str) -> Reply:
        """Answers to images, in a form."""
        kind, body = form([(f"image {k}", image) for k, image in enumerate(images)])
        return self.ask("/predict", body, {**kind, **headers})

    def end(self, number: int = signal.SIGTERM) -> tuple[int, str]:
        """End it as a service manager or a person would; its code, and all that it said on the way."""
        if self.process.poll() is None:
            self.process.send_signal(number)
        _, said = self.process.communicate(timeout=SECONDS)
        return self.process.returncode, said

    def __enter__(self) -> Self:
        return self

    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        if self.process.poll() is None:
            self.end()
        else:
            self.process.communicate()
