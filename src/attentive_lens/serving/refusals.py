"""Why a request is refused, each kind with the status of HTTP that it is answered under (RFC 9110, section 15)."""

from __future__ import annotations

from typing import ClassVar

from attentive_lens.errors import BadFile, BadUsage, LensError, NotHere


class Refusal(BadUsage):
    """A request that is not answered."""

    status: ClassVar[int] = 400


class NotAllowed(Refusal):
    """Without the token, or with another."""

    status = 401


class Foreign(Refusal):
    """By a page of another site, or under another name of this machine."""

    status = 403


class Slow(Refusal):
    """That does not arrive."""

    status = 408


class TooLarge(Refusal):
    """Of more than a server takes at once."""

    status = 413


class WrongKind(Refusal):
    """Of a kind that is not known."""

    status = 415


class TooMany(Refusal):
    """While more wait than a server holds."""

    status = 503


def status_of(error: LensError) -> int:
    """The status that belongs to an error."""
    if isinstance(error, Refusal):
        return error.status
    return 404 if isinstance(error, NotHere) else 422 if isinstance(error, BadFile) else 400
