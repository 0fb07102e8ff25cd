"""What is asked about: an image as a model answers it, one of a workspace or any other file."""

from __future__ import annotations

from dataclasses import dataclass
from typing import TypeAlias

from attentive_lens.core.numbering import ImageNumber


@dataclass(frozen=True)
class RunImage:
    """An image of a workspace by its number, answered by the best model of one of its runs."""

    workspace: str
    run: int
    image: ImageNumber


@dataclass(frozen=True)
class FileImage:
    """An image file that no workspace knows, answered by a model file or by the best model of a run.

    It has no label; the class ``against`` takes its place, if one is named. Of a model file that answers several labels
    ``label`` is the one that is asked about. What needs other images (neighbours, a baseline, an image mixed in) takes
    them from the run's workspace, and is refused where only a model file is named.
    """

    file: str
    model: str = ""
    workspace: str = ""
    run: int = 0
    against: str = ""
    label: str = ""


Subject: TypeAlias = RunImage | FileImage
"""Whoever explains, changes, maps or compares an image takes one of these."""
