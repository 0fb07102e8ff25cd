"""The loop in six steps, for whoever goes round it the first time: which there are, and which were done here."""

from __future__ import annotations

from collections.abc import Collection, Mapping
from dataclasses import dataclass

from attentive_lens.desk.requests.cases import CasesTried, TryCases
from attentive_lens.desk.requests.images import FindFaults
from attentive_lens.desk.training.cautions import judged_by_test
from attentive_lens.desk.training.runs import RunView
from attentive_lens.errors import LensError
from attentive_lens.workspace import Workspace
from attentive_lens.workspace.cases import CaseBook

ANSWER_KEY = "answer-key"
"""Beside the images of a demo."""
PROVED = "fixed"


@dataclass(frozen=True)
class Step:
    """One of the steps.

    Attributes
    ----------
    word : str
        In a row of such.
    sentence : str
        What to do, by the names of the controls.
    stage, view : str
        Where that is; without a view the stage alone.
    """

    word: str
    sentence: str
    stage: str
    view: str = ""


STEPS: dict[str, Step] = {
    "look": Step(
        "Look",
        "Look through the images, then press «Look for faults» at the left: every image is compared with every other."
        " One of the findings is a question. Keep it in mind.",
        "images",
        "pictures",
    ),
    "train": Step(
        "Train",
        "Press «Start training» at the top right: the plan beside the curves is trained as it is, in about a minute."
        " The stages stay usable, and the run goes on if you close the window.",
        "training",
    ),
    "find": Step(
        "Find",
        "How good is it? Choose «test» at the top, beside «validation». Then look at where the mistakes stand in the"
        " matrix; a click on a cell shows its images.",
        "results",
        "matrix",
    ),
    "explain": Step(
        "Explain",
        "Choose a mistake at the left and see what the answer rests on. With Shift draw a region over it: covered,"
        " what is said then? Press C, «Open a case», to keep the image for every later run.",
        "explain",
        "image",
    ),
    "act": Step(
        "Act",
        "«Causes», at the right, asks the same of every mistake and says what can be done. Take a remedy into the next"
        " run's plan, and train it.",
        "explain",
        "causes",
    ),
    "prove": Step(
        "Prove",
        "Another seed alone may have mended it. Under «All runs» choose the first run and press «Repeat»; when that is"
        " trained, look into the case book of the Explain stage: is the case fixed?",
        "training",
        "all runs",
    ),
}


def is_offered(workspace: Workspace) -> bool:
    """Whether it is a demo."""
    return (workspace.folder / ANSWER_KEY).is_dir()


def heard(request: object, result: object) -> str:
    """The step that an answer of the worker shows to be done; empty for any other."""
    if isinstance(request, FindFaults):
        return "look"
    if isinstance(request, TryCases) and isinstance(result, CasesTried) and result.by_status.get(PROVED):
        return "prove"
    return ""


def done(
    workspace: Workspace, runs: Mapping[int, RunView], book: CaseBook, remembered: Collection[str]
) -> frozenset[str]:
    """The steps that were done, as the workspace tells, and what is remembered of the others.

    Parameters
    ----------
    runs : mapping
        By number.
    remembered : collection of str
        Steps that leave no trace there, of which `heard` told.
    """
    trained = [number for number, view in runs.items() if view.state == "done"]
    result = set(remembered) & {"look", "prove"}
    if trained:
        result.add("train")
    if judged_by_test(workspace):
        result.add("find")
    if book.cases:
        result.add("explain")
        first = min(case.run for case in book.cases)
        if any(_differs(workspace, first, number) for number in trained if number > first):
            result.add("act")
    return frozenset(result)


def next_step(steps: Collection[str]) -> str:
    """The first that was not done; the last one when all were."""
    return next((key for key in STEPS if key not in steps), "prove")


def _differs(workspace: Workspace, one: int, other: int) -> bool:
    """Whether two runs have plans that differ in more than name and seed; no if one is gone."""
    try:
        return not workspace.run(one).plan().is_like(workspace.run(other).plan())
    except LensError:
        return False
