"""Requests about parts of a set."""

from __future__ import annotations

from dataclasses import dataclass
from typing import ClassVar

from attentive_lens.desk.requests.base import Request
from attentive_lens.scoring.slices import Slice


@dataclass(frozen=True)
class SlicesFound:
    """Every slice with enough images, the least likely by chance first."""

    slices: tuple[Slice, ...]


@dataclass(frozen=True)
class FindSlices(Request[SlicesFound]):
    """Parts of a set by brightness, contrast, sharpness, size, shape, folder and format, and how a run does on them."""

    result: ClassVar[type[object]] = SlicesFound
    task: ClassVar[str] = "slicing.find_slices"
    workspace: str
    run: int
    on: str = "validation"
