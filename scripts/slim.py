"""Remove from the environment what the program never uses: a third of it.

Qt comes whole, with a browser's worth of modules; others come with their own tests. Run by the
environment's interpreter, once after its packages were installed.
"""

from __future__ import annotations

import shutil
import site
import sys
from pathlib import Path

QT_MODULES = frozenset(
    {
        *("Core", "Gui", "Widgets", "DBus", "Network", "OpenGL", "OpenGLWidgets", "Svg", "Test", "PrintSupport"),
        *("XcbQpa", "WaylandClient", "WaylandEglClientHwIntegration", "WlShellIntegration"),
    }
)
"""Modules of Qt that stay: what the window and its tests import, and what Qt's own plug-ins stand on."""
QT_PLUGINS = frozenset(
    {
        *("platforms", "platforminputcontexts", "platformthemes", "imageformats", "iconengines", "xcbglintegrations"),
        *("wayland-decoration-client", "wayland-graphics-integration-client", "wayland-shell-integration"),
    }
)
UNUSED_PLUGINS = ("platforms/libqeglfs.so", "imageformats/libqpdf.so")
"""In the folders that stay, but standing on modules that do not."""
QT_LIBRARIES = ("libicu",)
"""Beginnings of the names of other libraries in Qt's folder that stay."""
KEPT_FOLDERS = ("lib", "plugins")
WITH_TESTS = ("numpy", "scipy", "numba", "matplotlib")


def unused(packages: Path) -> list[Path]:
    """Files and folders that can go."""
    qt = packages / "PyQt6" / "Qt6"
    result = [folder for folder in qt.iterdir() if folder.name not in KEPT_FOLDERS]
    result += [plugin for plugin in (qt / "plugins").iterdir() if plugin.name not in QT_PLUGINS]
    result += [qt / "plugins" / name for name in UNUSED_PLUGINS]
    for library in (qt / "lib").iterdir():
        module = library.name.removeprefix("libQt6").split(".")[0]
        if module not in QT_MODULES and not library.name.startswith(QT_LIBRARIES):
            result.append(library)
    for binding in (packages / "PyQt6").glob("Qt*"):
        module = binding.name.removeprefix("Qt").split(".")[0]
        if binding.suffix in (".so", ".pyi") and module not in QT_MODULES:
            result.append(binding)
    for name in WITH_TESTS:
        result += [folder for folder in (packages / name).rglob("tests") if folder.is_dir()]
    return result


def main() -> None:
    packages = Path(site.getsitepackages()[0])
    if not packages.is_relative_to(sys.prefix) or sys.prefix == sys.base_prefix:
        sys.exit("This is no environment of its own: nothing is removed.")
    for place in unused(packages):
        if place.is_dir():
            shutil.rmtree(place, ignore_errors=True)
        else:
            place.unlink(missing_ok=True)


if __name__ == "__main__":
    main()
