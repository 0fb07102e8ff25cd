"""Making workspaces: from a folder of images, and the pollen station's demo."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path

from attentive_lens.demo.station import make
from attentive_lens.desk.front import Collection, collection, small_classes
from attentive_lens.errors import LensError
from attentive_lens.images.decoding import decode
from attentive_lens.images.sources import open_source
from attentive_lens.plan.plan import Plan
from attentive_lens.plan.progress import Job
from attentive_lens.workspace import Workspace
from attentive_lens.workspace.importing import create


@dataclass(frozen=True)
class Made:
    """A new workspace, what is in it, and what was noticed at once."""

    workspace: Workspace
    collection: Collection
    findings: list[str]


def make_workspace(folder: Path, source: Path, name: str = "") -> Job[Made]:
    """A workspace from a folder of images."""
    workspace = yield from create(folder, open_source(source), _look, name)
    found = collection(workspace, Plan())
    return Made(workspace, found, small_classes(found))


def make_demo(folder: Path, images: int, seed: int) -> Job[Made]:
    """The pollen station: its images, their answer key, and a workspace on them; opened if it is there already."""
    try:
        workspace = Workspace.open(folder)
    except LensError:
        place = yield from make(folder, images, seed)
        return (yield from make_workspace(folder, place, "pollen station"))
    found = collection(workspace, Plan())
    return Made(workspace, found, small_classes(found))


def _look(file: Path) -> tuple[int, int, str]:
    picture = decode(file)
    height, width = picture.pixels.shape[:2]
    return width, height, picture.mode
