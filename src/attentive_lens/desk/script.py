"""The scripting face: what the window does, from Python.

```python
import attentive_lens as al

model = al.open_model("pollen-station/runs/0001/checkpoints/best.alens")
answers = model.predict("grain.png")  # or paths, folders, Pillow images, arrays, a list of them
map_ = model.explain("grain.png", target="spiny")
maps = model.feature_maps("grain.png", "relu 2")

run = al.open_workspace("pollen-station").runs()[-1]
print(run.score("test").accuracy, run.confusion)
```
"""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from pathlib import Path
from typing import TypeAlias, TypeVar

import numpy as np
from numpy.typing import NDArray
from PIL import Image

from attentive_lens.core.jobs import finish
from attentive_lens.core.records import PlainTable
from attentive_lens.core.values import read_kind, unknown_word
from attentive_lens.desk.requests.activity import LayerActive, LayerActivity
from attentive_lens.desk.requests.base import Request
from attentive_lens.desk.requests.causes import Cause, Causes
from attentive_lens.desk.requests.explaining import Explain
from attentive_lens.desk.requests.inspecting import Neighbours, TryChanges
from attentive_lens.desk.requests.maps import ClassMaps, Maps, RestsOn
from attentive_lens.desk.requests.models import Score
from attentive_lens.desk.requests.numbers import LayerNumbers, NumbersSeen
from attentive_lens.desk.requests.remedies import NextSteps, WhatNext
from attentive_lens.desk.requests.subjects import FileImage, RunImage
from attentive_lens.desk.results.answering import image_files
from attentive_lens.desk.results.models import answered_file, by_class
from attentive_lens.desk.tasks import carry_out
from attentive_lens.desk.tasks.explaining import explained
from attentive_lens.desk.training.runs import RunReader
from attentive_lens.engine.threads import ThreadPool
from attentive_lens.errors import BadValue
from attentive_lens.explaining.change_settings import CHANGE_SETTINGS
from attentive_lens.explaining.feature_maps import feature_maps
from attentive_lens.explaining.methods import DEFAULT, MAP_METHODS, MapSettings
from attentive_lens.explaining.saliency import map_method
from attentive_lens.formats.bundle import ModelFile
from attentive_lens.formats.reading import read_model
from attentive_lens.images.decoding import decode, of_array, of_picture
from attentive_lens.plan.plan import Plan
from attentive_lens.predicting import Predictor
from attentive_lens.scoring.scores import Scores
from attentive_lens.training.journal import read_events
from attentive_lens.workspace import Run as RunFolder
from attentive_lens.workspace import Workspace as WorkspaceFolder

R = TypeVar("R")
OneImage: TypeAlias = str | Path | Image.Image | NDArray[np.generic]
"""A path, a Pillow image, or an array H×W, H×W×1, H×W×3 or H×W×4: uint8, bool, or floating point in 0–1."""

AT_ONCE = 64


class Model:
    """A trained model.

    Parameters
    ----------
    file : ModelFile
        As read.

    Attributes
    ----------
    classes : tuple of str
        Names by class number.
    card : mapping
        What it is and how it did: plan, figures, versions.
    """

    def __init__(self, file: ModelFile) -> None:
        self.file = file
        self.classes = file.classes
        self.card = file.card

    def __repr__(self) -> str:
        side = "×".join(map(str, self.file.preprocessor.settings.shape))
        count = sum(array.size for arrays in self.file.weights.values() for array in arrays.values())
        return f"<Model: {len(self.classes)} classes, {side} images, {len(self.layers)} layers, {count} weights>"

    @property
    def layers(self) -> tuple[str, ...]:
        """Names of the layers, in order."""
        return tuple(node.name for node in self.file.plan.nodes)

    @property
    def weights(self) -> Mapping[str, Mapping[str, NDArray[np.generic]]]:
        """Layer → array name → float32 array: kernels KH×KW×C×F, matrices in×out. Not to be changed in place."""
        return self.file.weights

    def predict(self, images: OneImage | Iterable[OneImage]) -> list[dict[str, float]]:
        """Probability of every class for each image.

        Parameters
        ----------
        images : image, or iterable of images
            Paths, folders (all images in them, by name), Pillow images, arrays; see `OneImage`. An array N×H×W×C is N
            images.

        Returns
        -------
        list of dict
            Class name → probability, one an image, also for a single one; empty for an empty list.

        Raises
        ------
        BadFile
            If one cannot be read.
        BadValue
            If an array is no image.
        """
        answers: list[dict[str, float]] = []
        pixels = self._all_pixels(images)
        with ThreadPool(1) as thread_pool:
            predictor = Predictor.of(self.file, thread_pool)
            for first in range(0, len(pixels), AT_ONCE):
                batch = predictor.prepare(np.stack(pixels[first : first + AT_ONCE]))
                answers += [by_class(self.classes, row) for row in predictor.checked(predictor.scores(batch))]
        return answers

    def explain(
        self, image: OneImage, target: str | None = None, method: str = DEFAULT.kind, **settings: object
    ) -> NDArray[np.float32]:
        """The map, S×S float32 at the input size, for a class; for the one the model says if none is named.

        ``settings`` are the method's own, as ``layer="relu 2"`` of class activation.
        """
        chosen = map_method(_settings_of(method, settings))
        answered = answered_file(FileImage(""), self.file, self._one(image))
        return finish(explained(answered, chosen, target)).maps[-1].values

    def feature_maps(self, image: OneImage, layer: str) -> NDArray[np.float32]:
        """A layer's output for one image: rows×columns×channels, or values, float32.

        Raises
        ------
        BadUsage
            If the model has no layer of that name.
        """
        if layer not in self.layers:
            raise unknown_word("layer", layer, frozenset(self.layers))
        prepared = self.file.preprocessor.apply(self._one(image)[None])[0]
        return np.asarray(feature_maps(self.file.network(), prepared, [layer])[layer])

    def _one(self, image: OneImage) -> NDArray[np.uint8]:
        pixels = self._all_pixels(image)
        if len(pixels) != 1:
            raise BadValue("One image is needed", f"{len(pixels)} were given", "Take one of them")
        return pixels[0]

    def _all_pixels(self, images: OneImage | Iterable[OneImage]) -> list[NDArray[np.uint8]]:
        """Every image at the input size."""
        if isinstance(images, np.ndarray) and images.ndim == 4:
            images = list(images)
        if isinstance(images, str | Path | Image.Image | np.ndarray):
            images = [images]
        parts: list[NDArray[np.uint8]] = []
        for image in images:
            if isinstance(image, Image.Image):
                parts.append(of_picture(image, self.file.preprocessor.white))
            elif isinstance(image, np.ndarray):
                parts.append(of_array(image))
            elif isinstance(image, str | Path):
                white = self.file.preprocessor.white
                parts += [decode(Path(file), white).pixels for file in image_files([Path(image)])]
            else:
                kind = type(image).__name__
                raise BadValue("There is something that is no image", f"it is a {kind}", "Give paths, images or arrays")
        return [self.file.preprocessor.resized(pixels) for pixels in parts]


class Run:
    """One execution of a plan.

    Attributes
    ----------
    number : int
        From 1.
    """

    def __init__(self, workspace: WorkspaceFolder, folder: RunFolder) -> None:
        self._workspace, self._folder = workspace, folder
        self.number = folder.number

    def __repr__(self) -> str:
        view = RunReader(self._folder).view()
        return f"<Run {self.number}: {view.name}, {view.state}, epoch {len(view.epochs)} of {view.planned}>"

    @property
    def plan(self) -> Plan:
        """What decided it."""
        return self._folder.plan()

    @property
    def state(self) -> str:
        """Training, done, stopped, failed or broken off."""
        return RunReader(self._folder).view().state

    @property
    def model_file(self) -> Path:
        """File of its best model; `NotHere` before the first epoch is finished."""
        return self._folder.model

    @property
    def model(self) -> Model:
        """Its best model."""
        return open_model(self.model_file)

    def journal(self) -> list[PlainTable]:
        """Its events, in the order they came; see `training.journal.Journal`."""
        return read_events(self._folder.journal)[0]

    def score(self, on: str = "validation") -> Scores:
        """Accuracy, loss, confusion matrix and every answer on a set: training, validation or test."""
        return self._answer(Score(*self._place, on))

    @property
    def confusion(self) -> NDArray[np.int64]:
        """Of the validation set: classes×classes, row true, column said."""
        return np.array(self.score().confusion, np.int64)

    def _answer(self, request: Request[R]) -> R:
        return finish(carry_out(request))

    @property
    def _place(self) -> tuple[str, int]:
        """Workspace and run, as requests take them."""
        return str(self._workspace.folder), self.number

    def _image(self, number: int) -> RunImage:
        return RunImage(*self._place, number)

    def explain(
        self, image: int, target: str | None = None, method: str = DEFAULT.kind, **settings: object
    ) -> dict[str, NDArray[np.generic]]:
        """Maps of an image by its number, S×S float32, under said, true, difference (and for, with a target).

        ``settings`` are the method's own, as ``baseline="image 12"`` of integrated gradients.
        """
        explanation = self._answer(Explain(self._image(image), _settings_of(method, settings), target))
        maps: dict[str, NDArray[np.generic]] = {map_.key: map_.values for map_ in explanation.maps}
        if explanation.difference is not None:
            maps["difference"] = explanation.difference
        return maps

    def maps(self, image: int, target: str = "", against: str = "") -> dict[str, NDArray[np.float32]]:
        """The map of an image by every method that can be asked: method → S×S float32.

        Of the class said if no ``target`` is named; of its score less another class's with ``against``.
        """
        made = self._answer(Maps(self._image(image), (), target, against))
        return {each.method.kind: each.values for each in made.maps if each.values is not None}

    def class_maps(self, on: str = "validation") -> tuple[RestsOn, ...]:
        """What the right answers of each class rest on; see `desk.requests.maps.RestsOn`."""
        return self._answer(ClassMaps(*self._place, on)).classes

    def causes(self, on: str = "validation") -> tuple[Cause, ...]:
        """What the mistakes on a set come from, with their remedies; see `desk.requests.causes.Cause`."""
        return self._answer(Causes(*self._place, on)).groups

    def what_next(self, tries: int = 0) -> NextSteps:
        """What to do next, after trials of so many remedies; see `desk.requests.remedies.NextSteps`."""
        return self._answer(WhatNext(*self._place, tries))

    def activity(self, layer: str) -> LayerActive:
        """How active a layer is over the training images; see `desk.requests.activity.LayerActive`."""
        return self._answer(LayerActivity(*self._place, layer))

    def numbers(self, layer: str, array: str = "", image: int = 0) -> NumbersSeen:
        """A layer's weights, their gradient for an image, the optimiser's state; see `desk.requests.numbers`."""
        return self._answer(LayerNumbers(*self._place, layer, array, image))

    def try_changes(self, image: int, *changes: PlainTable) -> list[dict[str, float]]:
        """Answers after changes of an image, each on the original: ``{"kind": "cover", "row": 0.8, …}``."""
        chosen = tuple(read_kind("change", CHANGE_SETTINGS, change) for change in changes)
        tried = self._answer(TryChanges(self._image(image), chosen, smallest=False))
        return [after.probabilities for after in tried.after]

    def neighbours(self, image: int, layer: str = "", count: int = 8) -> dict[str, list[tuple[int, float]]]:
        """The training images a layer finds nearest to an image: (number, distance) for *said* and for *true*."""
        neighbours = self._answer(Neighbours(self._image(image), layer, count))
        return {
            key: [(neighbour.image, neighbour.distance) for neighbour in rows] for key, rows in neighbours.near.items()
        }


class Workspace:
    """A folder that holds one piece of work: images' catalogue, plans, runs."""

    def __init__(self, folder: WorkspaceFolder) -> None:
        self._folder = folder
        self.name = folder.name
        self.folder = folder.folder

    def __repr__(self) -> str:
        images, runs = len(self._folder.catalogue.images()), len(self.runs())
        return f"<Workspace «{self.name}»: {images} images of {len(self.classes)} classes, {runs} runs>"

    @property
    def classes(self) -> tuple[str, ...]:
        """Names by class number."""
        return tuple(self._folder.catalogue.classes())

    def files(self) -> list[Path]:
        """The image files, by number from 1."""
        return [self._folder.path_of(row) for row in self._folder.catalogue.images()]

    def runs(self) -> list[Run]:
        """All runs, by number."""
        return [Run(self._folder, run) for run in self._folder.runs()]

    def run(self, number: int) -> Run:
        """One run; `NotHere` with the numbers there are."""
        return Run(self._folder, self._folder.run(number))


def _settings_of(method: str, settings: Mapping[str, object]) -> MapSettings:
    return read_kind("method", MAP_METHODS, {"kind": method, **settings})


def open_model(file: str | Path) -> Model:
    """Open a model file (.alens or .onnx); `BadFile` if it is none."""
    return Model(read_model(Path(file)))


def open_workspace(folder: str | Path) -> Workspace:
    """Open a workspace; `NotHere` if the folder is none."""
    return Workspace(WorkspaceFolder.open(Path(folder)))
