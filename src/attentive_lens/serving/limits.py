"""How much a server takes at once."""

from __future__ import annotations

from dataclasses import dataclass


@dataclass(frozen=True)
class Limits:
    """Beyond any of these a request is refused, with the limit in its answer.

    Attributes
    ----------
    images : int
        In one request.
    megabytes : int
        Of one request, as it is sent.
    megapixels : int
        Of one image, as it is unpacked.
    waiting : int
        Images of all requests that wait for their answers.
    held : int
        Megabytes of all requests that are under way.
    connections : int
        At once.
    seconds : float
        For a request to arrive, and for an image to be decoded.
    side : int
        Pixels of a side of the picture of a map.
    """

    images: int = 64
    megabytes: int = 64
    megapixels: int = 50
    waiting: int = 1024
    held: int = 1024
    connections: int = 256
    seconds: float = 30.0
    side: int = 4096
