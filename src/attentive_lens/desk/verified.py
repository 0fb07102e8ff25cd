"""What came of checking a model, in words."""

from __future__ import annotations

from attentive_lens.desk.requests.verifying import Verified


def verified_in_words(told: Verified) -> str:
    """One or two sentences."""
    figures = f"accuracy {told.accuracy!r}, loss {told.loss!r}"
    if not told.kept:
        return f"There were no scores of {told.on} to compare with; now there are: {figures}."
    if told.same:
        return f"The model, read anew, gives the same {told.images} answers of {told.on} to the last bit: {figures}."
    return (
        f"{told.differ} of {told.images} answers of {told.on} differ, by {told.most:.2g} at most: {figures}, before"
        f" accuracy {told.kept_accuracy!r}, loss {told.kept_loss!r}. The file or the libraries of this machine changed."
    )
