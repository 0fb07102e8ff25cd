"""Keeping images together in one set of the split, and telling what that moves."""

from __future__ import annotations

from collections import Counter
from collections.abc import Sequence

from attentive_lens.desk.images.collection import Collection, collection
from attentive_lens.images.split import SETS
from attentive_lens.plan.plan import Plan
from attentive_lens.workspace import Workspace

FAR = 0.05
"""How far a class's part in the validation set may be from the part that was asked before it is told."""


def keep_together(workspace: Workspace, plan: Plan, groups: Sequence[Sequence[int]]) -> str:
    """Note groups of images, by number, that the split is to keep in one set; what that moves, in a sentence.

    Raises
    ------
    BadFile
        If the workspace cannot be written.
    """
    workspace.check_writable("The groups were not kept")
    before = collection(workspace, plan)
    known = workspace.catalogue.copies()
    first = max(known.values(), default=0) + 1
    new = {image: number for number, group in enumerate(groups, first) for image in group}
    workspace.catalogue.keep_copies({**known, **new})
    if plan.split.keep_together != "copies":
        return "They are noted. This plan's split does not keep copies together: set «keep together» to copies"
    return what_moves(before, collection(workspace, plan), plan)


def what_moves(before: Collection, after: Collection, plan: Plan) -> str:
    """How images move from set to set between two splits of one collection, and where a class's part is off."""
    moves = Counter((old, new) for old, new in zip(before.sets, after.sets, strict=True) if old != new)
    if not moves:
        words = "No image moves to another set"
    else:
        each = [
            f"{count} from {old} to {new}" for (old, new), count in sorted(moves.items(), key=lambda move: -move[1])
        ]
        words = f"Images that move to another set: {', '.join(each)}"
    fraction = 1 / plan.split.folds if plan.split.folds > 1 else plan.split.validation_fraction
    far = []
    for label, name in enumerate(after.classes):
        held, whole = after.count("validation", label), sum(after.count(move, label) for move in SETS[:2])
        if whole and fraction and abs(held / whole - fraction) > FAR and abs(held - fraction * whole) > 1:
            far.append(f"{name} {held / whole:.0%}")
    if far and "validation" not in {row.given_set for row in after.rows}:
        shown = ", ".join(far[:5]) + (f" and {len(far) - 5} more" if len(far) > 5 else "")
        words += f". Not {fraction:.0%} of these can be validated on, for their groups are large: {shown}"
    return words
