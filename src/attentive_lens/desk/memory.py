"""What the window remembers of a workspace between two openings: size, stage, run in view."""

from __future__ import annotations

import contextlib
import json
import os
from pathlib import Path
from typing import Any

from platformdirs import user_state_dir

MOST = 50
"""Workspaces remembered; the one not opened for longest is forgotten."""


def recall(workspace: Path) -> dict[str, Any]:
    """What was remembered, or nothing; a damaged memory is nothing."""
    found = _all().get(str(workspace.absolute()))
    return found if isinstance(found, dict) else {}


def remember(workspace: Path, values: dict[str, Any]) -> None:
    """Keep values for the next opening; where the state folder cannot be written, nothing is kept."""
    everything = _all()
    everything.pop(str(workspace.absolute()), None)
    everything[str(workspace.absolute())] = values
    for oldest in list(everything)[:-MOST]:
        del everything[oldest]
    file = _file()
    with contextlib.suppress(OSError):
        file.parent.mkdir(parents=True, exist_ok=True)
        own = file.with_name(f".{file.name}.{os.getpid()}")
        own.write_text(json.dumps(everything, indent=1), "utf-8")
        own.replace(file)


def _file() -> Path:
    return Path(user_state_dir("attentive-lens")) / "windows.json"


def _all() -> dict[str, Any]:
    try:
        table = json.loads(_file().read_text("utf-8"))
    except (OSError, ValueError):
        return {}
    return table if isinstance(table, dict) else {}
