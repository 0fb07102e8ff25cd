"""The thresholds that a run which answers several labels has from its end on, until somebody chooses others."""

from __future__ import annotations

import numpy as np

from attentive_lens.core.jobs import Job, Progress
from attentive_lens.desk.training.preparing import Setup
from attentive_lens.engine.arrays import Array
from attentive_lens.engine.threads import ThreadPool
from attentive_lens.formats.reading import read_model
from attentive_lens.predicting import Predictor
from attentive_lens.scoring.thresholds import ThresholdRule, all_chosen
from attentive_lens.workspace import Run
from attentive_lens.workspace.thresholds import Threshold, keep_thresholds

AT_ONCE = 64


def choose_first(claimed: Run, setup: Setup, thread_pool: ThreadPool) -> Job[None]:
    """Choose them by F1 on the validation images, as the best model answers these; none where there are no such."""
    images, labels = setup.held_out()
    if not len(labels):
        return
    model = read_model(claimed.model)
    predictor = Predictor.of(model, thread_pool)
    parts: list[Array] = []
    for first in range(0, len(labels), AT_ONCE):
        yield Progress(first, len(labels), "choosing thresholds")
        parts.append(predictor.answers(predictor.prepare(images[first : first + AT_ONCE])))
    there = setup.data.collection.targets(model.classes)[labels] > 0
    choices = all_chosen(np.concatenate(parts), there, ThresholdRule())
    pairs = zip(model.classes, choices, strict=True)
    keep_thresholds(claimed, {name: Threshold(each.value, each.by) for name, each in pairs})
