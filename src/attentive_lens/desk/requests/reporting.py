"""The request for a report of a run."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from typing import ClassVar

from attentive_lens.core.values import spec
from attentive_lens.desk.requests.base import Request


@dataclass(frozen=True)
class ReportWritten:
    """A report: its file, bytes, and how many mistakes, causes and cases it shows."""

    file: str
    bytes: int
    mistakes: int
    causes: int
    cases: int

    def words(self) -> Iterator[str]:
        """Where it is, and what it holds."""
        held = f"{self.mistakes} mistakes, {self.causes} causes, {self.cases} cases"
        yield f"{self.file}: {held}, {self.bytes / 1e6:.1f} MB"


@dataclass(frozen=True)
class WriteReport(Request[ReportWritten]):
    """Write a run's report: one HTML file with plan, curves, scores, mistakes, causes and cases."""

    result: ClassVar[type[object]] = ReportWritten
    task: ClassVar[str] = "reporting.write_report"
    doing: ClassVar[str] = "writing the report"
    workspace: str
    run: int
    file: str = spec("", meaning="Where it goes; report-RUN.html here if left out.")
    on: str = "validation"
    mistakes: int = spec(8, low=0, high=100, meaning="The surest mistakes that are shown with their maps.")
    causes: bool = spec(True, meaning="Whether to look for what all mistakes come from.")
