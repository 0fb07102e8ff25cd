"""Short work, as jobs: what the resident worker does for the window and the command line does for itself.

Each task is one function and one line in `TASKS`; it takes plain values and gives a `Result`.
"""

from __future__ import annotations

from collections.abc import Callable

from attentive_lens.desk.tasks.base import Result
from attentive_lens.desk.tasks.explaining import (
    causes,
    explain,
    explain_file,
    explain_pixels,
    filters,
    filters_of,
    trust,
)
from attentive_lens.desk.tasks.images import class_means, fits, measures, picture, prepare, preview, variants
from attentive_lens.desk.tasks.inspecting import channel, layer, neighbours, tried
from attentive_lens.desk.tasks.looking import faults
from attentive_lens.desk.tasks.models import as_scores, predict, score
from attentive_lens.plan.progress import Job

TASKS: dict[str, Callable[..., Job[Result]]] = {
    "prepare": prepare,
    "preview": preview,
    "picture": picture,
    "measures": measures,
    "class means": class_means,
    "fits": fits,
    "variants": variants,
    "faults": faults,
    "score": score,
    "explain": explain,
    "explain file": explain_file,
    "trust": trust,
    "causes": causes,
    "filters": filters,
    "layer": layer,
    "channel": channel,
    "neighbours": neighbours,
    "tried": tried,
    "predict": predict,
}

__all__ = [
    "TASKS",
    "Result",
    "as_scores",
    "causes",
    "channel",
    "class_means",
    "explain",
    "explain_file",
    "explain_pixels",
    "faults",
    "filters",
    "filters_of",
    "fits",
    "layer",
    "measures",
    "neighbours",
    "picture",
    "predict",
    "prepare",
    "preview",
    "score",
    "tried",
    "trust",
    "variants",
]
