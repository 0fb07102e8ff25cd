"""What people decided, as the plain record beside the catalogue has it."""

from __future__ import annotations

import json
from collections.abc import Mapping
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from attentive_lens.images.outlines import Outline, recorded_outline
from attentive_lens.workspace.corrections import Correction


@dataclass(frozen=True)
class Decided:
    """What the plain record says: all classes, and the last decision about each image."""

    classes: list[str]
    corrections: dict[int, Correction]


def as_recorded(correction: Correction, classes: list[str]) -> list[Any]:
    """A decision as the plain record has it: class by name, set, mark, and the outline if one was drawn."""
    label = None if correction.label is None else classes[correction.label]
    outline = [] if correction.outline is None else [correction.outline.write()]
    return [label, correction.set_name, correction.flagged, *outline]


def last_decisions(file: Path, images: int, classes: list[str], former: Mapping[str, int]) -> Decided:
    """From the plain record, in which classes stand by name, by an earlier one too; torn lines are passed over."""
    decided_last: dict[int, tuple[str | None, str | None, bool, Outline | None]] = {}
    try:
        lines = file.read_text("utf-8", errors="replace").splitlines()
    except OSError:
        return Decided(classes, {})
    for line in lines:
        try:
            decided = json.loads(line)["decided"]
            for number, (label, set_name, flagged, *outline) in decided.items():
                if 1 <= int(number) <= images:
                    drawn = recorded_outline(outline[0]) if outline else None
                    decided_last[int(number)] = (None if label is None else str(label), set_name, bool(flagged), drawn)
        except (ValueError, KeyError, TypeError, AttributeError):
            continue
    known = [*classes]
    known += [
        name
        for name in dict.fromkeys(label for label, *_ in decided_last.values() if label)
        if name not in known and name not in former
    ]
    corrections = {
        number: Correction(None if label is None else _number_of(label, known, former), set_name, flagged, outline)
        for number, (label, set_name, flagged, outline) in decided_last.items()
    }
    return Decided(known, {number: correction for number, correction in corrections.items() if correction})


def _number_of(label: str, classes: list[str], former: Mapping[str, int]) -> int:
    return classes.index(label) if label in classes else former[label]
