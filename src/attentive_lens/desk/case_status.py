"""What became of a case in later runs: fixed, still wrong, newly broken, and how far that can be said."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

from attentive_lens.workspace.cases import Case

STATUSES = (
    "fixed",
    "right, not proved",
    "no better than unchanged",
    "still wrong",
    "newly broken",
    "not re-tried",
    "settled by its label",
    "excluded",
    "gone",
)
"""Of a case, as later runs have it."""


@dataclass(frozen=True)
class RunAnswer:
    """What a run's best model says of a case's image.

    Attributes
    ----------
    run : int
        Its number.
    plan : str
        A key of its plan but for seed and name: runs with the same one differ in the seed alone.
    predicted : str
        The class.
    probability : float
        Of it.
    right : bool
        By the label that the image has now.
    """

    run: int
    plan: str
    predicted: str
    probability: float
    right: bool


@dataclass(frozen=True)
class Status:
    """One of `STATUSES`, and the evidence in a sentence."""

    word: str
    words: str


def status_of(case: Case, answers: Sequence[RunAnswer], label: str | None, is_used: bool) -> Status:
    """What became of a case.

    *Fixed* is right in most of the runs of the latest other plan, whatever their seeds, and more often than in runs of
    the unchanged plan that were trained again; the run in which the case was opened counts for neither, for it was
    chosen by its answer.

    Parameters
    ----------
    case : Case
        As it was opened.
    answers : sequence of RunAnswer
        Of all runs with a model, by number.
    label : str or None
        The class on the label now; None if the image is gone.
    is_used : bool
        Whether it is in a set.
    """
    if label is None:
        return Status("gone", "Its file is gone: put it back, and rescan the source.")
    if not is_used:
        return Status("excluded", "It was excluded since: no later run is judged by it.")
    if label != case.true and label == case.predicted:
        return Status("settled by its label", f"Its label is {label} now, as was said: the label was wrong.")
    was_right = case.predicted == case.true
    first = next((answer for answer in answers if answer.run == case.run), None)
    later = [answer for answer in answers if answer.run > case.run]
    if not later:
        return Status("not re-tried", "No run was trained since.")
    unchanged = [a for a in later if first is not None and a.plan == first.plan]
    changed = [a for a in later if first is None or a.plan != first.plan]
    control = _told(unchanged, "the unchanged plan trained again") if unchanged else ""
    if not changed:
        wrong = _share(unchanged) <= 0.5
        word = ("newly broken" if was_right else "still wrong") if wrong else "right, not proved"
        return Status(word, f"Only seeds were changed: {control}.")
    latest = max(changed, key=lambda a: a.run).plan
    tried = [a for a in changed if a.plan == latest]
    what = _told(tried, f"the plan of run {tried[-1].run}")
    both = f"{what}; {control}." if control else f"{what}."
    if _share(tried) <= 0.5:
        return Status("newly broken" if was_right else "still wrong", both)
    if not unchanged:
        return Status("right, not proved", f"{what}. The unchanged plan was not trained again: repeat it to compare.")
    if _share(tried) > _share(unchanged):
        return Status("fixed", both)
    return Status("no better than unchanged", both)


def _share(answers: Sequence[RunAnswer]) -> float:
    return sum(answer.right for answer in answers) / len(answers)


def _told(answers: Sequence[RunAnswer], what: str) -> str:
    right = sum(answer.right for answer in answers)
    return f"right in {right} of {len(answers)} runs of {what}"
