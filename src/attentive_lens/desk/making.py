"""Making workspaces: from a folder of images, and the pollen station's demo."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path

from attentive_lens.demo.station import make
from attentive_lens.desk.cautions import small_classes
from attentive_lens.desk.front import Collection, collection
from attentive_lens.errors import BadFile, LensError
from attentive_lens.images.sources import SOURCES, kind_of, open_source
from attentive_lens.plan.plan import Plan
from attentive_lens.plan.progress import Job
from attentive_lens.plan.reading import Reading
from attentive_lens.workspace import Workspace
from attentive_lens.workspace.importing import Rescanned, create, rescan


@dataclass(frozen=True)
class Made:
    """A new workspace, what is in it, and what was noticed at once."""

    workspace: Workspace
    collection: Collection
    findings: list[str]


def make_workspace(folder: Path, source: Path, name: str = "", reading: Reading | None = None) -> Job[Made]:
    """A workspace from a folder of images, a table or a file of arrays; ``reading`` says how where it is not plain."""
    workspace = yield from create(folder, kind_of(source), open_source(source, reading), name)
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


def look_again(workspace: Workspace) -> Job[Rescanned]:
    """Look through the workspace's source again for new, changed and lost images.

    Raises
    ------
    BadFile
        If the source is not there any more, or was not noted when the workspace was made.
    """
    origin = workspace.catalogue.origins()[1]
    place = workspace.folder / origin.place
    if not origin.place or not place.exists():
        where = f"{place} is gone" if origin.place else "an early version that did not note it made the workspace"
        raise BadFile("The images' source could not be looked through", where, "Put it back, or import again")
    return (yield from rescan(workspace, SOURCES[origin.kind](place, Reading.read(origin.reading))))
