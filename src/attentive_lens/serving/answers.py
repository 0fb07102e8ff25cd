"""What is answered to a request: results as JSON, and errors as the commands print them."""

from __future__ import annotations

import json
from typing import Any

from starlette.responses import Response

from attentive_lens.core.records import without_arrays
from attentive_lens.errors import LensError
from attentive_lens.serving.refusals import status_of


class JsonAnswer(Response):
    """A result, or plain values, as one JSON object."""

    media_type = "application/json"

    def __init__(self, content: Any, status_code: int = 200, headers: dict[str, str] | None = None) -> None:
        super().__init__(content, status_code, headers)

    def render(self, content: Any) -> bytes:
        """As UTF-8, in one line."""
        return json.dumps(without_arrays(content), ensure_ascii=False, allow_nan=False).encode("utf-8", "replace")


def error_answer(error: LensError, status: int | None = None) -> JsonAnswer:
    """What happened, why and what to do, under the status that belongs to the kind of error."""
    number = status or status_of(error)
    headers = {401: {"WWW-Authenticate": "Bearer"}, 503: {"Retry-After": "1"}}.get(number)
    return JsonAnswer({"error": error.as_dict()}, number, headers)
