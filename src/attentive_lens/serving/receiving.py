"""What is sent with a request: one picture, several as a form or in JSON."""

from __future__ import annotations

import asyncio
import base64
import binascii
import json
from collections.abc import Sequence
from dataclasses import dataclass

from starlette.datastructures import UploadFile
from starlette.exceptions import HTTPException
from starlette.requests import ClientDisconnect, Request

from attentive_lens.core.files import shown
from attentive_lens.errors import BadUsage
from attentive_lens.serving.limits import Limits
from attentive_lens.serving.refusals import Slow, TooLarge, WrongKind

FORM, JSON = "multipart/form-data", "application/json"


@dataclass(frozen=True)
class Received:
    """An image as it was named and as it was sent, and which page of it is meant, from 1; 0: all that are images."""

    name: str
    content: bytes
    page: int = 0


async def received(request: Request, limits: Limits) -> list[Received]:
    """The images of a request.

    Raises
    ------
    TooLarge
        If there are more images, or more bytes, than one request may have.
    WrongKind
        If what is sent is of a kind that is not known.
    Slow
        If it does not arrive in time.
    BadUsage
        If it holds no image, or is no form or JSON though it says so.
    """
    try:
        async with asyncio.timeout(limits.seconds):
            images = await _images(request, limits)
    except TimeoutError:
        why = f"it did not arrive within {limits.seconds:g} seconds"
        raise Slow("The request was not taken", why, "Send it faster, or in parts") from None
    if not images:
        raise BadUsage("Nothing was asked", "the request holds no image", "Send a picture, or a form with files")
    if len(images) > limits.images:
        why = f"it holds {len(images)} images, and {limits.images} are the most in one"
        raise TooLarge("The request was not taken", why, "Send them in several")
    return [Received(shown(name)[:200], content) for name, content in images]


async def _images(request: Request, limits: Limits) -> Sequence[tuple[str, bytes]]:
    """Names and contents of the images."""
    kind = request.headers.get("content-type", "").partition(";")[0].strip().lower()
    if kind == FORM:
        return await _of_form(request, limits)
    if kind == JSON:
        return _of_json(await request.body())
    if kind.startswith("image/") or kind in ("", "application/octet-stream"):
        body = await request.body()
        return [(request.query_params.get("name", "image"), body)] if body else []
    why = f"its content type is {kind[:60]}"
    raise WrongKind("The request was not understood", why, f"Send a picture as image/…, {FORM} or {JSON}")


async def _of_form(request: Request, limits: Limits) -> list[tuple[str, bytes]]:
    try:
        async with request.form(max_files=limits.images, max_fields=8) as form:
            parts = [part for _, part in form.multi_items() if isinstance(part, UploadFile)]
            return [(part.filename or "image", await part.read()) for part in parts]
    except ClientDisconnect:
        raise
    except HTTPException as error:
        if "Too many files" in error.detail:
            why = f"it holds more images, and {limits.images} are the most in one"
            raise TooLarge("The request was not taken", why, "Send them in several") from None
        raise BadUsage("The form was not understood", _first(error.detail), "Send each image as a file in it") from None


def _of_json(body: bytes) -> list[tuple[str, bytes]]:
    """Of ``{"images": [{"name": …, "data": base64}, …]}``."""
    remedy = 'Send {"images": [{"name": "…", "data": "base64"}]}'
    try:
        images = json.loads(body)["images"]
        if not isinstance(images, list):
            raise TypeError("«images» is no list")
        pairs = [(str(image.get("name", f"image {k}")), image["data"]) for k, image in enumerate(images, 1)]
    except (ValueError, LookupError, TypeError, AttributeError, RecursionError) as error:
        raise BadUsage("The JSON was not understood", _first(f"{type(error).__name__}: {error}"), remedy) from None
    outcome = []
    for name, data in pairs:
        try:
            outcome.append((name, base64.b64decode(data, validate=True)))
        except (binascii.Error, ValueError, TypeError):
            raise BadUsage("The JSON was not understood", f"the data of {name[:60]!r} is no base64", remedy) from None
    return outcome


def _first(words: str) -> str:
    """As a reason within a sentence."""
    return shown(words.splitlines()[0] if words else "no more is known")[:120].rstrip(".")
