"""The task that weighs what mistakes cost."""

from __future__ import annotations

from pathlib import Path

import numpy as np

from attentive_lens.core.jobs import Job
from attentive_lens.core.numbering import place_of
from attentive_lens.desk.images.collection import Library
from attentive_lens.desk.requests.costs import CostsWeighed, DecidedOtherwise, WeighCosts
from attentive_lens.desk.requests.models import Score
from attentive_lens.desk.results.cost_tables import read_costs
from attentive_lens.desk.tasks.scoring import score
from attentive_lens.errors import BadValue, LensError
from attentive_lens.scoring.costs import Cost, at_temperature
from attentive_lens.workspace import Workspace


def weigh_costs(request: WeighCosts) -> Job[CostsWeighed]:
    """See `WeighCosts`; the temperature is fitted on the validation set, whatever set is weighed."""
    place = Workspace.open(Path(request.workspace))
    scores = yield from score(Score(request.workspace, request.run, request.on))
    if scores.output not in ("softmax", "one sigmoid"):
        why = f"its answers are made by «{scores.output}» and are no probabilities of one class among all"
        raise BadValue(f"Costs of run {request.run} were not weighed", why, "Train with cross-entropy")
    table = read_costs(Path(request.table), scores.classes)
    try:
        temperature = (yield from score(Score(request.workspace, request.run, "validation"))).temperature
    except LensError:
        temperature = None  # there is no validation set: answers are taken as they are
    probabilities = at_temperature(scores.probabilities, temperature or 1.0)
    groups = Library.read(place).units(place.run(request.run).plan())[place_of(scores.numbers)]
    decided = table.least(probabilities)
    before, after = table.of(scores.true, scores.predicted), table.of(scores.true, decided)
    constant = np.bincount(scores.true, minlength=len(scores.classes)) @ table.costs / len(scores.true)
    best = int(constant.argmin())
    changed = np.flatnonzero(decided != scores.predicted)
    otherwise = [
        DecidedOtherwise(
            int(scores.numbers[k]),
            scores.classes[scores.true[k]],
            scores.classes[scores.predicted[k]],
            table.decisions[decided[k]],
            float(before[k]),
            float(after[k]),
        )
        for k in changed[np.argsort(after[changed] - before[changed], kind="stable")].tolist()
    ]
    return CostsWeighed(
        request.run,
        request.on,
        Path(request.table).name,
        len(scores.true),
        scores.classes,
        table.decisions,
        table.costs,
        temperature,
        Cost.of(before, groups),
        Cost.of(after, groups),
        Cost.of(before - after, groups),
        table.decisions[best],
        float(constant[best]),
        scores.numbers,
        scores.true,
        decided,
        tuple(otherwise),
    )
