"""System libraries that Qt needs and the registry's packages do not bring, and the Debian packages that hold them.

``./start`` and ``./check`` ask this module before Qt is loaded, and so does the command before it opens the window:
Qt itself ends the process without a word that helps. It uses the standard library only.
"""

from __future__ import annotations

import ctypes
import sys
from collections.abc import Callable, Iterable

ALWAYS = {
    "libGL.so.1": "libgl1",
    "libEGL.so.1": "libegl1",
    "libxkbcommon.so.0": "libxkbcommon0",
    "libdbus-1.so.3": "libdbus-1-3",
    "libfontconfig.so.1": "libfontconfig1",
    "libfreetype.so.6": "libfreetype6",
    "libglib-2.0.so.0": "libglib2.0-0",
    "libgthread-2.0.so.0": "libglib2.0-0",
    "libX11.so.6": "libx11-6",
    "libzstd.so.1": "libzstd1",
}
"""By file name, for every platform; names as Debian 12 and 13 know them."""

PLATFORMS: dict[str, dict[str, str]] = {
    "offscreen": {},
    "xcb": {
        "libxcb.so.1": "libxcb1",
        "libX11-xcb.so.1": "libx11-xcb1",
        "libxcb-cursor.so.0": "libxcb-cursor0",
        "libxcb-icccm.so.4": "libxcb-icccm4",
        "libxcb-image.so.0": "libxcb-image0",
        "libxcb-keysyms.so.1": "libxcb-keysyms1",
        "libxcb-randr.so.0": "libxcb-randr0",
        "libxcb-render.so.0": "libxcb-render0",
        "libxcb-render-util.so.0": "libxcb-render-util0",
        "libxcb-shape.so.0": "libxcb-shape0",
        "libxcb-shm.so.0": "libxcb-shm0",
        "libxcb-sync.so.1": "libxcb-sync1",
        "libxcb-util.so.1": "libxcb-util1",
        "libxcb-xfixes.so.0": "libxcb-xfixes0",
        "libxcb-xkb.so.1": "libxcb-xkb1",
        "libxkbcommon-x11.so.0": "libxkbcommon-x11-0",
    },
    "wayland": {
        "libwayland-client.so.0": "libwayland-client0",
        "libwayland-cursor.so.0": "libwayland-cursor0",
        "libwayland-egl.so.1": "libwayland-egl1",
    },
}
"""What each of Qt's platforms needs besides."""

BRINGS: dict[str, tuple[str, ...]] = {
    "libgl1": ("libx11-6", "libxcb1"),
    "libfontconfig1": ("libfreetype6",),
    "libxkbcommon-x11-0": ("libxkbcommon0", "libxcb-xkb1", "libxcb1"),
    "libxcb-cursor0": ("libxcb-image0", "libxcb-render-util0", "libxcb-render0", "libxcb-util1", "libxcb-shm0"),
    "libx11-xcb1": ("libx11-6",),
    "libwayland-cursor0": ("libwayland-client0",),
}
"""Packages that come with another by its own dependencies, and so are not asked for beside it."""


def _load(library: str) -> None:
    ctypes.CDLL(library)


def missing(platform: str, load: Callable[[str], None] = _load) -> list[str]:
    """File names of the libraries that Qt's platform needs and this machine does not have.

    Parameters
    ----------
    platform : str
        Qt's word, as «xcb»; of one not listed here only what all need is looked for.
    load : callable
        Loads a library by file name; raises OSError if it is not there.
    """
    lacking = []
    for library in ALWAYS | PLATFORMS.get(platform, {}):
        try:
            load(library)
        except OSError:
            lacking.append(library)
    return lacking


def packages(libraries: Iterable[str]) -> list[str]:
    """The Debian packages to ask for, without those that another of them brings."""
    known = {library: package for table in (ALWAYS, *PLATFORMS.values()) for library, package in table.items()}
    needed = {known[library] for library in libraries if library in known}
    brought = {package for library_name in needed for package in BRINGS.get(library_name, ())}
    return sorted(needed - brought)


def install_command(names: Iterable[str]) -> str:
    """What to type, as root, to install some packages."""
    return f"apt-get update && apt-get install --no-install-recommends {' '.join(names)}"


def platform_of(environment: dict[str, str]) -> str:
    """Qt's platform in this environment: the one named, Wayland where only that is there, else X."""
    named = environment.get("QT_QPA_PLATFORM", "").replace(";", ":").split(":")[0]
    if named:
        return "wayland" if named.startswith("wayland") else named
    return "wayland" if environment.get("WAYLAND_DISPLAY") and not environment.get("DISPLAY") else "xcb"


def main() -> None:
    """Print the packages that are missing for the platform named, one a line."""
    for package in packages(missing(sys.argv[1])):
        sys.stdout.write(package + "\n")


if __name__ == "__main__":
    main()
