"""Putting all parts where desktops look for them, for one user or for all, and taking them off without a trace."""

from __future__ import annotations

import contextlib
import json
import shutil
import subprocess
from collections.abc import Iterable, Mapping
from pathlib import Path

from platformdirs import site_data_path, user_data_path

from attentive_lens.core.files import write_bytes, write_text
from attentive_lens.desktop.entry import PROGRAM
from attentive_lens.errors import BadFile, NotHere

RECORD = f"{PROGRAM}/desktop.json"
"""Where it is noted what was put there."""
TOOLS = {
    "applications": (("update-desktop-database", "-q"), "."),
    "mime": (("update-mime-database",), "packages"),
}
"""By folder: what reads its files anew, for which other programs' files it must be asked again at the end."""
SECONDS = 60


def shared_data(for_all: bool) -> Path:
    """The folder of shared data of this user, or of all users (XDG Base Directory Specification 0.8)."""
    return site_data_path() if for_all else user_data_path()


def placed(share: Path) -> tuple[str, ...]:
    """Places of what was put under this folder and is still there."""
    return tuple(place for place in _recorded(share)[0] if (share / place).exists())


def put(share: Path, parts: Mapping[str, bytes]) -> None:
    """Put parts under a folder of shared data; those of an earlier time go, unless they are put anew.

    Raises
    ------
    BadFile
        If the folder cannot be written, or what stands there is not ours.
    """
    files, folders, made = _recorded(share)
    for place in parts:
        if place not in files and (share / place).exists():
            why = f"«{share / place}» is there already, and was not put there by this program"
            raise BadFile("Nothing was put on the desktop", why, "Remove that file, or the package it belongs to")
    folders = list(dict.fromkeys([*folders, *_missing_folders(share, parts)]))
    before = {name: _inside(share / name) for name in TOOLS}
    try:
        _note(share, [*parts, *(place for place in files if place not in parts)], folders, made)
        for place in set(files) - set(parts):
            (share / place).unlink(missing_ok=True)
        for place, data in parts.items():
            (share / place).parent.mkdir(parents=True, exist_ok=True)
            write_bytes(share / place, data)
            (share / place).chmod(0o644)
    except OSError as error:
        remedy = "Choose another, or type the command as root" if isinstance(error, PermissionError) else "Try again"
        raise BadFile("Not all was put on the desktop", f"{error.filename}: {error.strerror}", remedy) from None
    for name in TOOLS:
        _read_anew(share, name)
        made = list(dict.fromkeys([*made, *sorted(_inside(share / name) - before[name] - set(parts))]))
    _note(share, list(parts), folders, [place for place in made if place not in parts])


def take_off(share: Path) -> tuple[str, ...]:
    """Remove all that was put there, what others made of it, and the folders that were made for it; returns the files.

    Raises
    ------
    NotHere
        If nothing was put there.
    BadFile
        If the folder cannot be written.
    """
    files, folders, made = _recorded(share)
    if not files:
        why = f"nothing of this program is noted under «{share}»"
        raise NotHere("There is nothing to remove", why, "Name the other place: with or without --for-all")
    try:
        for place in files:
            (share / place).unlink(missing_ok=True)
        for name, (_, others) in TOOLS.items():
            of_others = [each for each in (share / name / others).glob("*") if each.suffix in (".desktop", ".xml")]
            if of_others:
                _read_anew(share, name)
            else:
                for place in made:
                    if place.startswith(f"{name}/"):
                        (share / place).unlink(missing_ok=True)
        (share / RECORD).unlink(missing_ok=True)
    except OSError as error:
        raise BadFile(
            "Not all was removed", f"{error.filename}: {error.strerror}", "Type the command as root"
        ) from None
    made_for_them = {*folders, *(str(Path(place).parent) for place in made)}
    for folder in sorted(made_for_them, key=lambda name: -len(Path(name).parts)):
        with contextlib.suppress(OSError):  # others have put something there since
            (share / folder).rmdir()
    return tuple(files)


def _read_anew(share: Path, name: str) -> None:
    """Have a desktop's own tool read what stands in a folder; where there is none, desktops do without."""
    command, _ = TOOLS[name]
    if shutil.which(command[0]) and (share / name).is_dir():
        with contextlib.suppress(OSError, subprocess.TimeoutExpired):
            subprocess.run([*command, str(share / name)], capture_output=True, timeout=SECONDS, check=False)


def _missing_folders(share: Path, places: Iterable[str]) -> list[str]:
    """Folders under, and «.» for the folder itself, that will have to be made."""
    missing: list[str] = []
    for place in (*places, RECORD):
        for folder in Path(place).parents:
            if not (share / folder).is_dir() and str(folder) not in missing:
                missing.append(str(folder))
    return missing


def _inside(folder: Path) -> set[str]:
    """Files under a folder, as places under the folder of shared data."""
    return {str(file.relative_to(folder.parent)) for file in folder.rglob("*") if not file.is_dir()}


def _recorded(share: Path) -> tuple[list[str], list[str], list[str]]:
    """Files, folders and what others made of them; nothing where nothing is noted."""
    try:
        noted = json.loads((share / RECORD).read_text("utf-8"))
        files, folders, made = ([str(each) for each in noted[name]] for name in ("files", "folders", "made"))
    except (OSError, ValueError, KeyError, TypeError):
        return [], [], []
    return _under(files), _under(folders), _under(made)


def _under(places: Iterable[str]) -> list[str]:
    """Those that lie under the folder they are counted from."""
    return [place for place in places if not Path(place).is_absolute() and ".." not in Path(place).parts]


def _note(share: Path, files: Iterable[str], folders: Iterable[str], made: Iterable[str]) -> None:
    table = {"files": list(files), "folders": list(folders), "made": list(made)}
    (share / RECORD).parent.mkdir(parents=True, exist_ok=True)
    write_text(share / RECORD, json.dumps(table, indent=1))
