"""Short work, as jobs: what the resident worker does for the window, and the command line and Python do for themselves.

Each task is one function and one line in `TASKS`; it takes a request and gives the result that the request names.
"""

from __future__ import annotations

from collections.abc import Callable
from typing import Any, TypeVar

from attentive_lens.core.jobs import Job
from attentive_lens.desk.requests import table as ask
from attentive_lens.desk.tasks import (
    causes,
    explaining,
    images,
    inspecting,
    looking,
    models,
    pricing,
    probing,
    sweeping,
)

R = TypeVar("R")

# Any: each task takes its own request and gives its own result; `carry_out` says which belong together
TASKS: dict[type[ask.Request[object]], Callable[[Any], Job[Any]]] = {
    ask.Prepare: images.prepare,
    ask.Preview: images.preview,
    ask.OpenPicture: images.open_picture,
    ask.Measure: images.measure,
    ask.ClassAverages: images.class_averages,
    ask.ResizeModes: images.resize_modes,
    ask.Augment: images.augmented,
    ask.FindFaults: looking.find,
    ask.Score: models.score,
    ask.ProbeBase: probing.probe,
    ask.PricePlan: pricing.price,
    ask.SweepRates: sweeping.sweep_rates,
    ask.Predict: models.predict,
    ask.Explain: explaining.explain,
    ask.ExplainFile: explaining.explain_file,
    ask.Activations: explaining.activations,
    ask.Trust: explaining.trust,
    ask.Causes: causes.causes,
    ask.FirstFilters: explaining.filters,
    ask.FirstFiltersOf: explaining.filters_of,
    ask.Layer: inspecting.layer,
    ask.Channels: inspecting.channels,
    ask.Neighbours: inspecting.neighbours,
    ask.TryChanges: inspecting.try_changes,
}


def carry_out(request: ask.Request[R]) -> Job[R]:
    """The job that answers a request."""
    return TASKS[type(request)](request)
