"""What Qt lacks is named before Qt ends the process, and by packages that exist."""

from __future__ import annotations

import re
import shutil
import subprocess
import sys
from pathlib import Path

import PyQt6
import pytest

from attentive_lens.cli.libraries import ALWAYS, BRINGS, PLATFORMS, install_command, missing, packages, platform_of

ROOT = Path(__file__).parents[2]
QT = Path(PyQt6.__file__).parent / "Qt6"


def needed(file: Path) -> dict[str, str]:
    """Libraries a file asks for, and where each was found."""
    result = subprocess.run(["ldd", str(file)], capture_output=True, text=True, check=True).stdout
    return dict(re.findall(r"^\s*(\S+) => (.*?)(?: \(0x[0-9a-f]+\))?$", result, re.MULTILINE))


@pytest.mark.parametrize(("platform", "plugin"), [("offscreen", "libqoffscreen.so"), ("xcb", "libqxcb.so")])
def test_the_table_names_all_that_qt_asks_for_directly(platform: str, plugin: str) -> None:
    if shutil.which("readelf") is None:
        pytest.skip("readelf is not there")
    waiting, seen = [QT / "plugins" / "platforms" / plugin, QT / "lib" / "libQt6Widgets.so.6"], set()
    while waiting:
        file = waiting.pop()
        read = subprocess.run(["readelf", "-d", str(file)], capture_output=True, text=True, check=True).stdout
        for name in set(re.findall(r"NEEDED.*\[(.*?)\]", read)) - seen:
            seen.add(name)
            if (QT / "lib" / name).exists():
                waiting.append(QT / "lib" / name)
    own = {name for name in seen if name.startswith(("libQt6", "libicu"))}
    system = ("libc.", "libm.", "libdl.", "libpthread.", "librt.", "libgcc_s.", "libstdc++.", "ld-linux", "libz.")
    always_there = {name for name in seen if name.startswith(system)}
    assert seen - own - always_there == (ALWAYS | PLATFORMS[platform]).keys()


def test_everything_that_was_kept_of_qt_finds_its_parts() -> None:
    files = [*(QT / "plugins").rglob("*.so"), *(QT / "lib").glob("libQt6*.so.6")]
    assert len(files) > 20
    lost = {(f.name, name) for f in files for name, at in needed(f).items() if at == "not found" and "Qt6" in name}
    assert lost == set()


def test_a_machine_without_any_is_told_few_packages_that_bring_all() -> None:
    def nothing(_: str) -> None:
        raise OSError

    lacking = missing("xcb", nothing)
    assert set(lacking) == (ALWAYS | PLATFORMS["xcb"]).keys()
    request = packages(lacking)
    known = {package for table in (ALWAYS, *PLATFORMS.values()) for package in table.values()}
    brought = {package for own in request for package in BRINGS.get(own, ())}
    assert set(request) <= known
    assert {ALWAYS.get(name) or PLATFORMS["xcb"][name] for name in lacking} <= set(request) | brought
    assert not set(request) & brought
    assert install_command(request).startswith("apt-get update && apt-get install")


def test_a_single_missing_library_is_asked_for_by_its_own_package() -> None:
    assert packages(["libxcb-util.so.1"]) == ["libxcb-util1"]
    assert packages(["libxcb-sync.so.1", "libxcb-xkb.so.1"]) == ["libxcb-sync1", "libxcb-xkb1"]
    assert packages(["libxcb-cursor.so.0", "libxcb-util.so.1"]) == ["libxcb-cursor0"]


def test_the_platform_is_qt_s_own_choice() -> None:
    assert platform_of({"DISPLAY": ":0", "WAYLAND_DISPLAY": "w"}) == "xcb"
    assert platform_of({"WAYLAND_DISPLAY": "w"}) == "wayland"
    assert platform_of({"QT_QPA_PLATFORM": "offscreen:configfile=x", "DISPLAY": ":0"}) == "offscreen"
    assert platform_of({"QT_QPA_PLATFORM": "wayland-egl;xcb"}) == "wayland"


def opened(code: str, **environment: str) -> subprocess.CompletedProcess[str]:
    words = "import sys; sys.argv = ['attentive-lens']\nimport attentive_lens.__main__ as m\n"
    return subprocess.run(
        [sys.executable, "-c", f"{words}{code}\nsys.exit(m.main())"],
        capture_output=True,
        text=True,
        timeout=60,
        env={"PATH": "/usr/bin:/bin", "HOME": "/nonexistent", **environment},
    )


def test_without_qt_s_libraries_the_command_says_what_to_install() -> None:
    done = opened("m.libraries.missing = lambda _: ['libxcb-cursor.so.0']", DISPLAY=":0")
    assert done.returncode == 1
    assert done.stdout == ""
    assert len(done.stderr.splitlines()) == 1
    assert "libxcb-cursor.so.0" in done.stderr
    assert "apt-get update && apt-get install --no-install-recommends libxcb-cursor0" in done.stderr


def test_a_binding_that_cannot_be_loaded_is_one_sentence_too() -> None:
    done = opened("sys.modules['PyQt6.QtWidgets'] = None", QT_QPA_PLATFORM="offscreen")
    assert done.returncode == 1
    assert len(done.stderr.splitlines()) == 1
    assert "PyQt6 could not be loaded" in done.stderr


def test_without_a_display_the_commands_are_named() -> None:
    done = opened("")
    assert done.returncode == 1
    assert "there is no display" in done.stderr
    assert "--help" in done.stderr


def test_the_environment_is_said_to_be_as_large_as_it_is() -> None:
    result = int(re.findall(r"requirements-check.lock\" (\d+)", (ROOT / "check").read_text("utf-8"))[0])
    place = Path(sys.prefix)
    if place != ROOT / ".venv":
        pytest.skip("not run from the project's own environment")
    size = sum(f.stat().st_size for f in place.rglob("*") if f.is_file() and not f.is_symlink()) / 2**20
    assert 0.6 * result < size < 1.1 * result
