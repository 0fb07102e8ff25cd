"""A workspace, from Python."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from pathlib import Path

import numpy as np
from numpy.typing import NDArray

from attentive_lens.core.jobs import Progress, finish
from attentive_lens.desk.making import make_workspace
from attentive_lens.desk.network.bases import with_base
from attentive_lens.desk.network.usual import usual_plan
from attentive_lens.desk.requests.outlines import OutlinesKnown, TakeOutlines
from attentive_lens.desk.requests.rehearsing import Rehearse, Rehearsed
from attentive_lens.desk.requests.shelf import ListShelf, PutOnShelf, ShelfModel
from attentive_lens.desk.results.exporting import write_archive
from attentive_lens.desk.script.notebook import workspace_table
from attentive_lens.desk.script.runs import Run, ask
from attentive_lens.desk.training.executing import execute
from attentive_lens.desk.training.runs import RunReader
from attentive_lens.errors import BadValue
from attentive_lens.plan.base import Base
from attentive_lens.plan.plan import Plan
from attentive_lens.workspace import Workspace as WorkspaceFolder


class Workspace:
    """A folder that holds one piece of work: images' catalogue, plans, runs."""

    def __init__(self, folder: WorkspaceFolder) -> None:
        self._folder = folder
        self.name = folder.name
        self.folder = folder.folder

    def __repr__(self) -> str:
        images, runs = len(self._folder.catalogue.images()), len(self.runs())
        return f"<Workspace «{self.name}»: {images} images of {len(self.classes)} classes, {runs} runs>"

    def _repr_html_(self) -> str:
        """For a notebook: its runs, a line each."""
        return workspace_table(self.name, [RunReader(run).view() for run in self._folder.runs()])

    @property
    def classes(self) -> tuple[str, ...]:
        """Names by class number."""
        return tuple(self._folder.catalogue.classes())

    def files(self) -> list[Path]:
        """The image files, by number from 1."""
        return [self._folder.path_of(row) for row in self._folder.catalogue.images()]

    def take_outlines(self, place: str | Path, alone: bool = False) -> OutlinesKnown:
        """Take in where objects are, from mask pictures, a table or JSON; ``alone``: instead of all taken before."""
        return ask(TakeOutlines(str(self.folder), str(place), alone))

    def runs(self) -> list[Run]:
        """All runs, by number."""
        return [Run(self._folder, run) for run in self._folder.runs()]

    def run(self, number: int) -> Run:
        """One run; `NotHere` with the numbers there are."""
        return Run(self._folder, self._folder.run(number))

    def plan(self, base: str = "", **settings: object) -> Plan:
        """The plan a new run would begin with, with other settings.

        Parameters
        ----------
        base : str
            A model to build on: ``"shelf:NAME"`` or a model file. Its network and preprocessing are taken over, frozen
            up to its last layer with rows and columns.
        **settings : any
            By the keys of `attentive-lens plan keys`, with two underscores for a dot: ``training__epochs=5``,
            ``network="residual"``.

        Raises
        ------
        LensError
            If a setting or the base does not fit.
        """
        given = {key.replace("__", "."): value for key, value in settings.items()}
        of_base = {key: given.pop(key) for key in list(given) if key.startswith("base.")}
        plan = usual_plan(self._folder).changed(given)
        if base:
            plan = with_base(self._folder, plan, Base(model=base, take_preprocessing=True))
        return plan.changed(of_base) if of_base else plan

    def rehearse(self, plan: Plan) -> Rehearsed:
        """Let a plan run through on a few images; see `desk.requests.rehearsing.Rehearse`."""
        return ask(Rehearse(str(self.folder), plan.write()))

    def train(self, plan: Plan, on_progress: Callable[[Progress], None] | None = None) -> Run:
        """Train a plan here and now, to its end; the run is kept like any other.

        Parameters
        ----------
        plan : Plan
            Such as `plan` gives.
        on_progress : callable, optional
            Gets how far it is after every step.

        Raises
        ------
        LensError
            If the images, the plan or the numbers do not allow it.
        """
        claimed = self._folder.claim_run(plan)
        for progress in execute(self._folder, claimed, lambda: False):
            if on_progress is not None:
                on_progress(progress)
        return self.run(claimed.number)

    def shelf(self) -> dict[str, ShelfModel]:
        """The models on its Shelf, by name."""
        return {model.name: model for model in ask(ListShelf(str(self.folder))).models}

    def put_on_shelf(self, model: Run | str | Path, name: str = "", note: str = "") -> str:
        """Put a run's best model, or a model file, on the Shelf; its name there."""
        what = str(model.number) if isinstance(model, Run) else str(model)
        return ask(PutOnShelf(str(self.folder), what, name, note)).name


def open_workspace(folder: str | Path) -> Workspace:
    """Open a workspace; `NotHere` if the folder is none."""
    return Workspace(WorkspaceFolder.open(Path(folder)))


def new_workspace(
    folder: str | Path,
    source: str | Path | None = None,
    images: NDArray[np.generic] | None = None,
    labels: Sequence[object] | None = None,
) -> Workspace:
    """Make a workspace: from a folder, a table or a file of arrays, or from arrays.

    Parameters
    ----------
    folder : path
        Where it is made; not there yet.
    source : path, optional
        As `attentive-lens new` takes it.
    images : ndarray, N×H×W or N×H×W×C, optional
        In place of a source: uint8, or floating point in 0–1. They are written to a file beside the folder.
    labels : sequence, optional
        Of the images: the class of each, as text or whole number.

    Raises
    ------
    LensError
        If there is no image, or no label for each, or the folder is there already.
    """
    place = Path(folder)
    if (source is None) == (images is None):
        raise BadValue("No workspace was made", "it takes a source, or images with labels", "Give one of the two")
    if source is not None:
        return Workspace(finish(make_workspace(place, Path(source))).workspace)
    pixels = np.asarray(images)
    if labels is None or len(labels) != len(pixels):
        why = f"there are {len(pixels)} images and {len(labels) if labels is not None else 'no'} labels"
        raise BadValue("No workspace was made", why, "Give one for each")
    if place.exists():
        raise BadValue(f"{place} was not made", "there is one already", "Name another folder, or open it")
    file = place.with_name(f"{place.name}-images.npz")
    write_archive({"images": pixels, "labels": np.asarray([str(label) for label in labels])}, file)
    return Workspace(finish(make_workspace(place, file)).workspace)
