"""The label that a model file is asked about, where it answers several."""

from __future__ import annotations

from pathlib import Path


def label_named(model: Path, target: str | None) -> tuple[str, str | None]:
    """The label that is asked about, and a class to explain besides, of the one named with --for.

    Raises
    ------
    BadUsage
        If the model answers several labels and none is named.
    """
    from attentive_lens.desk.results.models import model_of, unnamed_label

    file = model_of(model)
    if not file.several:
        return "", target
    if not target:
        raise unnamed_label(str(model), file, "Name one with --for")
    return target, None
