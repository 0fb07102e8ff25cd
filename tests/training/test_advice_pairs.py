"""What is advised of adversarial pairs, by their figures."""

from __future__ import annotations

import pytest

from attentive_lens.plan.layers import Resampling, TransposedConvolution
from attentive_lens.plan.plan import Plan
from attentive_lens.training.advice import OF_PAIRS, Finding, Record, advise
from attentive_lens.training.figures import Figures
from attentive_lens.training.journal import EpochEvent

PLAN = Plan().changed(
    {"network": "generator, by class", "preprocessing.input_size": 16, "task.spectral_normalisation": False}
)
HEALTHY = {"told_apart": 0.8, "real_right": 0.8, "drawn_right": 0.85, "variety": 0.9, "grid": 0.02, "at_limit": 0.03}


def advised(epochs: int = 12, plan: Plan = PLAN, state: str = "done", **figures: float) -> dict[str, Finding]:
    parts = {"discriminator_loss": 1.0, **HEALTHY, **figures}
    rows = [EpochEvent(k + 1, Figures(1.0, more=parts), Figures(1.0, more=parts), True) for k in range(epochs)]
    return {finding.kind: finding for finding in advise(Record(plan, tuple(rows), state))}


def test_nothing_is_said_of_a_pair_that_is_well_or_young() -> None:
    assert advised() == {}
    assert advised(4, variety=0.0, told_apart=1.0, grid=1.0, at_limit=1.0) == {}
    assert advised(12, told_apart=1.0, state="training", plan=PLAN.changed({"training.epochs": 60})) == {}


def test_a_discriminator_that_has_won_is_smoothed_then_slowed() -> None:
    won = {"told_apart": 0.999}
    first = advised(state="training", **won)
    assert first.keys() == {"one side has won"}
    plan = first["one side has won"].plan
    assert plan == PLAN.changed({"task.spectral_normalisation": True})
    assert "99.9%" in first["one side has won"].evidence
    second = advised(plan=PLAN.changed({"task.spectral_normalisation": True, "task.discriminator_steps": 3}), **won)
    assert second["one side has won"].plan == PLAN.changed(
        {"task.spectral_normalisation": True, "task.discriminator_steps": 2}
    )
    assert plan is not None
    third = advised(plan=plan, **won)["one side has won"].plan
    assert third is not None
    assert third.discriminator_optimiser.learning_rate == plan.discriminator_optimiser.learning_rate / 2
    assert advised(told_apart=0.994, real_right=1.0, drawn_right=1.0) == {}


def test_a_generator_that_has_won_meets_a_discriminator_that_learns_more() -> None:
    result = advised(told_apart=0.51, variety=0.1)
    assert result.keys() == {"one side has won"}  # which is why drawings are alike
    plan = result["one side has won"].plan
    assert plan == PLAN.changed({"task.discriminator_steps": 2})
    assert advised(told_apart=0.53, real_right=0.9, drawn_right=0.0) == {}


def test_drawings_alike_are_named_once_the_run_is_over() -> None:
    assert advised(variety=0.2, state="training") == {}
    result = advised(variety=0.2)
    assert result.keys() == {"drawings alike"}
    first = result["drawings alike"].plan
    assert first == PLAN.changed({"task.spectral_normalisation": True})
    assert first is not None
    second = advised(variety=0.2, plan=first)["drawings alike"].plan
    assert second is not None
    assert second.training.epochs == 2 * PLAN.training.epochs
    assert second.optimiser.learning_rate == PLAN.optimiser.learning_rate / 2
    assert advised(variety=0.41) == {}


def test_squares_are_undone_by_repeated_pixels_that_draw_the_same_size() -> None:
    result = advised(grid=0.3)
    assert result.keys() == {"squares from the stride"}
    plan = result["squares from the stride"].plan
    assert plan is not None
    kinds = [type(node.layer) for node in plan.network.nodes]
    assert TransposedConvolution not in kinds
    before = [type(node.layer) for node in PLAN.network.nodes]
    assert kinds.count(Resampling) == before.count(TransposedConvolution) > 0
    assert plan.network_for(3).facts(plan.preprocessing.shape)[-1].shape == (1,)
    assert advised(grid=0.3, plan=plan)["squares from the stride"].plan is None
    assert advised(grid=0.09) == {}


def test_values_at_their_limit_ask_for_smaller_steps_of_the_generator() -> None:
    plan = advised(at_limit=0.3)["values at their limit"].plan
    assert plan == PLAN.changed({"optimiser.learning_rate": PLAN.optimiser.learning_rate / 2})
    assert advised(at_limit=0.19) == {}


@pytest.mark.parametrize("kind", OF_PAIRS)
def test_what_is_advised_says_why_and_what_to_do(kind: str) -> None:
    bad = {"one side has won": {"told_apart": 1.0}, "drawings alike": {"variety": 0.0},
           "squares from the stride": {"grid": 1.0}, "values at their limit": {"at_limit": 1.0}}[kind]  # fmt: skip
    finding = advised(**bad)[kind]
    for words in (finding.meaning, finding.remedy, finding.expected):
        assert words.endswith(".")
    assert finding.plan is not None
    assert finding.plan != PLAN
