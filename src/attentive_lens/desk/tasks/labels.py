"""Tasks about several labels for one image."""

from __future__ import annotations

from pathlib import Path

import numpy as np
from numpy.typing import NDArray

from attentive_lens.core.jobs import Job
from attentive_lens.core.numbering import place_of
from attentive_lens.core.values import unknown_word
from attentive_lens.desk.images.collection import Library
from attentive_lens.desk.requests.labels import (
    ChooseThresholds,
    LabelThreshold,
    ScoreLabels,
    ThresholdsChosen,
    ThresholdsWorth,
)
from attentive_lens.desk.results.labels import choose_on_validation, label_answers
from attentive_lens.errors import NotHere
from attentive_lens.plan.labels import HALF
from attentive_lens.scoring.labels import LabelScores, label_scores
from attentive_lens.scoring.thresholds import (
    ThresholdRule,
    cost_of,
    f1_of,
    mean_known,
    on_other_images,
    precision_of,
    recall_of,
)
from attentive_lens.workspace import Workspace
from attentive_lens.workspace.thresholds import thresholds_of


def score_labels(request: ScoreLabels) -> Job[LabelScores]:
    """See `ScoreLabels`."""
    place = Workspace.open(Path(request.workspace))
    run = place.run(request.run).whole
    answers = yield from label_answers(place, run, request.on)
    known = thresholds_of(run)
    values, by = zip(*((known[name].value, known[name].by) for name in answers.labels), strict=True)
    units = Library.read(place).units(run.plan(), copies=True)[place_of(answers.numbers)]
    return label_scores(int(run.number), answers, values, by, units)


def choose_thresholds(request: ChooseThresholds) -> Job[ThresholdsChosen]:
    """See `ChooseThresholds`."""
    place = Workspace.open(Path(request.workspace))
    run = place.run(request.run).whole
    answers = yield from label_answers(place, run, "validation")
    for name in request.labels:
        if name not in answers.labels:
            raise unknown_word("label", name, frozenset(answers.labels))
    if request.by:
        place.check_writable("The thresholds were not kept")
        if not (yield from choose_on_validation(place, run, request.rule, request.labels)):
            raise NotHere("There is no validation set", "thresholds are chosen on it", "Hold some images out")
    known, there = thresholds_of(run), answers.there.astype(bool)
    rule = request.rule if request.by else ThresholdRule()
    said = on_other_images(answers.probabilities, there, rule)
    labels = tuple(
        LabelThreshold(name, known[name].value, known[name].by, int(there[:, k].sum()))
        for k, name in enumerate(answers.labels)
    )
    worth, half = (_worth(each, there, rule) for each in (said, answers.probabilities > HALF))
    return ThresholdsChosen(int(run.number), len(there), labels, rule.words, worth, half)


def _worth(said: NDArray[np.bool_], there: NDArray[np.bool_], rule: ThresholdRule) -> ThresholdsWorth:
    macro_f1 = mean_known(f1_of(said, there))
    return ThresholdsWorth(macro_f1, precision_of(said, there), recall_of(said, there), cost_of(said, there, rule))
