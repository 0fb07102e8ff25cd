"""Short work, as jobs: what the resident worker does for the window, and the command line and Python do for themselves.

Each task is one function and one line in `table.TASKS`; it takes a request and gives the result that the request names.
"""

from __future__ import annotations

from typing import Any, TypeVar

from attentive_lens.core.jobs import Job
from attentive_lens.desk.requests import table as ask

R = TypeVar("R")


def carry_out(request: ask.Request[R]) -> Job[R]:
    """The job that answers a request; what it needs is imported when it begins."""
    if isinstance(request, ask.Prepare):  # what a window waits for first; the others take a second to import
        from attentive_lens.desk.tasks.images import prepare

        job: Job[Any] = prepare(request)
    else:
        from attentive_lens.desk.tasks.table import TASKS

        job = TASKS[type(request)](request)
    result: R = yield from job
    return result
