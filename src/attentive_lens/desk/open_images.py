"""The images of an open workspace: their rows, their pixels, their measures, and the decisions about them."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import replace
from pathlib import Path

import numpy as np
from numpy.typing import NDArray

from attentive_lens.desk.browsing import pixels_of
from attentive_lens.desk.collection import Collection, Library
from attentive_lens.desk.curating import Curating, act, relabel
from attentive_lens.desk.observing import Asks, Signal
from attentive_lens.desk.requests.images import FaultAction, Measure, Measures, Prepare, Prepared
from attentive_lens.desk.together import keep_together
from attentive_lens.errors import LensError
from attentive_lens.images.rows import Pixels, stretched
from attentive_lens.plan.plan import Plan
from attentive_lens.workspace import Correction, Workspace
from attentive_lens.workspace.adding import add_images


class OpenImages:
    """What is known of the images, and how people's decisions change it.

    Parameters
    ----------
    workspace : Workspace
        Whose images.
    plan : callable
        The plan they are split by, as it is now.
    asks : Asks
        Has the pixels made, or found.

    Attributes
    ----------
    changed : Signal
        A label, set or flag was decided or undone, or the split is another.
    repainted : Signal
        Images, by their numbers, have other pixels, as a rescan noted: what is known of their pixels is void.
    pixels_ready, measures_ready : Signal
        The contact sheet's images are there; their brightness, contrast and sharpness.
    said : Signal
        A sentence, and whether it is bad news.
    """

    def __init__(self, workspace: Workspace, plan: Callable[[], Plan], asks: Asks) -> None:
        self.workspace, self._plan, self._asks = workspace, plan, asks
        self.changed, self.pixels_ready, self.measures_ready, self.said = Signal(), Signal(), Signal(), Signal()
        self.repainted = Signal()
        self.library = Library.read(workspace)
        self.curating = Curating(workspace)
        self.collection: Collection = self.library.collection(self.curating.state, plan())
        self.pixels: Pixels | None = None
        self.measures: dict[str, NDArray[np.float32]] = {"pixels": pixels_of(self.collection)}

    def want_pixels(self) -> None:
        """Have the contact sheet's images made or found; `pixels_ready` follows, then `measures_ready`."""
        place = str(self.workspace.folder.absolute())
        self._asks.ask(Prepare(place), self._take_pixels, priority=1, scope="prepare")
        self._asks.ask(Measure(place), self._take_measures, priority=7, scope="measure")

    def _take_pixels(self, prepared: Prepared) -> None:
        self.pixels = stretched(prepared.opened(), len(self.collection.rows))
        self.pixels_ready.emit()

    def _take_measures(self, measured: Measures) -> None:
        by_name = {"brightness": measured.brightness, "contrast": measured.contrast, "sharpness": measured.sharpness}
        self.measures = {"pixels": pixels_of(self.collection), **by_name}
        self.split()
        self.measures_ready.emit()

    def decide(self, summary: str, numbers: Sequence[int], change: Callable[[Correction], Correction]) -> None:
        """Decide the same about some images; it can be undone."""
        self._try(summary, lambda: self.curating.change(summary, numbers, change))

    def relabel(self, summary: str, numbers: Sequence[int], label: int) -> None:
        """Give some images another class; it can be undone."""
        self._try(summary, lambda: relabel(self.curating, summary, self.library.rows, numbers, label))

    def act(self, action: FaultAction) -> None:
        """Do what a fault's action says about images."""
        self._try(action.word, lambda: act(self.curating, action))

    def _try(self, summary: str, decision: Callable[[], None]) -> None:
        try:
            decision()
        except LensError as error:
            self.said.emit(str(error), True)
            return
        self.collect()
        self.said.emit(f"Done: {summary}.", False)

    def undo(self) -> None:
        """Take the last decision back."""
        self._step(self.curating.undo, "Taken back: {}.", "There is nothing to undo.")

    def redo(self) -> None:
        """Make the decision taken back again."""
        self._step(self.curating.redo, "Done again: {}.", "There is nothing to do again.")

    def _step(self, step: Callable[[], str], summary: str, nothing: str) -> None:
        try:
            word = step()
        except LensError as error:
            self.said.emit(str(error), True)
            return
        if word:
            self.collect()
        self.said.emit(summary.format(word) if word else nothing, False)

    def collect(self) -> None:
        """Put the rows together again, from decisions and split as they are now."""
        self.split()
        self.changed.emit()

    def split(self) -> None:
        """As `collect`, telling nobody; pixels and measures of images that are new are grey and unknown at first."""
        self.collection = self.library.collection(self.curating.state, self._plan())
        count = len(self.collection.rows)
        if self.pixels is not None:
            self.pixels = stretched(self.pixels, count)
        if any(len(values) < count for values in self.measures.values()):
            unknown = {
                name: np.append(values, np.full(count - len(values), np.nan, np.float32))
                for name, values in self.measures.items()
            }
            self.measures = {**unknown, "pixels": pixels_of(self.collection)}

    def keep_together(self, groups: Sequence[Sequence[int]]) -> None:
        """Have the split keep groups of images in one set, and say what that moves."""
        try:
            words = keep_together(self.workspace, self._plan(), groups)
        except LensError as error:
            self.said.emit(str(error), True)
            return
        self.said.emit(f"{words}.", False)
        self.library = replace(self.library, copies=self.workspace.catalogue.copies())
        self.collect()

    def add(self, files: Sequence[Path], label: str) -> list[int]:
        """Copy image files into the workspace as images of a class; their numbers, none if it could not be done."""
        try:
            numbers = add_images(self.workspace, files, label)
        except LensError as error:
            self.said.emit(str(error), True)
            return []
        self.reread()
        self.want_pixels()
        which = f"image {numbers[0]}" if len(numbers) == 1 else f"images {numbers[0]} to {numbers[-1]}"
        self.said.emit(f"Added as {label}: {which}. The next run knows them.", False)
        return numbers

    def reread(self) -> None:
        """Read the catalogue again: another process changed it."""
        before = self.library.rows
        self.library = Library.read(self.workspace)
        self.curating = Curating(self.workspace)
        self.collect()
        pairs = zip(before, self.library.rows, strict=False)
        others = [now.number for then, now in pairs if then.digest and then.digest != now.digest]
        if others:
            self.repainted.emit(others)
            which = f"image {others[0]} has" if len(others) == 1 else f"{len(others)} images have"
            void = "scores, maps, neighbours and faults that were found with the old ones are void"
            self.said.emit(f"{which[0].upper()}{which[1:]} other contents now: {void}.", False)
