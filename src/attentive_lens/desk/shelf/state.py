"""The Shelf of an open workspace: what stands on it, and what is done to it, which can be undone."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace

from attentive_lens.desk.history import Step, Timeline
from attentive_lens.desk.observing import Asks, Signal
from attentive_lens.desk.requests.shelf import ListShelf, PutOnShelf, ShelfChanged, ShelfListed, ShelfModel
from attentive_lens.errors import LensError
from attentive_lens.workspace import Workspace


class OpenShelf:
    """The models, asked for when they are wanted.

    Attributes
    ----------
    models : tuple of ShelfModel or None
        None until they were read.
    changed : Signal
        Other models stand there, or other things are said of them.
    message : Signal
        A sentence, and whether it is bad news.
    """

    def __init__(self, workspace: Workspace, asks: Asks, timeline: Timeline) -> None:
        self.workspace, self._asks, self._timeline = workspace, asks, timeline
        self.models: tuple[ShelfModel, ...] | None = None
        self.changed, self.message = Signal(), Signal()

    @property
    def _place(self) -> str:
        return str(self.workspace.folder.absolute())

    def model(self, name: str) -> ShelfModel | None:
        """The model of a name, if there is one."""
        return next((model for model in self.models or () if model.name == name), None)

    def want(self) -> None:
        """Have the models read; `changed` follows."""
        self._asks.ask(ListShelf(self._place), self._take, priority=4, scope="shelf")

    def _take(self, listed: ShelfListed) -> None:
        if listed.models != self.models:
            self.models = listed.models
            self.changed.emit()

    def put(self, model: str, done: Callable[[str], None], failed: Callable[[str], None] | None = None) -> None:
        """Put a run, by its number, or a model file there; ``done`` gets its name, ``failed`` why it is not."""

        def finished(change: ShelfChanged) -> None:
            name = change.name
            self._timeline.add(
                Step(f"putting «{name}» on the Shelf", lambda: self._take_off(name), lambda: self._restore(name))
            )
            self.want()
            self.message.emit(change.done, False)
            done(name)

        refused = failed or (lambda sentence: self.message.emit(sentence, True))
        self._asks.ask(PutOnShelf(self._place, model), finished, refused, priority=4, scope="put on shelf")

    def rename(self, name: str, to: str) -> bool:
        """Give a model another name; whether it has it."""
        done = to == name or self._do(lambda: self.workspace.shelf.rename(name, to))
        if done and to != name:
            self._timeline.add(
                Step(
                    f"renaming «{name}» to «{to}»",
                    lambda: self._do(lambda: self.workspace.shelf.rename(to, name)),
                    lambda: self._do(lambda: self.workspace.shelf.rename(name, to)),
                )
            )
        return done

    def note(self, name: str, words: str) -> None:
        """Keep what a person says of a model."""
        before = self.workspace.shelf.model(name).said.note

        def keep(note: str) -> bool:
            shelf = self.workspace.shelf
            return self._do(lambda: shelf.say(name, replace(shelf.model(name).said, note=note)))

        if words != before and keep(words):
            self._timeline.add(Step(f"the note of «{name}»", lambda: keep(before), lambda: keep(words)))

    def take_off(self, name: str) -> None:
        """Take a model off."""
        if self._take_off(name):
            self._timeline.add(
                Step(f"taking «{name}» off the Shelf", lambda: self._restore(name), lambda: self._take_off(name))
            )
            self.message.emit(f"«{name}» is off the Shelf.", False)

    def _take_off(self, name: str) -> bool:
        return self._do(lambda: self.workspace.shelf.delete(name))

    def _restore(self, name: str) -> bool:
        return self._do(lambda: self.workspace.shelf.restore(name))

    def _do(self, change: Callable[[], None]) -> bool:
        try:
            self.workspace.check_writable("The Shelf was not changed")
            change()
        except LensError as error:
            self.message.emit(str(error), True)
            return False
        self.want()
        return True
