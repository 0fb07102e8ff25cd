"""What a server answers under which path, as one table; every error is one sentence in JSON."""

from __future__ import annotations

from functools import partial
from typing import Any

from starlette.applications import Starlette
from starlette.exceptions import HTTPException
from starlette.requests import ClientDisconnect, Request
from starlette.responses import HTMLResponse, Response
from starlette.routing import Route

from attentive_lens.desk.log import note_fault
from attentive_lens.errors import BadUsage, LensError
from attentive_lens.explaining.methods import DEFAULT
from attentive_lens.serving.answers import JsonAnswer, error_answer
from attentive_lens.serving.description import openapi, page
from attentive_lens.serving.endpoint import Endpoint, Query
from attentive_lens.serving.results import Answered, DriftTold, Health, ModelServed
from attentive_lens.serving.served import Served


async def _openapi(served: Served, request: Request) -> Response:
    del served, request
    return JsonAnswer(openapi(ENDPOINTS))


async def _page(served: Served, request: Request) -> Response:
    base = str(request.base_url).rstrip("/")
    return HTMLResponse(await served.drawn(partial(page, served, ENDPOINTS, base)))


ENDPOINTS = (
    Endpoint(
        "/predict",
        "POST",
        "Answers to one or many images: the class said and the probability of every class.",
        Served.predict,
        Answered,
        takes_images=True,
        query=(Query("name", "Of an image that is sent alone."),),
    ),
    Endpoint(
        "/explain",
        "POST",
        "The map of one image as a picture: what the answer rests on.",
        Served.explain,
        media="image/png",
        takes_images=True,
        query=(
            Query("method", f"Of the map, with its settings; {DEFAULT.kind} if left out."),
            Query("target", "The class that is explained; the one that is said if left out."),
            Query("show", "«beside» (image and map) or «map» (the map alone, transparent)."),
            Query("side", "Pixels of the picture's height, about."),
            Query(
                "page",
                "Which picture of a file of several; the first (or all, as channels) if left out.",
            ),
        ),
    ),
    Endpoint("/drift", "GET", "How the images of each day differ from held-out ones.", Served.drift, DriftTold),
    Endpoint("/drift.svg", "GET", "The same as a chart.", Served.drift_chart, media="image/svg+xml"),
    Endpoint("/model", "GET", "The model that answers.", Served.model, ModelServed),
    Endpoint("/health", "GET", "Whether the server answers; needs no token.", Served.health, Health, is_open=True),
    Endpoint("/openapi.json", "GET", "This description, for programs (OpenAPI 3.1).", _openapi, object),
    Endpoint("/", "GET", "This page.", _page, media="text/html"),
)
"""All that a server answers."""


def application(served: Served) -> Starlette:
    """The paths as an ASGI application; every error is one sentence in JSON."""
    routes = [Route(each.path, partial(each.answer, served), methods=[each.method]) for each in ENDPOINTS]

    async def of_user(request: Request, error: Exception) -> Response:
        del request
        return error_answer(error) if isinstance(error, LensError) else _fault(error)

    async def of_path(request: Request, error: Exception) -> Response:
        number = error.status_code if isinstance(error, HTTPException) else 500
        paths = ", ".join(f"{each.method} {each.path}" for each in ENDPOINTS)
        why = f"{request.method} {request.url.path[:80]} is not among what is answered"
        return error_answer(BadUsage("The request was not understood", why, f"Ask {paths}"), number)

    async def gone(request: Request, error: Exception) -> Response:
        del request, error
        return Response(status_code=499)  # nobody reads it

    handlers: dict[Any, Any] = {LensError: of_user, ClientDisconnect: gone, HTTPException: of_path, Exception: of_user}
    return Starlette(routes=routes, exception_handlers=handlers)


def _fault(error: Exception) -> Response:
    """A fault of the program: told without its trace, which goes to the log."""
    why = f"{type(error).__name__}; {note_fault(error)}"
    return error_answer(LensError("The program has a fault", why, "Please report it with that trace"), 500)
