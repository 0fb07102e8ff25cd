"""Short work, as jobs: what the resident worker does for the window, and the command line and Python do for themselves.

Each task is a function that takes a request and gives the result that the request names.
"""

from __future__ import annotations

import importlib
import pkgutil
from pathlib import Path
from typing import TypeVar

from attentive_lens.core.jobs import Job
from attentive_lens.desk.requests.base import Request
from attentive_lens.images.display import read_display, show_as

R = TypeVar("R")


def load_all() -> None:
    """Import what all tasks need: a second and a half, where that is waited for by nobody."""
    for module in pkgutil.iter_modules(__path__):
        importlib.import_module(f"{__name__}.{module.name}")  # noqa: TID251  # of this room, seen file by file


def carry_out(request: Request[R]) -> Job[R]:
    """The job that answers a request; its module, and what that needs, is imported when it begins.

    Pictures that come of it are shown as those of its workspace are.
    """
    folder = getattr(request, "workspace", "") or getattr(getattr(request, "subject", None), "workspace", "")
    if folder:
        show_as(read_display(Path(folder)))
    module, _, name = request.task.partition(".")
    task = getattr(importlib.import_module(f"{__name__}.{module}"), name)  # noqa: TID251  # of this room, seen file by file
    result: R = yield from task(request)
    return result
