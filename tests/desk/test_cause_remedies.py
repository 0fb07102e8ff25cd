"""What is offered against a cause, and from how many mistakes on."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
import pytest
from tests.explaining.made_up import TRAINING, Plot

from attentive_lens.desk.explaining.cause_remedies import PROVABLE, remedies_of
from attentive_lens.explaining.causes import CauseFound
from attentive_lens.plan.plan import Plan


def cause_of(count: int, kind: str) -> CauseFound:
    plan = Plan().changed({"training.epochs": 7}) if kind == "quality" else None
    return CauseFound(kind, "are so", tuple(range(count)), "Why.", "What to do", {"mended": 1.0}, plan)


@pytest.mark.parametrize("kind", ["quality", "other"])
def test_a_group_too_small_to_prove_anything_gets_no_plan(kind: str) -> None:
    plot = Plot()
    plot.sizes[:] = (400, 400)
    plot.true[: TRAINING // 2] = 2
    evidence = replace(plot.evidence(), training=plot.of(np.arange(TRAINING)))
    for count in (1, PROVABLE - 1, PROVABLE, 12):
        offered = remedies_of(cause_of(count, kind), evidence)
        planned = [remedy.kind for remedy in offered if remedy.plan is not None]
        assert bool(planned) == (count >= PROVABLE), (count, planned)
        assert "collect" in {remedy.kind for remedy in offered}, "what costs no training is offered all the same"
