"""The request for a report of a run."""

from __future__ import annotations

from dataclasses import dataclass
from typing import ClassVar

from attentive_lens.desk.requests.base import Request


@dataclass(frozen=True)
class ReportWritten:
    """A report: its file, bytes, and how many mistakes, causes and cases it shows."""

    file: str
    bytes: int
    mistakes: int
    causes: int
    cases: int


@dataclass(frozen=True)
class WriteReport(Request[ReportWritten]):
    """Write a run's report as one HTML file that needs nothing else.

    Attributes
    ----------
    file : str
        Where it goes; what is there is replaced.
    on : str
        The set whose mistakes are shown.
    mistakes : int
        The surest ones, so many, with their maps.
    causes : bool
        Whether the causes of all mistakes are looked for, which takes longest.
    """

    result: ClassVar[type[object]] = ReportWritten
    task: ClassVar[str] = "reporting.write_report"
    workspace: str
    run: int
    file: str
    on: str = "validation"
    mistakes: int = 8
    causes: bool = True
