"""The request that tries all cases again with every run's model."""

from __future__ import annotations

from dataclasses import dataclass
from typing import ClassVar

from attentive_lens.desk.case_status import RunAnswer
from attentive_lens.desk.requests.base import Request
from attentive_lens.workspace.cases import Case


@dataclass(frozen=True)
class CaseTried:
    """A case, and what became of it.

    Attributes
    ----------
    case : Case
        As it stands in the book.
    label : str or None
        The class on the image's label now; None if the image is gone.
    set : str
        The set it is in now, as the run it was opened in has it.
    status, words : str
        One of `STATUSES`, and the evidence in a sentence.
    answers : tuple of RunAnswer
        Of every run with a model that knows the class, by number.
    """

    case: Case
    label: str | None
    set: str
    status: str
    words: str
    answers: tuple[RunAnswer, ...]


@dataclass(frozen=True)
class CasesTried:
    """All cases, and how many there are of each status and of each cause."""

    cases: tuple[CaseTried, ...]
    by_status: dict[str, int]
    by_cause: dict[str, int]


@dataclass(frozen=True)
class TryCases(Request[CasesTried]):
    """Ask every run's best model about the image of every case."""

    result: ClassVar[type[object]] = CasesTried
    task: ClassVar[str] = "cases.try_cases"
    workspace: str
