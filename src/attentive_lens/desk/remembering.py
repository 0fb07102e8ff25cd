"""What the window remembers between two openings: size, stage and run of each workspace, sources used before, theme."""

from __future__ import annotations

import contextlib
import json
from pathlib import Path

from platformdirs import user_state_dir

from attentive_lens.core.files import replacing
from attentive_lens.core.records import PlainTable
from attentive_lens.workspace import is_workspace

SETTINGS = "settings.json"
MOST = 50
"""Workspaces remembered; the one not opened for longest is forgotten."""


def recall(workspace: Path) -> PlainTable:
    """What was remembered, or nothing; a damaged memory is nothing."""
    remembered = _all().get(str(workspace.absolute()))
    return remembered if isinstance(remembered, dict) else {}


def remember(workspace: Path, values: PlainTable) -> None:
    """Keep values for the next opening; where the state folder cannot be written, nothing is kept."""
    everything = _all()
    everything.pop(str(workspace.absolute()), None)
    everything[str(workspace.absolute())] = values
    for oldest in list(everything)[:-MOST]:
        del everything[oldest]
    _write(_file(), everything)


def recent_workspaces() -> list[Path]:
    """Workspaces opened before that are still there, the latest first."""
    return [Path(name) for name in reversed(_all()) if is_workspace(Path(name))]


def remember_source(place: Path) -> None:
    """Keep a source of images for the list of those used before."""
    known = [str(place.absolute()), *(str(source) for source in recent_sources() if source != place.absolute())]
    _write(_file("sources.json"), {"sources": known[:MOST]})


def recent_sources() -> list[Path]:
    """Sources of images used before that are still there, the latest first."""
    names = _all("sources.json").get("sources")
    return [Path(name) for name in names if Path(name).exists()] if isinstance(names, list) else []


def remember_theme(name: str) -> None:
    """Keep the theme for the next opening."""
    remember_setting("theme", name)


def remember_setting(name: str, value: str | int) -> None:
    """Keep one thing that holds for all workspaces."""
    _write(_file(SETTINGS), {**_all(SETTINGS), name: value})


def remembered_number(name: str) -> int:
    """A number kept by `remember_setting`; 0 if none was."""
    value = _all(SETTINGS).get(name)
    return value if isinstance(value, int) else 0


def remembered_theme() -> str:
    """The theme chosen last; empty if none was."""
    name = _all(SETTINGS).get("theme")
    return name if isinstance(name, str) else ""


def state_folder() -> Path:
    """Where what is remembered is kept."""
    return Path(user_state_dir("attentive-lens"))


def _write(file: Path, table: PlainTable) -> None:
    with contextlib.suppress(OSError):
        file.parent.mkdir(parents=True, exist_ok=True)
        with replacing(file) as part:
            part.write_text(json.dumps(table, indent=1), "utf-8")


def _file(name: str = "windows.json") -> Path:
    return state_folder() / name


def _all(name: str = "windows.json") -> PlainTable:
    try:
        table = json.loads(_file(name).read_text("utf-8"))
    except (OSError, ValueError):
        return {}
    return table if isinstance(table, dict) else {}
