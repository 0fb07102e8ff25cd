"""A run, from Python."""

from __future__ import annotations

from pathlib import Path
from typing import TypeVar

import numpy as np
from numpy.typing import NDArray

from attentive_lens.core.jobs import finish
from attentive_lens.core.records import PlainTable
from attentive_lens.core.values import read_kind
from attentive_lens.desk.requests.activity import LayerActive, LayerActivity
from attentive_lens.desk.requests.base import Request
from attentive_lens.desk.requests.causes import Cause, Causes
from attentive_lens.desk.requests.drawing import (
    Decode,
    DrawImages,
    Drawn,
    Encoded,
    EncodeImages,
    Reconstruct,
    Reconstructed,
)
from attentive_lens.desk.requests.drift import MeasureDrift
from attentive_lens.desk.requests.explaining import Explain
from attentive_lens.desk.requests.fidelity import Fidelity, MeasureFidelity
from attentive_lens.desk.requests.inspecting import Neighbours, TryChanges
from attentive_lens.desk.requests.labels import ChooseThresholds, ScoreLabels, ThresholdsChosen
from attentive_lens.desk.requests.maps import ClassMaps, Maps, RestsOn
from attentive_lens.desk.requests.models import Score
from attentive_lens.desk.requests.numbers import LayerNumbers, NumbersSeen
from attentive_lens.desk.requests.objects import MeasureObjects, ObjectsMeasured
from attentive_lens.desk.requests.remedies import NextSteps, WhatNext
from attentive_lens.desk.requests.similarity import CompareLayers, LayersCompared
from attentive_lens.desk.requests.subjects import RunImage
from attentive_lens.desk.results.models import model_of_run
from attentive_lens.desk.script.models import Model, settings_of
from attentive_lens.desk.script.notebook import run_card
from attentive_lens.desk.tasks import carry_out
from attentive_lens.desk.training.runs import RunReader
from attentive_lens.explaining.change_settings import CHANGE_SETTINGS
from attentive_lens.explaining.methods import DEFAULT
from attentive_lens.plan.plan import Plan
from attentive_lens.scoring.drift import Drift
from attentive_lens.scoring.labels import LabelScores
from attentive_lens.scoring.scores import Scores
from attentive_lens.scoring.thresholds import ThresholdRule
from attentive_lens.training.journal import read_events
from attentive_lens.workspace import Run as RunFolder
from attentive_lens.workspace import Workspace as WorkspaceFolder

R = TypeVar("R")


def ask(request: Request[R]) -> R:
    """The answer to a request of `desk.requests`: what the window and the commands ask can all be asked so."""
    return finish(carry_out(request))


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

    def _repr_html_(self) -> str:
        """For a notebook: how it stands, and its curve."""
        return run_card(RunReader(self._folder).view())

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
        return Model(model_of_run(self._folder))

    def journal(self) -> list[PlainTable]:
        """Its events, in the order they came; see `training.journal.Journal`."""
        return read_events(self._folder.journal)[0]

    def about(self, label: str) -> Run:
        """The same run asked about one of its several labels; `NotHere` if it has no such label."""
        return Run(self._workspace, self._folder.about_label(label))

    def score(self, on: str = "validation") -> Scores:
        """Accuracy, loss, confusion matrix and every answer on a set: training, validation or test.

        Of a run that answers several labels `score_labels` tells all, and this of the one it is `about`.
        """
        return self._answer(Score(*self._place, on))

    def score_labels(self, on: str = "validation") -> LabelScores:
        """How a run that answers several labels did on a set, label by label."""
        return self._answer(ScoreLabels(*self._place, on))

    def choose_thresholds(self, rule: ThresholdRule, labels: tuple[str, ...] = ()) -> ThresholdsChosen:
        """Choose from which probability it says its labels, or some of them, on the validation images."""
        place, run = self._place
        costs = rule.missed, rule.false
        return self._answer(ChooseThresholds(place, run, rule.by, rule.precision, *costs, rule.value, labels))

    @property
    def confusion(self) -> NDArray[np.int64]:
        """Of the validation set: classes×classes, row true, column said."""
        return np.array(self.score().confusion, np.int64)

    def _answer(self, request: Request[R]) -> R:
        return ask(request)

    @property
    def _place(self) -> tuple[str, int]:
        """Workspace and run, as requests take them."""
        return str(self._workspace.folder), self.number

    def _image(self, number: int) -> RunImage:
        return RunImage(*self._place, number)

    def explain(
        self, image: int, target: str | None = None, method: str = DEFAULT.kind, **settings: object
    ) -> dict[str, NDArray[np.generic]]:
        """Maps of an image by its number, H×W float32, under said, true, difference (and for, with a target).

        ``settings`` are the method's own, as ``baseline="image 12"`` of integrated gradients.
        """
        explanation = self._answer(Explain(self._image(image), settings_of(method, settings), target))
        maps: dict[str, NDArray[np.generic]] = {map_.key: map_.values for map_ in explanation.maps}
        if explanation.difference is not None:
            maps["difference"] = explanation.difference
        return maps

    def maps(self, image: int, target: str = "", against: str = "") -> dict[str, NDArray[np.float32]]:
        """The map of an image by every method that can be asked: method → H×W float32.

        Of the class said if no ``target`` is named; of its score less another class's with ``against``.
        """
        made = self._answer(Maps(self._image(image), (), target, against))
        return {each.method.kind: each.values for each in made.maps if each.values is not None}

    def class_maps(self, on: str = "validation") -> tuple[RestsOn, ...]:
        """What the right answers of each class rest on; see `desk.requests.maps.RestsOn`."""
        return self._answer(ClassMaps(*self._place, on)).classes

    def objects(self, on: str = "validation") -> ObjectsMeasured:
        """What the answers rest on where outlines are known; see `desk.requests.objects.ObjectsMeasured`."""
        return self._answer(MeasureObjects(*self._place, on))

    def causes(self, on: str = "validation") -> tuple[Cause, ...]:
        """What the mistakes on a set come from, with their remedies; see `desk.requests.causes.Cause`."""
        return self._answer(Causes(*self._place, on)).groups

    def drift(self, *places: str | Path, by: str = "all") -> tuple[Drift, ...]:
        """How image files and folders differ from the run's held-out images: by day, by folder or all together."""
        return self._answer(MeasureDrift(*self._place, tuple(map(str, places)), by)).parts

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

    def similarity(self) -> LayersCompared:
        """What training changed in every layer; see `desk.requests.similarity.LayersCompared`."""
        return self._answer(CompareLayers(*self._place))

    def neighbours(self, image: int, layer: str = "", count: int = 8) -> dict[str, list[tuple[int, float]]]:
        """The training images a layer finds nearest to an image: (number, distance) for *said* and for *true*."""
        neighbours = self._answer(Neighbours(self._image(image), layer, count))
        return {
            key: [(neighbour.image, neighbour.distance) for neighbour in rows] for key, rows in neighbours.near.items()
        }

    def encode(self, on: str = "validation", samples: int = 0) -> Encoded:
        """Codes of a set's images, with the lower bound; of a run that draws."""
        return self._answer(EncodeImages(*self._place, on, samples))

    def decode(self, codes: NDArray[np.floating], class_name: str = "") -> NDArray[np.uint8]:
        """Images N×H×W×C of codes N×D, all of a class where the network is told it; of a run that draws."""
        rows = np.atleast_2d(np.asarray(codes, np.float64)).tolist()
        parts = [self._answer(Decode(*self._place, class_name=class_name, values=tuple(row))).images for row in rows]
        return np.concatenate(parts)

    def draw(self, count: int = 36, seed: int = 0, way: str = "samples", class_name: str = "") -> Drawn:
        """Images of random codes, or over a grid of two codes (way "manifold"); of a run that draws.

        A network that is told classes draws the one named, or each of them.
        """
        return self._answer(DrawImages(*self._place, way, count, seed, class_name=class_name))

    def fidelity(self, features: str = "", on: str = "training", count: int = 1000) -> Fidelity:
        """How near drawings are to real images, by what a run or a model sees; of a run that draws."""
        return self._answer(MeasureFidelity(*self._place, features, on, count))

    def reconstruct(self, on: str = "validation", most: int = 24) -> Reconstructed:
        """A set's images beside what is drawn of their codes, the worst first; of a run that draws."""
        return self._answer(Reconstruct(*self._place, on, most))
