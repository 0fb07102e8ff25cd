"""What all tests share: a screen that needs no display, a tiny pollen station, and a trained run on it."""

from __future__ import annotations

import os
import tempfile

os.environ["QT_QPA_PLATFORM"] = "offscreen"
os.environ["OPENBLAS_NUM_THREADS"] = "1"
_state = tempfile.TemporaryDirectory()
os.environ["XDG_STATE_HOME"] = _state.name
os.environ["XDG_DATA_HOME"] = f"{_state.name}/data"
# No notice of a test on anybody's desktop, and no sleep held off for one.
os.environ["DBUS_SESSION_BUS_ADDRESS"] = os.environ["DBUS_SYSTEM_BUS_ADDRESS"] = "disabled:"

import shutil
import threading
from collections.abc import Iterator
from pathlib import Path

import psutil
import pytest
from hypothesis import settings

from attentive_lens.core.jobs import finish
from attentive_lens.desk.making import make_demo
from attentive_lens.desk.network.usual import usual_plan
from attentive_lens.desk.training.executing import execute
from attentive_lens.plan.plan import Plan
from attentive_lens.workspace import Workspace
from tests.warm import WarmResident

settings.register_profile("house", deadline=None)
settings.load_profile("house")


SLOW_ROOMS = ("window", "cli", "house", "desk")
"""Folders whose files take long for few tests: they begin first, so that no core waits for the last of them."""


def pytest_collection_modifyitems(items: list[pytest.Item]) -> None:
    """Files of slow rooms first, otherwise in their order."""
    rooms = {name: place for place, name in enumerate(SLOW_ROOMS)}
    items.sort(key=lambda item: rooms.get(item.path.parent.name, len(rooms)))


@pytest.fixture(autouse=True)
def nothing_left_behind() -> Iterator[None]:
    """A test ends the threads and child processes it starts."""
    threads = set(threading.enumerate())
    children = set(psutil.Process().children())
    yield
    left = [t for t in threading.enumerate() if t not in threads and t.is_alive()]
    for thread in left:
        thread.join(2)
    assert not [t.name for t in left if t.is_alive()]
    started = [c for c in psutil.Process().children() if c not in children and c.pid not in WarmResident.processes]
    remaining = [c for c in started if c.status() != psutil.STATUS_ZOMBIE]
    for child in remaining:
        child.kill()
    assert not remaining


def small_plan() -> Plan:
    """A plan that trains in a few seconds."""
    return Plan().changed(
        {"network": "two blocks", "preprocessing.input_size": 32, "training.epochs": 2, "training.batch_size": 16}
    )


def trained_station(folder: Path, images: int) -> Path:
    """A pollen station of so many images with one trained run, in a folder of the one that is given."""
    workspace = finish(make_demo(folder / "pollen", images, 3)).workspace
    finish(execute(workspace, workspace.claim_run(small_plan()), lambda: False))
    return folder / "pollen"


@pytest.fixture(scope="session")
def station_once(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """Of 90 images."""
    return trained_station(tmp_path_factory.mktemp("station"), 90)


@pytest.fixture(scope="session")
def large_station_once(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """Of 420 images: enough are held out for something to be usual."""
    return trained_station(tmp_path_factory.mktemp("large"), 420)


@pytest.fixture
def station(station_once: Path, tmp_path: Path) -> Workspace:
    """A copy of its own for one test."""
    return Workspace.open(Path(shutil.copytree(station_once, tmp_path / "pollen")))


@pytest.fixture(scope="session")
def fields_once(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """Views with several grains, which may have several labels, with one trained run."""
    workspace = finish(make_demo(tmp_path_factory.mktemp("fields") / "fields", 150, 2, "fields")).workspace
    plan = usual_plan(workspace).changed(
        {"network": "two blocks", "preprocessing.input_size": 32, "training.epochs": 3, "training.batch_size": 16}
    )
    finish(execute(workspace, workspace.claim_run(plan), lambda: False))
    return workspace.folder


@pytest.fixture
def fields(fields_once: Path, tmp_path: Path) -> Workspace:
    """A copy of its own for one test."""
    return Workspace.open(Path(shutil.copytree(fields_once, tmp_path / "fields")))
