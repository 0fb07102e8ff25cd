"""The task that puts the program on a desktop, or takes it off."""

from __future__ import annotations

from attentive_lens.core.jobs import Job, Progress
from attentive_lens.desk.remembering import recent_workspaces
from attentive_lens.desk.requests.desktop import OnDesktop, PutOnDesktop
from attentive_lens.desktop.entry import started_by
from attentive_lens.desktop.parts import parts
from attentive_lens.desktop.placing import placed, put, shared_data, take_off
from attentive_lens.errors import BadUsage


def put_on_desktop(request: PutOnDesktop) -> Job[OnDesktop]:
    """See `PutOnDesktop`.

    Raises
    ------
    BadUsage
        If it is to be put there and removed at once, or the pictures' address is none of the web.
    BadFile, NotHere
        See `put` and `take_off`.
    """
    if request.install and request.remove:
        raise BadUsage("Nothing was done", "--install and --remove stand together", "Choose one")
    if request.pictures_at and not request.pictures_at.startswith(("https://", "http://")):
        why = f"«{request.pictures_at}» does not begin with https://"
        raise BadUsage("Nothing was done", why, "Give the address under which the pictures are on the web")
    share, command = shared_data(request.for_all), started_by()
    yield Progress(0, 1, "putting the program on the desktop")
    if request.remove:
        return OnDesktop("removed", str(share), take_off(share), " ".join(command))
    if request.install:
        workspaces = [] if request.for_all else recent_workspaces()
        put(share, parts(command, request.pictures_at, workspaces))
    return OnDesktop("installed" * request.install, str(share), placed(share), " ".join(command))
