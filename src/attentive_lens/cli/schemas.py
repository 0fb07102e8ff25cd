"""What the commands print with ``--json``: one frozen dataclass each, in one table the schema is made from."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

from attentive_lens.cli.entry import requests_asked
from attentive_lens.cli.results.answer_results import AnswersWritten, Mapped, ScoresOfRun
from attentive_lens.cli.training.plan_results import PlanChecked, PlanKeys, PlansCompared, PlanShown, PlanWritten
from attentive_lens.cli.training.run_results import (
    Advised,
    CrossValidated,
    RunEnded,
    RunQueued,
    RunsInBin,
    Steered,
    SweepDone,
)
from attentive_lens.core.records import PlainTable, schema
from attentive_lens.desk.measuring.results import Measured
from attentive_lens.desk.requests.cases import CasesTried
from attentive_lens.desk.requests.causes import Cause
from attentive_lens.desk.requests.explaining import MapSettings, MapTrust, RegionOfMap, TrustChecks
from attentive_lens.desk.requests.images import FaultAction, Skipped
from attentive_lens.desk.requests.inspecting import Tried
from attentive_lens.desk.requests.maps import PlaceTrial
from attentive_lens.desk.requests.models import Prediction, Unreadable
from attentive_lens.desk.requests.numbers import WeightsWritten
from attentive_lens.desk.requests.verifying import Verified
from attentive_lens.desk.results.comparing import RunsCompared, RunsTable, Spread
from attentive_lens.training.journal import EpochEvent


@dataclass(frozen=True)
class SmallFinding:
    """Something noticed while images were read."""

    kind: str
    text: str
    files: tuple[str, ...]


@dataclass(frozen=True)
class NewWorkspace:
    """A workspace made: images by class, files that gave none, and what was noticed."""

    workspace: str
    images: int
    classes: dict[str, int]
    skipped: tuple[Skipped, ...]
    findings: tuple[SmallFinding, ...]


@dataclass(frozen=True)
class Rescanned:
    """Numbers of the images that were added, read anew, are gone, or are back."""

    added: tuple[int, ...]
    changed: tuple[int, ...]
    gone: tuple[int, ...]
    back: tuple[int, ...]


@dataclass(frozen=True)
class SourceMoved:
    """Where the images are now, and how many of them are there."""

    workspace: str
    source: str
    present: int
    missing: int


@dataclass(frozen=True)
class Restored:
    """A catalogue restored from its copy."""

    workspace: str
    images: int
    decisions: int


@dataclass(frozen=True)
class Labelled:
    """What a table decided (null where none was read), and what was written (null where nothing was)."""

    relabelled: int | None
    moved: int | None
    flagged: int | None
    new_classes: tuple[str, ...]
    file: str | None
    images: int | None


@dataclass(frozen=True)
class Finding:
    """A fault of the collection, with the images it is about and their files."""

    kind: str
    why: str
    remedy: str
    images: tuple[int, ...]
    files: tuple[str, ...]
    groups: tuple[tuple[int, ...], ...]
    actions: tuple[FaultAction, ...]


@dataclass(frozen=True)
class Faults:
    """Faults found, files that gave no image, and what was done about the kinds named with --fix."""

    findings: tuple[Finding, ...]
    skipped: tuple[Skipped, ...]
    fixed: tuple[str, ...]


@dataclass(frozen=True)
class DemoMade:
    """The pollen station's workspace."""

    workspace: str
    images: int


@dataclass(frozen=True)
class SetFigures:
    """The same on a set of so many images."""

    images: int
    accuracy: float
    loss: float


@dataclass(frozen=True)
class MapWritten:
    """A map as an array (.npy, H×W float32) and as a picture; no trust for the difference said − true."""

    method: MapSettings
    target: str
    key: str
    file: str
    picture: str
    trust: MapTrust | None


@dataclass(frozen=True)
class NotShown:
    """A method that gives no map of this network, and why."""

    method: MapSettings
    reason: str


@dataclass(frozen=True)
class Explained:
    """An image's explanation, written down; one line for each image."""

    image: int | None
    file: str
    predicted: str
    true: str | None
    probabilities: dict[str, float]
    output: str
    regions: tuple[RegionOfMap, ...]
    maps: tuple[MapWritten, ...]
    layers_picture: str
    filters_picture: str | None
    not_shown: tuple[NotShown, ...]
    measured: tuple[TrustChecks, ...]


@dataclass(frozen=True)
class ExampleDone:
    """The full example: the run (null if it was trained before), scores by set, mistakes explained."""

    train: RunEnded | None
    scores: dict[str, SetFigures]
    explained: tuple[Explained, ...]
    results: str | None


@dataclass(frozen=True)
class RunWatched:
    """How far a run is; ``last`` is its last epoch, null before there is one."""

    run: int
    state: str
    epochs: int
    last: EpochEvent | None
    loss_function: str
    error: str
    damaged_lines: int
    relabelled: tuple[int, ...]


@dataclass(frozen=True)
class CommonCauses:
    """What the mistakes of a run on a set have in common, and the files of the remedies' plans that were written."""

    run: int
    on: str
    mistakes: int
    groups: tuple[Cause, ...]
    judged_by_test: tuple[int, ...]
    plans: tuple[str, ...]


@dataclass(frozen=True)
class Speaks:
    """A class and what a channel adds to it."""

    target: str
    adds: float


@dataclass(frozen=True)
class LayerWritten:
    """What a layer looks for, written down: pictures of patches and synthetic images, and arrays in a folder."""

    layer: str
    receptive_field: int | None
    classes: tuple[str, ...]
    images_looked_at: int
    images_in_all: int
    synthetic_channels: tuple[int, ...]
    images: tuple[tuple[int, ...], ...]
    values: tuple[tuple[float, ...], ...]
    speaks: tuple[tuple[Speaks, ...], ...]
    used: tuple[float, ...]
    patches: str
    synthetic: str
    arrays: str


@dataclass(frozen=True)
class ActivityTold:
    """How active a layer is over training images: a histogram, and by class the mean of each channel.

    Attributes
    ----------
    edges, counts : tuple
        Of the histogram's bins, and the values in each.
    mean : dict
        Class → mean of each channel; None for a class without images.
    used : tuple of float
        Part of the images in which each channel is above zero anywhere.
    """

    layer: str
    images_looked_at: int
    images_in_all: int
    edges: tuple[float, ...]
    counts: tuple[int, ...]
    mean: dict[str, tuple[float | None, ...]]
    used: tuple[float, ...]


@dataclass(frozen=True)
class NumbersWritten:
    """The raw numbers of an array: its shape, what is known of it, and the file with all of them, if one was named.

    Attributes
    ----------
    least, greatest : float
        Of its values.
    loss : float or None
        Of the image, and below it the root mean square of the array's gradient by it.
    optimiser : tuple of str
        What the optimiser remembers of it after that epoch.
    """

    layer: str
    array: str
    arrays: tuple[str, ...]
    shape: tuple[int, ...]
    least: float
    greatest: float
    loss: float | None
    gradient: float | None
    optimiser: tuple[str, ...]
    epoch: int
    file: str | None


@dataclass(frozen=True)
class ClassWritten:
    """What the right answers of a class rest on, and the pictures of it."""

    name: str
    images: tuple[int, ...]
    row: float
    column: float
    together: int
    trial: PlaceTrial | None
    words: str
    picture: str
    map: str


@dataclass(frozen=True)
class ClassesWritten:
    """What every class of a run rests on, on a set."""

    run: int
    on: str
    method: MapSettings
    classes: tuple[ClassWritten, ...]


@dataclass(frozen=True)
class ErrorSaid:
    """What happened, why, and what to do."""

    what: str
    why: str
    remedy: str


@dataclass(frozen=True)
class Failed:
    """A command that failed."""

    error: ErrorSaid


@dataclass(frozen=True)
class Added:
    """Images copied into a workspace as images of a class, and their numbers."""

    label: str
    images: tuple[int, ...]


RESULTS: dict[str, tuple[type[Any], ...]] = {
    "new": (NewWorkspace,),
    "add": (Added,),
    "rescan": (Rescanned,),
    "source": (SourceMoved,),
    "restore": (Restored,),
    "label": (Labelled,),
    "faults": (Faults,),
    "demo": (DemoMade, ExampleDone),
    "plan new": (PlanWritten,),
    "plan keys": (PlanKeys,),
    "plan check": (PlanChecked,),
    "plan show": (PlanShown,),
    "plan diff": (PlansCompared,),
    "train": (RunEnded, RunQueued),
    "watch": (RunWatched,),
    "runs": (RunsTable,),
    "bin": (RunsInBin,),
    "compare": (RunsCompared,),
    "sweep": (SweepDone,),
    "cross-validate": (CrossValidated,),
    "advise": (Advised,),
    "control": (Steered,),
    "repeat": (Spread,),
    "score": (ScoresOfRun,),
    "verify": (Verified,),
    "explain": (Explained,),
    "causes": (CommonCauses,),
    "class-maps": (ClassesWritten,),
    "cases": (CasesTried,),
    "layer": (LayerWritten,),
    "activity": (ActivityTold,),
    "numbers": (NumbersWritten, WeightsWritten),
    "map": (Mapped,),
    "try": (Tried,),
    "predict": (Prediction, Unreadable, AnswersWritten),
    "measure": (Measured,),
    "error": (Failed,),
}
"""By command that is written by hand; where there are several classes, a line is one of them."""


def results_by_command() -> dict[str, tuple[type[Any], ...]]:
    """Of all commands, and of an error: those that ask a request print its result."""
    return {**RESULTS, **{name: (request.result,) for name, request in requests_asked().items()}}


def json_schema() -> PlainTable:
    """The JSON schema (draft 7) of all of them."""
    schemas = {name: [schema(kind) for kind in kinds] for name, kinds in results_by_command().items()}
    return {
        "$schema": "http://json-schema.org/draft-07/schema#",
        "title": "What attentive-lens prints with --json",
        "description": "The last line on standard output of a command is as its name's definition here says, or as"
        " «error» says where it fails. «predict» and «explain» print one line for each image. Keys named here stay;"
        " more may be added.",
        "$defs": {
            name: variants[0] if len(variants) == 1 else {"anyOf": variants} for name, variants in schemas.items()
        },
    }
