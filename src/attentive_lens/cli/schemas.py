"""What the commands print with ``--json``: the table of all results, from which the schema is made."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

from attentive_lens.cli.entry import requests_asked
from attentive_lens.cli.example_results import DemoMade, ExampleDone
from attentive_lens.cli.explaining.explaining_results import (
    ActivityTold,
    ClassesWritten,
    CommonCauses,
    Explained,
    LayerWritten,
    NumbersWritten,
)
from attentive_lens.cli.images.image_results import (
    Added,
    Faults,
    Labelled,
    NewWorkspace,
    Rescanned,
    Restored,
    SourceMoved,
)
from attentive_lens.cli.results.answer_results import AnswersWritten, Mapped, ScoresOfRun, ServerBegun
from attentive_lens.cli.training.plan_results import PlanChecked, PlanKeys, PlansCompared, PlanShown, PlanWritten
from attentive_lens.cli.training.run_results import (
    Advised,
    CrossValidated,
    RunEnded,
    RunQueued,
    RunsInBin,
    RunWatched,
    Steered,
    SweepDone,
)
from attentive_lens.core.records import PlainTable, schema
from attentive_lens.desk.about import About
from attentive_lens.desk.measuring.results import Measured
from attentive_lens.desk.requests.cases import CasesTried
from attentive_lens.desk.requests.inspecting import Tried
from attentive_lens.desk.requests.models import Prediction, Unreadable
from attentive_lens.desk.requests.numbers import WeightsWritten
from attentive_lens.desk.requests.verifying import Verified
from attentive_lens.desk.results.comparing import RunsCompared, RunsTable, Spread
from attentive_lens.scoring.labels import LabelScores


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
    "score": (ScoresOfRun, LabelScores),
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
    "serve": (ServerBegun,),
    "watch-folder": (Prediction, Unreadable),
    "measure": (Measured,),
    "about": (About,),
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
