"""What the commands about images print with ``--json``."""

from __future__ import annotations

from dataclasses import dataclass

from attentive_lens.desk.requests.images import FaultAction, Skipped


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
    """Numbers of the images that were added, read anew, are gone, or are back; tables that were not read again."""

    added: tuple[int, ...]
    changed: tuple[int, ...]
    gone: tuple[int, ...]
    back: tuple[int, ...]
    problems: tuple[str, ...]


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
class Added:
    """Images copied into a workspace as images of a class, and their numbers."""

    label: str
    images: tuple[int, ...]
