"""What can be asked: requests and their results, frozen and light to import.

A request is a class here that names its function in `desk.tasks`; nothing else lists it.
"""

from __future__ import annotations

import importlib
import pkgutil

from attentive_lens.desk.requests.base import REQUESTS, Request


def requests_by_name() -> dict[str, type[Request[object]]]:
    """Every request by the name of its class, whichever of these modules it stands in."""
    for module in pkgutil.iter_modules(__path__):
        importlib.import_module(f"{__name__}.{module.name}")  # noqa: TID251  # of this room, seen file by file
    return REQUESTS
