"""The request for how images taken later differ from those a run was judged on."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from typing import ClassVar

from attentive_lens.core.values import spec
from attentive_lens.desk.requests.base import Request
from attentive_lens.scoring.drift import Drift

BY_DAY, BY_FOLDER, TOGETHER = "day", "folder", "all"


@dataclass(frozen=True)
class DriftMeasured:
    """How images differ from a run's held-out images.

    Attributes
    ----------
    run : int
    held_out : int
        Validation images that they are compared with.
    unreadable : int
        Files that gave no image.
    parts : tuple of Drift
        By day, by folder, or all as one.
    file : str
        The chart, where one was written.
    """

    run: int
    held_out: int
    unreadable: int
    parts: tuple[Drift, ...]
    file: str = ""

    def words(self) -> Iterator[str]:
        """A line each."""
        for part in self.parts:
            yield f"{part.name}: {part.sentence}"
        if self.unreadable:
            files = "file was" if self.unreadable == 1 else "files were"
            yield f"{self.unreadable} {files} not read as images; `predict` says why."
        if self.file:
            yield f"The chart is {self.file}."


@dataclass(frozen=True)
class MeasureDrift(Request[DriftMeasured]):
    """Tell how images taken later differ from a run's held-out images, day by day or folder by folder."""

    result: ClassVar[type[object]] = DriftMeasured
    task: ClassVar[str] = "drift.measure_drift"
    doing: ClassVar[str] = "measuring drift"
    arguments: ClassVar[tuple[str, ...]] = ("places",)
    workspace: str
    run: int
    places: tuple[str, ...] = spec((), names="image_or_folder…", meaning="Image files, or folders of them.")
    by: str = spec(
        BY_DAY,
        label="by",
        choices=(BY_DAY, BY_FOLDER, TOGETHER),
        meaning="What images are told apart by: the day their files were last written, their folder, or nothing.",
    )
    file: str = spec("", names="file", meaning="Draw the chart there (.svg, .png or .pdf).")
