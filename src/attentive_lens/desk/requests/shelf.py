"""Requests about the Shelf: what stands on it, putting a model there, changing what is said of one, proving it."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from typing import ClassVar

from attentive_lens.core.records import PlainTable
from attentive_lens.core.telling import Rows
from attentive_lens.core.values import spec
from attentive_lens.desk.requests.base import Request

NAME = "Name of the model on the Shelf."


@dataclass(frozen=True)
class ShelfModel:
    """A model on the Shelf.

    Attributes
    ----------
    name : str
        On the Shelf.
    ships : bool
        Whether it comes with the program.
    origin, note : str
        Where it is from, and what a person says of it.
    classes : tuple of str
        That it tells apart.
    input_size : tuple of int
        Rows and columns of its image; none where the file cannot be read.
    channels : int
        Of its image.
    layers, weights, multiply_adds, bytes : int
        What it is made of, what an image costs, and the size of its file.
    base : str
        What it was built on itself, in words; empty if on nothing.
    built : tuple of int
        Numbers of the runs of this workspace that are built on it.
    on : str
        The set it was scored on when it was put there; empty if never.
    images : int
        In that set.
    accuracy, low, high, loss : float or None
        As scored then, with the 95 % interval (Wilson).
    plates : tuple of (int, int)
        Side and channels of its image and of what every layer that changes them gives, side 1 for rows of values.
    problem : str
        Why its file cannot be read; the rest is empty then.
    """

    name: str
    ships: bool
    origin: str
    note: str
    classes: tuple[str, ...] = ()
    input_size: tuple[int, ...] = ()
    channels: int = 0
    layers: int = 0
    weights: int = 0
    multiply_adds: int = 0
    bytes: int = 0
    base: str = ""
    built: tuple[int, ...] = ()
    on: str = ""
    images: int = 0
    accuracy: float | None = None
    low: float | None = None
    high: float | None = None
    loss: float | None = None
    plates: tuple[tuple[int, int], ...] = ()
    problem: str = ""

    @property
    def score(self) -> str:
        """How it did, in a few words; empty if it was never scored."""
        if self.accuracy is None or self.low is None or self.high is None:
            return ""
        return f"{self.accuracy:.1%} of {self.images} {self.on} images ({self.low:.0%}–{self.high:.0%})"


@dataclass(frozen=True)
class ShelfListed:
    """All models of the Shelf: those of the workspace by name, then those that come with the program."""

    models: tuple[ShelfModel, ...]

    def words(self) -> Iterator[str | Rows]:
        """A line a model."""
        heads = ("name", "from", "classes", "input", "weights", "accuracy", "built on it")
        cells = []
        for model in self.models:
            if model.problem:
                cells.append((model.name, model.problem, "", "", "", "", ""))
                continue
            runs = ", ".join(f"run {number}" for number in model.built)
            side = "×".join(map(str, (*model.input_size, model.channels)))
            figures = (str(len(model.classes)), side, f"{model.weights:,}".replace(",", "\u202f"), model.score)
            cells.append((model.name, model.origin, *figures, runs))
        yield Rows(heads, tuple(cells))
        for model in self.models:
            if model.note:
                yield f"{model.name}: {model.note}"


@dataclass(frozen=True)
class ListShelf(Request[ShelfListed]):
    """List the models on the Shelf: those put there, and those that come with the program.

    A plan is built on one by «base.model = "shelf:NAME"».
    """

    result: ClassVar[type[object]] = ShelfListed
    task: ClassVar[str] = "shelf.list_shelf"
    doing: ClassVar[str] = "reading the models"
    workspace: str


@dataclass(frozen=True)
class ShelfNetwork:
    """The network of a model on the Shelf: its nodes as a plan file has them, and the shape of a prepared image."""

    nodes: tuple[PlainTable, ...]
    shape: tuple[int, ...]


@dataclass(frozen=True)
class LookAtModel(Request[ShelfNetwork]):
    """The network of a model on the Shelf, for its bench."""

    result: ClassVar[type[object]] = ShelfNetwork
    task: ClassVar[str] = "shelf.look_at_model"
    workspace: str
    model: str


@dataclass(frozen=True)
class ModelOpened:
    """A model file that no workspace need know.

    Attributes
    ----------
    model : ShelfModel
        As one on a Shelf would be told.
    network : ShelfNetwork
        For its bench.
    best : dict
        Measures of the best epoch on the validation images, by name, as its card tells; empty where it does not.
    labels : tuple of str
        That it answers each by itself; empty where it answers classes.
    draws : bool
        Whether it draws images and answers nothing.
    caution : str
        What to know before files are given to it; empty where nothing need be said.
    """

    model: ShelfModel
    network: ShelfNetwork
    best: dict[str, float]
    labels: tuple[str, ...]
    draws: bool
    caution: str

    def words(self) -> Iterator[str | Rows]:
        """What it is, how good it was, what it tells apart."""
        model = self.model
        side = "×".join(map(str, (*model.input_size, model.channels)))
        weights, cost = (f"{count:,}".replace(",", "\u202f") for count in (model.weights, model.multiply_adds))
        size = f"{model.layers} layers, {weights} weights, {cost} multiply-adds an image"
        yield f"{model.name}: {size}; its image is {side}."
        if model.note:
            yield model.note
        if model.base:
            yield f"Built on {model.base}."
        if self.best:
            yield "On the validation images, in its best epoch:"
            yield Rows(("measure", "value"), tuple((name, f"{value:.4f}") for name, value in self.best.items()))
        what = "It draws images." if self.draws else "Labels" if self.labels else "Classes"
        yield what if self.draws else f"{what}: {', '.join(self.labels or model.classes)}."
        if self.caution:
            yield self.caution


@dataclass(frozen=True)
class OpenModel(Request[ModelOpened]):
    """Tell what a model file is: its network, its classes, how good it was."""

    result: ClassVar[type[object]] = ModelOpened
    task: ClassVar[str] = "shelf.open_model"
    doing: ClassVar[str] = "reading the model"
    file: str = spec(names="model_file", meaning="The model, a file of this program (.alens).")


@dataclass(frozen=True)
class ShelfChanged:
    """A model as it stands on the Shelf now, and what was done, in a sentence."""

    name: str
    done: str

    def words(self) -> Iterator[str]:
        """What was done."""
        yield self.done


@dataclass(frozen=True)
class PutOnShelf(Request[ShelfChanged]):
    """Put a run's best model, or a model file of any program, on the Shelf, with its scores on held-out images."""

    result: ClassVar[type[object]] = ShelfChanged
    task: ClassVar[str] = "shelf.put_on_shelf"
    doing: ClassVar[str] = "putting the model on the Shelf"
    workspace: str
    model: str = spec(names="run_or_file", meaning="Number of the run, or a model file (.alens, .onnx).")
    name: str = spec("", meaning="What to call it there; made of its plan's or file's name if left out.")
    note: str = spec("", meaning="What you say of it.")


@dataclass(frozen=True)
class EditShelf(Request[ShelfChanged]):
    """Rename a model on the Shelf, keep a note of it, take it off, or put it back."""

    result: ClassVar[type[object]] = ShelfChanged
    task: ClassVar[str] = "shelf.edit_shelf"
    workspace: str
    model: str = spec(names="name", meaning=NAME)
    rename: str = spec("", meaning="Another name; plans that name the old one still find it.")
    note: str = spec("", meaning="What you say of it; «-» for nothing.")
    off: bool = spec(False, meaning="Take it off.")
    restore: bool = spec(False, meaning="Put back what was taken off.")


@dataclass(frozen=True)
class ShelfVerified:
    """A model's scores taken anew from its file, beside those it was put on the Shelf with.

    Attributes
    ----------
    name : str
        On the Shelf.
    on : str
        The set.
    images : int
        That were asked about now.
    accuracy, loss : float
        Now.
    stored_accuracy, stored_loss : float or None
        As stored; None where it was never scored: what came out now is stored then.
    same : bool
        Whether the two are the same to the last digit.
    """

    name: str
    on: str
    images: int
    accuracy: float
    loss: float
    stored_accuracy: float | None
    stored_loss: float | None
    same: bool

    def words(self) -> Iterator[str]:
        """Whether the figure stands."""
        figures = f"accuracy {self.accuracy!r}, loss {self.loss!r} on {self.images} {self.on} images"
        if self.stored_accuracy is None:
            yield f"«{self.name}» was never scored here; now it is: {figures}."
        elif self.same:
            yield f"«{self.name}», read anew, comes to the stored figures to the last digit: {figures}."
        else:
            before = f"accuracy {self.stored_accuracy!r}, loss {self.stored_loss!r}"
            yield f"«{self.name}» comes to other figures: {figures}; stored are {before}."
            yield "Images, labels or sets changed since, or the file did."


@dataclass(frozen=True)
class VerifyOnShelf(Request[ShelfVerified]):
    """Read a model of the Shelf anew, score it on held-out images, and compare with the figure that is stored."""

    result: ClassVar[type[object]] = ShelfVerified
    task: ClassVar[str] = "shelf.verify_on_shelf"
    doing: ClassVar[str] = "scoring the model"
    workspace: str
    model: str = spec(names="name", meaning=NAME)
