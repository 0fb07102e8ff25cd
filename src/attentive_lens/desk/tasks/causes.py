"""The task that finds what the mistakes of a run have in common."""

from __future__ import annotations

import re
from collections import Counter
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass
from pathlib import Path, PurePath
from typing import TypeVar

import numpy as np
from numpy.typing import NDArray

from attentive_lens.core.files import shown
from attentive_lens.core.jobs import Job, Progress
from attentive_lens.core.keeping import keep, key_of, stored
from attentive_lens.core.numbering import number_at, place_of
from attentive_lens.core.random import some_of
from attentive_lens.desk.explaining.cause_remedies import PROVABLE, remedies_of
from attentive_lens.desk.images.collection import Library, collection
from attentive_lens.desk.images.data import Data, fingerprint_of
from attentive_lens.desk.images.outlines import covered_at, known_outlines
from attentive_lens.desk.requests.causes import Cause, CausePlace, Causes, CausesFound
from attentive_lens.desk.requests.models import Score
from attentive_lens.desk.requests.subjects import RunImage
from attentive_lens.desk.results.models import THREADS, model_and_data
from attentive_lens.desk.tasks.choosing import method_for
from attentive_lens.desk.tasks.scoring import score
from attentive_lens.engine.arrays import Array
from attentive_lens.engine.threads import ThreadPool
from attentive_lens.errors import NotHere
from attentive_lens.explaining.causes import Answered, CauseFound, Evidence, find_causes
from attentive_lens.explaining.causes.grouping import Group, grouped
from attentive_lens.explaining.causes.measures import MEASURES, measured
from attentive_lens.explaining.channel_statistics import channel_statistics
from attentive_lens.explaining.methods import QUICK, MapSettings
from attentive_lens.explaining.probe import Probe
from attentive_lens.explaining.saliency import MapMethod
from attentive_lens.formats.reading import read_model
from attentive_lens.images.decoding import camera
from attentive_lens.images.outlines import Outline
from attentive_lens.images.sources.base import SET_WORDS
from attentive_lens.images.split import SETS
from attentive_lens.plan.preprocessing import Preprocessing
from attentive_lens.predicting import Predictor
from attentive_lens.scoring.answers import Answer
from attentive_lens.workspace import ImageRow, Run, Workspace

MOST_MISTAKES, MOST_RIGHT, MOST_TRAINING = 2000, 600, 2400
"""Images that are looked at, at most: the surest mistakes, and of the others a fair part of every class."""
AT_ONCE = 16
OF_ONE_WORD = 8
"""Images that a column must say the same of, on average, for it to be a part of the source."""

T = TypeVar("T")


def causes(request: Causes) -> Job[CausesFound]:
    """See `Causes`; kept beside the run."""
    place = Workspace.open(Path(request.workspace))
    run = place.run(request.run)
    file, key = _file(run, request.on), _key(place, run, request.on, request.method)
    known = stored(file, CausesFound, key)
    if known is not None:
        return known
    scores = yield from score(Score(request.workspace, request.run, request.on))
    model, data = yield from model_and_data(place, run)
    method = yield from method_for(request.method, RunImage(request.workspace, request.run, 0), model)
    wrong = scores.wrong
    if not wrong:
        why = f"run {request.run} answers every {request.on} image rightly"
        raise NotHere("There are no mistakes to group", why, "Choose another set")
    right = [answer for answer in scores.answers if answer.predicted == answer.true]
    mistakes = wrong[:MOST_MISTAKES]
    with ThreadPool(THREADS) as thread_pool:
        predictor = Predictor.of(model, thread_pool)
        of_training = data.members("training")
        labels = data.labels[of_training].tolist()
        pairs = zip(of_training.tolist(), labels, strict=True)
        trained = [Answer(number_at(place), label, label, 1.0) for place, label in pairs if label >= 0]
        look = _Look(predictor, data, Library.read(place).units(run.plan()), place.folder, _said_by_tables(place))
        evidence = Evidence(
            predictor,
            run.plan(),
            data.pixels,
            (yield from look.at(mistakes, len(wrong), "looking at every mistake")),
            (yield from look.at(_few(right, MOST_RIGHT), len(right), "looking at right answers")),
            (yield from look.at(_few(trained, MOST_TRAINING), len(trained), "looking at training images")),
            tuple((yield from _groups(Probe(predictor), method, data, mistakes))),
            len(scores.answers),
            _Covered(data, known_outlines(place), model.preprocessor.settings),
        )
        found_causes = yield from find_causes(evidence)
    groups = tuple(_told(cause, evidence, mistakes) for cause in found_causes)
    result = CausesFound(request.run, request.on, len(mistakes), groups)
    if key == _key(place, run, request.on, request.method):  # else somebody changed a label or an image meanwhile
        keep(file, result, key)
    return result


def known_causes(place: Workspace, run: Run) -> tuple[Cause, ...]:
    """Those that were looked for by the usual method, and hold still."""
    groups: list[Cause] = []
    for on in SETS:
        if _file(run, on).exists():
            known = stored(_file(run, on), CausesFound, _key(place, run, on, QUICK))
            groups += known.groups if known is not None else ()
    return tuple(groups)


def _file(run: Run, on: str) -> Path:
    return run.folder / f"causes-{on}{run.of_label}.npz"


def _key(place: Workspace, run: Run, on: str, method: MapSettings) -> str:
    split = collection(place, run.plan(), run)
    settings = read_model(run.model).preprocessor.settings
    beside = sorted(Library.read(place).columns.items()), repr(known_outlines(place))
    return key_of("causes", run.model, fingerprint_of(place, split, settings), on, method.write_kind(), beside)


def _few(things: Sequence[T], most: int) -> Sequence[T]:
    """Drawn by lot, in their order; all if there are no more."""
    return [things[k] for k in some_of(len(things), most, "images to compare with")]


def _groups(probe: Probe, method: MapMethod, data: Data, mistakes: Sequence[Answer]) -> Job[list[Group]]:
    """The mistakes by what their maps for *said* rest on."""
    layer = probe.network.plan.nodes[-1].after[0]
    maps, features = [], []
    for number, answer in enumerate(mistakes):
        if number % 8 == 0:
            yield Progress(number, len(mistakes), "explaining every mistake")
        image = probe.predictor.prepare(data.pixels[data.place(answer.image)][None])[0]
        maps.append(method.maps(probe, image, probe.against_next(image, answer.predicted))[0])
        features.append(probe.outputs(layer, image[None])[0].reshape(-1))
    return grouped(np.stack(maps), np.stack(features))


class _Covered(Mapping[int, NDArray[np.float32]]):
    """Where the objects are in the images with outlines, by row; made when it is asked for."""

    def __init__(self, data: Data, outlines: Mapping[int, Outline], settings: Preprocessing) -> None:
        self._rows, self._outlines, self._settings = data.collection.rows, outlines, settings

    def __getitem__(self, row: int) -> NDArray[np.float32]:
        of_image = self._rows[row]
        return covered_at(of_image, self._outlines[of_image.number], self._settings)

    def __iter__(self) -> Iterator[int]:
        return (place_of(image) for image in self._outlines)

    def __len__(self) -> int:
        return len(self._outlines)

    def __contains__(self, row: object) -> bool:
        return isinstance(row, int) and number_at(row) in self._outlines


@dataclass(frozen=True)
class _Look:
    """What all images are looked at with: a model, the images, a number for what belongs together, the workspace."""

    predictor: Predictor
    data: Data
    units: NDArray[np.int64]
    place: Path
    tables: Mapping[int, tuple[str, ...]]

    def at(self, answers: Sequence[Answer], total: int, doing: str) -> Job[Answered]:
        """Some images that stand for so many; training images are taken as answered rightly."""
        rows = np.array([self.data.place(answer.image) for answer in answers], np.int64)
        catalogue, classes = self.data.collection.rows, self.data.collection.classes
        sizes = np.array([[catalogue[k].height, catalogue[k].width] for k in rows], np.int64).reshape(-1, 2)
        statistics: list[Array] = []
        measures: dict[str, list[NDArray[np.float64]]] = {}
        origins: list[tuple[str, ...]] = []
        for first in range(0, len(rows), AT_ONCE):
            yield Progress(first, len(rows), doing)
            part = slice(first, first + AT_ONCE)
            pixels = np.asarray(self.data.pixels[rows[part]])
            statistics.append(channel_statistics(self.predictor, self.predictor.prepare(pixels)))
            for word, values in measured(pixels, sizes[part]).items():
                measures.setdefault(word, []).append(values)
            for row in (catalogue[k] for k in rows[part]):
                tables = self.tables.get(row.number, ())
                origins.append((*origin_in_words(row, classes[row.label], self.place), *tables))
        return Answered(
            rows,
            self.data.labels[rows],
            np.array([answer.predicted for answer in answers], np.int64),
            np.array([answer.probability for answer in answers], np.float64),
            sizes,
            tuple(origins),
            self.units[rows],
            np.concatenate(statistics) if statistics else np.zeros((0, 1), np.float32),
            {word: np.concatenate(measures.get(word, [np.zeros(0)])) for word in MEASURES},
            total,
        )


def _said_by_tables(place: Workspace) -> dict[int, tuple[str, ...]]:
    """What the columns of tables say of each image, by its number, where they say the same of several."""
    result: dict[int, tuple[str, ...]] = {}
    for name, words in Library.read(place).columns.items():
        if len(set(words.values())) <= len(words) / OF_ONE_WORD:
            for image, word in words.items():
                result[image] = (*result.get(image, ()), f"{name} «{word}»")
    return result


def origin_in_words(row: ImageRow, name: str, workspace: Path) -> tuple[str, ...]:
    """Parts of the source an image is from: folders that are no class and no set, camera, format, what names share."""
    words = [f"source {row.origin}", f"files of {row.width}×{row.height} pixels", f"{row.mode} files"]
    path = PurePath(row.file)
    folders = [part for part in path.parts[:-1] if part != name and part.lower() not in SET_WORDS]
    words += [f"the folder {part}" for part in dict.fromkeys(folders)]
    if row.index >= 0:
        return (*words, f"{path.name}, {row.part}")
    parts = [part for part in re.split(r"[\W_]+|(?<=\D)(?=\d)", path.stem) if part]
    if taken_with := camera(workspace / row.file):
        words.append(f"the camera {shown(taken_with)}")
    words.append(f"{path.suffix.lstrip('.').upper() or 'nameless'} files")
    if len(parts) > 1:
        words += [f"names that begin with «{parts[0]}»", f"names that end with «{parts[-1]}»"]
    if len(parts) > 2:
        words.append(f"names that begin with «{path.stem[: path.stem.index(parts[1]) + len(parts[1])]}»")
    return tuple(words)


def _told(cause: CauseFound, evidence: Evidence, mistakes: Sequence[Answer]) -> Cause:
    classes = evidence.classes
    members = [mistakes[k] for k in cause.members]
    group = cause.group
    predicted = Counter(classes[answer.predicted] for answer in members)
    return Cause(
        cause.kind,
        cause.short,
        tuple(answer.image for answer in members),
        dict(sorted(predicted.items())),
        cause.why,
        cause.remedy,
        cause.figures,
        None if cause.plan is None or len(members) < PROVABLE else cause.plan.write(),
        None if group is None else CausePlace(group.row, group.column, group.focus, group.gathered, group.typical),
        len(members) / len(mistakes),
        remedies_of(cause, evidence),
    )
