"""What this installation is, for a report of a fault: versions, machine, folders, and the traces of faults."""

from __future__ import annotations

import os
import platform
import re
from collections.abc import Iterator
from dataclasses import dataclass
from importlib.metadata import PackageNotFoundError, version
from pathlib import Path

import psutil
from platformdirs import user_cache_dir, user_config_dir, user_state_dir

from attentive_lens.core.telling import Rows
from attentive_lens.core.version import VERSION

PACKAGES = (
    *("numpy", "scipy", "numba", "pillow", "tifffile", "imagecodecs", "onnx", "safetensors"),
    *("PyQt6", "PyQt6-Qt6", "pyqtgraph", "matplotlib", "mpi4py", "distributed", "pyarrow"),
)
"""Whose versions matter."""
OF_PYTHON = re.compile(r'^(\s*)File "(?P<file>[^"]*)", (?P<rest>line \d+,? in .*)$')
OF_FAULT = re.compile(r"^(?P<kind>[A-Za-z_][\w.]*(?:Error|Exception|Warning|Interrupt|Exit|Stopped))(?::.*)?$")
OURS = ("Traceback (most recent", "Fatal Python error", "The above exception", "During handling", "Current thread")
"""Lines of a trace that hold nothing of anybody's."""


@dataclass(frozen=True)
class About:
    """An installation.

    Attributes
    ----------
    version, python, system, processor : str
        Of the program, of Python, and what they run on.
    cores : int
        That programs can use.
    memory : int
        Bytes of the machine.
    packages : dict
        Versions of what it stands on, by name; of those that are there.
    display : str
        Qt's word for where windows are shown.
    missing_libraries : tuple of str
        System libraries that Qt needs there and that are lacking.
    folders : dict
        Where it keeps what; the home folder is «~».
    """

    version: str
    python: str
    system: str
    processor: str
    cores: int
    memory: int
    packages: dict[str, str]
    display: str
    missing_libraries: tuple[str, ...]
    folders: dict[str, str]

    def words(self) -> Iterator[str | Rows]:
        """A line each."""
        rows = [
            ("Attentive Lens", self.version),
            ("Python", self.python),
            ("system", self.system),
            ("processor", f"{self.processor}, {self.cores} cores"),
            ("memory", f"{self.memory / 2**30:.1f} GiB"),
            ("display", self.display),
            ("lacking", ", ".join(self.missing_libraries) or "no library that Qt needs"),
            *self.packages.items(),
            *self.folders.items(),
        ]
        yield Rows(("what", "which"), tuple(rows))


def about(display: str, missing_libraries: tuple[str, ...] = ()) -> About:
    """The installation that runs."""
    versions = {}
    for name in PACKAGES:
        try:
            versions[name] = version(name)
        except PackageNotFoundError:
            continue
    return About(
        VERSION,
        platform.python_version(),
        platform.platform(),
        _processor(),
        len(os.sched_getaffinity(0)),
        psutil.virtual_memory().total,
        versions,
        display,
        missing_libraries,
        {
            "settings": without_home(user_config_dir("attentive-lens")),
            "state": without_home(user_state_dir("attentive-lens")),
            "cache": without_home(user_cache_dir("attentive-lens")),
            "program": without_home(str(Path(__file__).parents[1])),
        },
    )


def without_home(place: str) -> str:
    """A path in which nobody's name stands."""
    home = str(Path.home())
    return "~" + place[len(home) :] if place == home or place.startswith(home + os.sep) else place


def clean_trace(text: str) -> str:
    """A trace with what is the program's alone: where it was, and the kind of fault.

    What a fault says may name somebody's files, and so may paths: both are left out.
    """
    lines = []
    for line in text.splitlines():
        if of_python := OF_PYTHON.match(line):
            lines.append(f"  {_of_package(of_python['file'])}, {of_python['rest']}")
        elif of_fault := OF_FAULT.match(line):
            lines.append(of_fault["kind"])
        elif line.startswith(OURS):
            lines.append(line)
    return "\n".join(lines)


def _of_package(file: str) -> str:
    """A file of a program without where that is installed; of anybody else only that there is one."""
    for mark in (
        "/site-packages/",
        "/src/attentive_lens/",
        "/attentive_lens/",
        f"/python{platform.python_version()[:4]}/",
    ):
        _, is_there, rest = file.rpartition(mark)
        if is_there:
            return f"attentive_lens/{rest}" if "attentive_lens" in mark else rest
    return "<frozen>" if file.startswith("<frozen") else "…"


def _processor() -> str:
    """Its maker's name for it."""
    try:
        lines = Path("/proc/cpuinfo").read_text("utf-8", "replace").splitlines()
    except OSError:
        lines = []
    return next((line.partition(":")[2].strip() for line in lines if line.startswith("model name")), platform.machine())
