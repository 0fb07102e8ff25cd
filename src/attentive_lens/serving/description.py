"""What a server answers, described for programs (OpenAPI 3.1) and for people (a page without scripts)."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

from attentive_lens.core.records import PlainTable, schema
from attentive_lens.core.version import VERSION
from attentive_lens.errors import NotHere
from attentive_lens.serving.endpoint import Endpoint
from attentive_lens.serving.served import Served

BINARY = {"type": "string", "format": "binary"}
ERROR = {
    "type": "object",
    "required": ["error"],
    "properties": {
        "error": {
            "type": "object",
            "required": ["what", "why", "remedy"],
            "properties": {name: {"type": "string"} for name in ("what", "why", "remedy")},
        }
    },
}
SENT = {
    "image/*": {"schema": BINARY},
    "multipart/form-data": {
        "schema": {"type": "object", "properties": {"images": {"type": "array", "items": BINARY}}},
    },
    "application/json": {
        "schema": {
            "type": "object",
            "required": ["images"],
            "properties": {
                "images": {
                    "type": "array",
                    "items": {
                        "type": "object",
                        "required": ["data"],
                        "properties": {
                            "name": {"type": "string"},
                            "data": {"type": "string", "contentEncoding": "base64"},
                        },
                    },
                }
            },
        }
    },
}
"""What images are sent as."""


def openapi(endpoints: Sequence[Endpoint]) -> PlainTable:
    """The table of endpoints by the standard."""
    paths: dict[str, Any] = {}
    for each in endpoints:
        answers: dict[str, Any] = {"schema": _of_today(schema(each.result))} if each.result is not None else {}
        if each.media != "application/json":
            answers = {"schema": BINARY if each.media == "image/png" else {"type": "string"}}
        operation: dict[str, Any] = {
            "summary": each.summary,
            "operationId": each.path.strip("/").replace(".", "_") or "page",
            "responses": {
                "200": {"description": "The answer.", "content": {each.media: answers}},
                "default": {
                    "description": "What happened, why, and what to do.",
                    "content": {"application/json": {"schema": {"$ref": "#/components/schemas/Error"}}},
                },
            },
        }
        if each.takes_images:
            operation["requestBody"] = {"required": True, "content": SENT}
        if each.query:
            operation["parameters"] = [
                {"name": word.name, "in": "query", "description": word.meaning, "schema": {"type": "string"}}
                for word in each.query
            ]
        if each.is_open:
            operation["security"] = []
        paths.setdefault(each.path, {})[each.method.lower()] = operation
    return {
        "openapi": "3.1.0",
        "info": {"title": "A trained model that answers", "version": VERSION},
        "paths": paths,
        "security": [{}, {"token": []}],
        "components": {
            "schemas": {"Error": ERROR},
            "securitySchemes": {"token": {"type": "http", "scheme": "bearer"}},
        },
    }


def _of_today(plain: Any) -> Any:
    """A schema of draft 7 in the dialect of OpenAPI 3.1: values in a fixed order are «prefixItems» there."""
    if isinstance(plain, list):
        return [_of_today(item) for item in plain]
    if not isinstance(plain, dict):
        return plain
    return {
        "prefixItems" if name == "items" and isinstance(value, list) else name: _of_today(value)
        for name, value in plain.items()
    }


def page(served: Served, endpoints: Sequence[Endpoint], base: str) -> str:
    """The page for people: the model, a form, how to ask, and the days beside held-out images."""
    from jinja2 import Environment, PackageLoader, StrictUndefined  # only here: a program need not wait for it

    environment = Environment(
        loader=PackageLoader("attentive_lens.serving", "."),
        autoescape=True,
        undefined=StrictUndefined,
        trim_blocks=True,
    )
    try:
        days, chart, why = served.by_day(), served.chart(), ""
    except NotHere as error:
        days, chart, why = None, "", str(error)
    return environment.get_template("page.html.j2").render(
        model=served.about(),
        endpoints=endpoints,
        base=base,
        days=days,
        chart=chart,
        why=why,
        limits=served.answerer.limits,
        with_token=served.with_token,
    )
