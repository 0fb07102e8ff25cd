"""The images of an open workspace: their rows, their pixels, their measures, and the decisions about them."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from pathlib import Path

import numpy as np
from numpy.typing import NDArray

from attentive_lens.core.numbering import place_of
from attentive_lens.desk.history import Step, Timeline
from attentive_lens.desk.images.browsing import pixels_of
from attentive_lens.desk.images.collection import Collection, Library
from attentive_lens.desk.images.curating import Curating, act, relabel, relabel_as_new, relabel_each, replace_label
from attentive_lens.desk.images.data import pixel_format_of
from attentive_lens.desk.images.together import keep_together
from attentive_lens.desk.observing import Asks, Signal
from attentive_lens.desk.requests.images import FaultAction, Measure, Measures, Prepare, Prepared
from attentive_lens.errors import LensError
from attentive_lens.images.outlines import Outline
from attentive_lens.images.rows import Pixels, stretched
from attentive_lens.images.sources.base import class_name
from attentive_lens.plan.labels import label_set, labels_in
from attentive_lens.plan.plan import Plan
from attentive_lens.workspace import Correction, Corrections, Workspace
from attentive_lens.workspace.adding import add_images, take_out_images
from attentive_lens.workspace.corrections import NOTHING


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
    timeline : Timeline, optional
        Where every decision stands.

    Attributes
    ----------
    changed : Signal
        A label, set or flag was decided or undone, or the split is another.
    repainted : Signal
        Images, by their numbers, have other pixels, as a rescan noted: what is known of their pixels is void.
    outlined : Signal
        Where the object is in some images, by their numbers, is known otherwise: what was found with it is void.
    pixels_ready, measures_ready : Signal
        The contact sheet's images are there; their brightness, contrast and sharpness.
    message : Signal
        A sentence, and whether it is bad news.
    """

    def __init__(
        self, workspace: Workspace, plan: Callable[[], Plan], asks: Asks, timeline: Timeline | None = None
    ) -> None:
        self._timeline = timeline or Timeline()
        self.workspace, self._plan, self._asks = workspace, plan, asks
        self.changed, self.pixels_ready, self.measures_ready, self.message = Signal(), Signal(), Signal(), Signal()
        self.repainted, self.outlined = Signal(), Signal()
        self._taken: dict[int, Outline] | None = None
        """Outlines of files, as the catalogue had them when it was read again last."""
        self.pixel_format = pixel_format_of(workspace)
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
        self._fit()
        self.measures_ready.emit()

    def decide(self, summary: str, numbers: Sequence[int], change: Callable[[Correction], Correction]) -> None:
        """Decide the same about some images; it can be undone."""
        self._try(summary, lambda: self.curating.change(summary, numbers, change))

    def is_drawn(self, image: int) -> bool:
        """Whether somebody decided where the object is in an image."""
        return self.curating.state.get(image, NOTHING).outline is not None

    def outline_of(self, image: int) -> Outline:
        """Where the object is in an image, as drawn or else as taken from files; empty where that is not known."""
        drawn = self.curating.state.get(image, NOTHING).outline
        return drawn if drawn is not None else self.workspace.catalogue.outlines.of(image)

    def relabel(self, summary: str, numbers: Sequence[int], label: int) -> None:
        """Give some images another class; it can be undone."""
        self._try(summary, lambda: relabel(self.curating, summary, self.library.rows, numbers, label))

    def relabel_as_new(self, summary: str, numbers: Sequence[int], name: str) -> None:
        """Give some images a class that there is not yet; it goes when that is undone."""
        self._try(summary, lambda: relabel_as_new(self.curating, summary, self.library.rows, numbers, name))

    def relabel_each(self, summary: str, names: Mapping[int, str]) -> None:
        """Give each of some images, by number, the class of a name; it can be undone."""
        self._try(summary, lambda: relabel_each(self.curating, summary, self.library.rows, names))

    def put_label(self, summary: str, numbers: Sequence[int], label: str, on: bool) -> None:
        """Give some images one label more, or take it from them, where they may have several; it can be undone."""
        classes, rows, names = self.collection.classes, self.collection.rows, {}
        for number in numbers:
            own = set(labels_in(classes[rows[place_of(number)].label]))
            names[number] = label_set(own | {label} if on else own - {label})
        self.relabel_each(summary, names)

    def replace_label(self, old: str, new: str) -> None:
        """Call one of several labels otherwise, in all images that have it; where there is one so called, it is that.

        It can be undone. Runs that were trained before know the label by its old name.
        """
        self._try(f"calling {old} {new}", lambda: replace_label(self.curating, self.library.rows, old, new))

    def rename_class(self, old: str, new: str) -> None:
        """Call a class otherwise; it can be undone."""
        new = class_name(new)

        def rename(one: str, other: str) -> bool:
            return self._changed(lambda: self._rename(one, other))

        if rename(old, new):
            self._timeline.add(Step(f"calling {old} {new}", lambda: rename(new, old), lambda: rename(old, new)))
            self.message.emit(f"{old} is called {new} now.", False)

    def _rename(self, one: str, other: str) -> None:
        self.workspace.check_writable("The class was not renamed")
        self.workspace.catalogue.rename_class(one, other)

    def act(self, action: FaultAction) -> None:
        """Do what a fault's action says about images."""
        self._try(action.word, lambda: act(self.curating, action))

    def _try(self, summary: str, decision: Callable[[], object]) -> None:
        before = self.curating.state
        try:
            decision()
        except LensError as error:
            self.message.emit(str(error), True)
            return
        self._tell_outlines(before)
        if self.curating.state is not before:
            self._timeline.add(Step(summary, lambda: bool(self.undo()), lambda: bool(self.redo())))
        self._take_classes()
        self.collect()
        self.message.emit(f"Done: {summary}.", False)

    def undo(self) -> str:
        """Take the last decision back; what it was, or an empty word."""
        return self._step(self.curating.undo)

    def redo(self) -> str:
        """Make the decision taken back again; what it was, or an empty word."""
        return self._step(self.curating.redo)

    def _tell_outlines(self, before: Corrections) -> None:
        """Which images were outlined otherwise by decisions than they are now."""
        now = self.curating.state
        drawn = {n for n in before.keys() | now.keys() if before.get(n, NOTHING).outline != now.get(n, NOTHING).outline}
        if drawn:
            self.outlined.emit(sorted(drawn))

    def _step(self, step: Callable[[], str]) -> str:
        before = self.curating.state
        try:
            word = step()
        except LensError as error:
            self.message.emit(str(error), True)
            return ""
        if word:
            self._tell_outlines(before)
            self._take_classes()
            self.collect()
        return word

    def _take_classes(self) -> None:
        """A class may have come or gone with a decision."""
        if self.workspace.catalogue.size()[1] != len(self.library.classes):
            self.library = Library.read(self.workspace)

    def collect(self) -> None:
        """Put the rows together again, from decisions and split as they are now."""
        self.split()
        self.changed.emit()

    def split(self) -> None:
        """As `collect`, telling nobody; pixels and measures of images that are new are grey and unknown at first."""
        self.collection = self.library.collection(self.curating.state, self._plan())
        self._fit()

    def _fit(self) -> None:
        """Have pixels and measures for every image there is."""
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
        catalogue, before = self.workspace.catalogue, self.library.copies
        try:
            words = keep_together(self.workspace, self._plan(), groups)
        except LensError as error:
            self.message.emit(str(error), True)
            return
        after = catalogue.copies()

        def keep(copies: dict[int, int]) -> bool:
            return self._changed(lambda: catalogue.keep_copies(copies))

        many = "1 group" if len(groups) == 1 else f"{len(groups)} groups"
        summary = f"keeping {many} of images together"
        self._timeline.add(Step(summary, lambda: keep(before), lambda: keep(after)))
        self.message.emit(f"{words}.", False)
        self.reread()

    def add(self, files: Sequence[Path], label: str) -> list[int]:
        """Copy image files into the workspace as images of a class; their numbers, none if it could not be done."""
        try:
            numbers = add_images(self.workspace, files, label)
        except LensError as error:
            self.message.emit(str(error), True)
            return []
        self.reread()
        self.want_pixels()
        which = f"image {numbers[0]}" if len(numbers) == 1 else f"images {numbers[0]} to {numbers[-1]}"

        def take_out(out: bool) -> bool:
            done = self._changed(lambda: take_out_images(self.workspace, numbers, out))
            self.want_pixels()
            return done

        self._timeline.add(Step(f"adding {which} as {label}", lambda: take_out(True), lambda: take_out(False)))
        self.message.emit(f"Added as {label}: {which}. The next run knows them.", False)
        return numbers

    def _changed(self, change: Callable[[], None]) -> bool:
        """Change the catalogue and read it again; whether it could be."""
        try:
            change()
        except LensError as error:
            self.message.emit(str(error), True)
            return False
        self.reread()
        return True

    def reread(self) -> None:
        """Read the catalogue again: another process changed it."""
        before = self.library.rows
        self.library = Library.read(self.workspace)
        taken, now = self._taken, self.workspace.catalogue.outlines.values()
        self._taken = now
        self.curating.reread()
        self.collect()
        outlined = [n for n in (taken or {}).keys() | now.keys() if taken is None or taken.get(n) != now.get(n)]
        if outlined:
            self.outlined.emit(sorted(outlined))
        pairs = zip(before, self.library.rows, strict=False)
        others = [now.number for then, now in pairs if then.digest and then.digest != now.digest]
        if others:
            self.repainted.emit(others)
            which = f"image {others[0]} has" if len(others) == 1 else f"{len(others)} images have"
            void = "scores, maps, neighbours and faults that were found with the old ones are void"
            self.message.emit(f"{which[0].upper()}{which[1:]} other contents now: {void}.", False)
