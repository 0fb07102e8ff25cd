"""Runs that wait for their turn: whoever ends a run starts the next one, so that no window is needed for it."""

from __future__ import annotations

import contextlib
import fcntl
import os
from collections.abc import Iterator

from attentive_lens.desk.training.runs import start_claimed
from attentive_lens.errors import BadFile, BadValue
from attentive_lens.plan.plan import Plan
from attentive_lens.workspace import Run, Workspace


def enqueue(workspace: Workspace, plan: Plan) -> Run:
    """Claim a run that waits until those before it have ended; if none trains, the first that waits begins.

    Raises
    ------
    BadFile
        If the workspace cannot be written.
    """
    run = workspace.claim_run(plan)
    run.wait()
    start_next(workspace)
    return run


def waiting(workspace: Workspace) -> tuple[Run, ...]:
    """Runs that wait, in the order in which they will begin."""
    return tuple(run for run in workspace.runs() if run.is_waiting())


def start_next(workspace: Workspace) -> Run | None:
    """Start the first run that waits, in a process of its own; None if one trains already, or none waits.

    A run that cannot be started stays in the queue; the others after it wait with it.
    """
    if not workspace.writable:
        return None
    with _alone(workspace) as mine:
        if not mine or any(run.is_training() for run in workspace.runs()):
            return None
        for run in waiting(workspace):
            start_claimed(workspace, run)
            run.begin()
            return run
    return None


def take_from_queue(workspace: Workspace, number: int) -> None:
    """Take a run that waits out of the queue, and its folder away.

    Raises
    ------
    BadValue
        If it does not wait.
    """
    with _alone(workspace):
        run = workspace.run(number)
        if not run.is_waiting():
            raise BadValue(f"Run {number} stays", "it does not wait in the queue", "Stop it, or delete it")
        workspace.delete_run(number)


@contextlib.contextmanager
def _alone(workspace: Workspace) -> Iterator[bool]:
    """Whether this process alone may change the queue now; another one that does will start what waits."""
    try:
        file = os.open(workspace.folder / "runs" / "queue.lock", os.O_RDWR | os.O_CREAT | os.O_CLOEXEC, 0o644)
    except OSError as error:
        if not (workspace.folder / "runs").exists():
            yield False
            return
        raise BadFile("The queue cannot be used", str(error.strerror).lower(), "Check the workspace") from None
    try:
        fcntl.flock(file, fcntl.LOCK_EX)
        yield True
    finally:
        os.close(file)
