"""Who may ask, and how much: looked at before anything of a request is read."""

from __future__ import annotations

import hmac
from dataclasses import dataclass
from urllib.parse import urlsplit

from starlette.types import ASGIApp, Message, Receive, Scope, Send

from attentive_lens.serving.answers import error_answer
from attentive_lens.serving.limits import Limits
from attentive_lens.serving.refusals import Foreign, NotAllowed, Refusal, TooLarge, TooMany

THIS_MACHINE = frozenset({"127.0.0.1", "localhost", "::1"})
MILLION = 1_000_000


@dataclass(eq=False)
class Guard:
    """Refuses requests without the token, by pages of other sites, and of more bytes than are taken.

    Without a token a server answers this machine alone, and under its usual names: a page that somebody looks at here
    can neither ask it nor have another name resolve to it.

    Parameters
    ----------
    app : ASGI application
        Whom it guards.
    limits : Limits
    token : str
        Empty where none is needed.
    names : frozenset of str
        Hosts that may be asked for; none where any may.
    free : frozenset of str
        Paths that need no token.
    """

    app: ASGIApp
    limits: Limits
    token: str = ""
    names: frozenset[str] = THIS_MACHINE
    free: frozenset[str] = frozenset()
    _held: int = 0

    async def __call__(self, scope: Scope, receive: Receive, send: Send) -> None:
        """Hand on what may pass."""
        if scope["type"] != "http":
            await self.app(scope, receive, send)
            return
        headers = {name.decode("latin-1"): value.decode("latin-1") for name, value in scope["headers"]}
        refused = self._refused(scope["path"], headers)
        if refused is not None:
            await error_answer(refused)(scope, receive, send)
            return
        taken = 0

        async def counted() -> Message:
            nonlocal taken
            message = await receive()
            size = len(message.get("body", b""))
            taken += size
            self._held += size
            if taken > self.limits.megabytes * MILLION:
                raise _too_large(self.limits)
            if self._held > self.limits.held * MILLION:
                why = f"{self.limits.held} MB of requests are under way"
                raise TooMany("The request was not taken", why, "Send it again in a moment")
            return message

        try:
            await self.app(scope, counted, send)
        finally:
            self._held -= taken

    def _refused(self, path: str, headers: dict[str, str]) -> Refusal | None:
        host = _host_of(f"//{headers.get('host', '')}")[0]
        if self.names and host not in self.names:
            why = f"it asks for the host {host[:80]!r}, and this server answers this machine alone"
            return Foreign("The request was refused", why, "Ask for 127.0.0.1 or localhost")
        origin = headers.get("origin")
        if origin is not None and _host_of(origin)[1] != headers.get("host"):
            why = f"a page of {origin[:80]} sent it"
            return Foreign("The request was refused", why, "Ask from a program, or from this server's own page")
        if self.token and path not in self.free:
            kind, _, word = headers.get("authorization", "").partition(" ")
            if kind.lower() != "bearer" or not hmac.compare_digest(word.strip().encode(), self.token.encode()):
                why = "it has no token, or another than the server was begun with"
                return NotAllowed("The request was refused", why, "Send the header «Authorization: Bearer TOKEN»")
        length = headers.get("content-length", "0")
        if length.isdigit() and int(length) > self.limits.megabytes * MILLION:
            return _too_large(self.limits)
        return None


def _host_of(url: str) -> tuple[str, str]:
    """Name of a host in small letters, and as an address has it with its port; empty in one that is wrong."""
    try:
        parts = urlsplit(url)
        return (parts.hostname or "").lower(), parts.netloc
    except ValueError:
        return "", ""


def _too_large(limits: Limits) -> TooLarge:
    why = f"it has more than {limits.megabytes} MB"
    return TooLarge("The request was not taken", why, "Send fewer images at once")
