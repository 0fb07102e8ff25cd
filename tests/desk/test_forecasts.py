"""What a remedy should gain: changes of settings, forecasts from trials, and remedies joined."""

from __future__ import annotations

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st
from tests.desk.foretelling import made

from attentive_lens.desk.remedies.changes import CHANGES
from attentive_lens.desk.remedies.forecasts import (
    ANY,
    EXPERIENCE,
    borrowed,
    forecast,
    together,
)
from attentive_lens.desk.remedies.joining import begins_alike, joined
from attentive_lens.desk.remedies.trials import better, part_of
from attentive_lens.desk.requests.remedies import Forecast
from attentive_lens.plan.plan import Plan
from attentive_lens.plan.shortening import shortened
from attentive_lens.plan.stopping import Stopping
from attentive_lens.training.figures import Figures

SIDE = 200


@pytest.mark.parametrize("kind", list(CHANGES))
def test_a_change_makes_a_sound_plan_that_differs_and_says_how(kind: str) -> None:
    change, plan = CHANGES[kind], Plan()
    other = change.make(plan, SIDE)
    assert other is not None
    assert other != plan
    assert Plan.read(other.write()) == other
    assert other.split == plan.split, "else nothing could be compared"
    assert other.seed == plan.seed
    words = change.words(other, plan)
    assert words[0].isupper()
    assert words.endswith(".")
    again = change.make(other, SIDE)
    assert again is None or again != other, "what is done is not offered again"


def test_changes_that_a_plan_has_already_are_not_offered() -> None:
    plan = Plan().changed({
        "augmentation": "none", "schedule": "cosine", "optimiser.weight_decay": 0.1, "loss.label_smoothing": 0.2,
        "averaging": "exponential moving average", "training.epochs": 300, "network": "residual",
    })  # fmt: skip
    offered = {kind for kind, change in CHANGES.items() if change.make(plan, 64) is not None}
    assert offered == {"more augmentation", "normalised blocks", "lower rate", "higher rate"}
    larger = CHANGES["larger input"].make(Plan(), 90)
    assert larger is not None
    assert larger.preprocessing.input_size == 90, "no larger than the files are"
    assert CHANGES["larger input"].make(Plan(), 70) is None
    assert CHANGES["lower rate"].make(plan.changed({"optimiser.learning_rate": 2e-5}), 64) is None


def test_a_trial_is_the_whole_run_in_small() -> None:
    plan = Plan().changed({
        "training.epochs": 40, "schedule": "step", "schedule.step_size": 12.0, "schedule.warmup_epochs": 4.0,
        "stopping.patience": 2, "stopping.minutes": 1.0,
    })  # fmt: skip
    part = part_of(plan)
    short = shortened(plan, part)
    assert part == 0.25
    assert (short.training.epochs, short.stopping) == (10, Stopping())
    assert (short.schedule.warmup_epochs, short.schedule.write()["step_size"]) == (1.0, 3.0)
    assert shortened(plan.changed({"training.epochs": 80}), part).training.epochs == 20, "twice as long as the control"
    assert part_of(plan.changed({"training.epochs": 6})) == 0.5
    assert part_of(plan.changed({"training.epochs": 2})) == 1.0


def test_better_is_in_the_direction_of_the_measure() -> None:
    one, other = Figures(1.0, 0.7, balanced_accuracy=None), Figures(0.8, 0.6, balanced_accuracy=0.5)
    assert better("accuracy", one, other) == pytest.approx(0.1)
    assert better("loss", one, other) == pytest.approx(-0.2)
    assert better("balanced_accuracy", one, other) is None


def foretold(kind: str, value: float, trial: float, control: float, images: int) -> Forecast:
    result = forecast(kind, value, Figures(1.0, trial), Figures(1.0, control), "accuracy", images, 3, 1)
    assert result is not None
    return result


@given(st.sampled_from([*EXPERIENCE, "unknown"]), st.floats(0.02, 0.98), st.floats(-0.3, 0.3), st.integers(1, 5000))
def test_a_forecast_lies_between_experience_and_what_the_trial_says(
    kind: str, control: float, gain: float, images: int
) -> None:
    trial = min(1.0, max(0.0, control + gain))
    known = EXPERIENCE.get(kind, ANY)
    result = foretold(kind, 0.4, trial, control, images)
    seen = known.mean + known.slope * (trial - control - known.trial)
    assert min(known.mean, seen) - 1e-9 <= result.gain <= max(known.mean, seen) + 1e-9
    assert result.low < result.gain < result.high
    more = foretold(kind, 0.4, trial, control, 10 * images)
    assert more.high - more.low < result.high - result.low + 1e-9, "more images, narrower limits"
    assert abs(more.gain - seen) <= abs(result.gain - seen) + 1e-9, "and more weight for the trial"


@given(st.floats(0, 1), st.floats(0, 1), st.floats(0, 1), st.integers(0, 3000))
def test_nobody_gains_more_than_there_is(value: float, trial: float, control: float, images: int) -> None:
    for kind in EXPERIENCE:
        result = foretold(kind, value, trial, control, images)
        assert result.low <= result.gain <= result.high <= 1 - value
        perfect = foretold(kind, 1.0, trial, control, images)
        assert perfect.gain == pytest.approx(0)


def test_limits_hold_four_of_five_outcomes_where_experience_is_right() -> None:
    rng, images, inside = np.random.default_rng(4), 300, 0
    known = EXPERIENCE["longer"]
    noise = np.hypot(np.sqrt(0.25 / images), 0.02)
    for _ in range(2000):
        gain = rng.normal(known.mean, known.spread)
        shown = known.trial + (gain - known.mean + rng.normal(0, known.rest)) / known.slope + rng.normal(0, noise)
        result = foretold("longer", 0.5, 0.5 + shown, 0.5, images)
        inside += result.low <= gain + rng.normal(0, noise) <= result.high
    assert inside / 2000 == pytest.approx(0.8, abs=0.03)


def test_a_measure_that_is_not_known_gives_no_forecast() -> None:
    one = Figures(1.0, 0.5)
    assert forecast("longer", 0.5, one, one, "balanced_accuracy", 100, 3, 1) is None


def test_what_is_borrowed_or_joined_is_less_and_less_sure() -> None:
    one, two = made("longer", 0.03), made("weight decay", 0.02)
    less = borrowed(one, 0.5)
    assert 0 < less.gain < one.gain
    assert less.high - less.low > one.high - one.low
    for made_up in (borrowed(one, 0.99), together([one, two], 0.99), borrowed(two, 1.0)):
        assert made_up.low < made_up.gain <= made_up.high <= 0.01 + 1e-9, "nobody gains more than there is"
    both = together([one, two], 0.5)
    assert max(one.gain, two.gain) < both.gain < one.gain + two.gain
    assert both.high - both.low > one.high - one.low


def test_what_one_network_or_rate_gained_is_not_borrowed_for_another_but_lengths_are() -> None:
    first = Plan()
    for kind in ("higher rate", "residual", "no augmentation", "longer"):
        changed = CHANGES[kind].make(first, SIDE)
        assert changed is not None
        assert begins_alike(first, first, changed)
        again = CHANGES[kind].make(changed, SIDE)
        if again is not None:
            assert begins_alike(first, changed, again) == (kind == "longer")
    other = CHANGES["normalised blocks"].make(first, SIDE)
    assert other is not None
    residual, faster = CHANGES["residual"].make(other, SIDE), CHANGES["higher rate"].make(other, SIDE)
    assert residual is not None
    assert faster is not None
    assert not begins_alike(first, other, residual)
    assert begins_alike(first, other, faster)


def test_plans_are_joined_setting_by_setting_and_the_first_of_two_that_collide_counts() -> None:
    plan = Plan()
    slow, cosine = plan.changed({"optimiser.learning_rate": 1e-4}), CHANGES["falling rate"].make(plan, 64)
    decay, larger = plan.changed({"optimiser.weight_decay": 0.1}), plan.changed({"network": "residual"})
    deep = plan.changed({"network": "three double blocks"})
    assert cosine is not None
    result, places = joined(plan, [slow, cosine, decay, larger, deep, plan])
    assert places == (0, 2, 3)
    assert result == plan.changed({
        "optimiser.learning_rate": 1e-4, "optimiser.weight_decay": 0.1, "network": "residual"
    }).changed({"name": "three blocks"}), "the network's name is not the plan's"  # fmt: skip
    result, places = joined(plan, [cosine, slow])
    assert (result, places) == (cosine, (0,))
    small = plan.changed({"network": "two blocks", "preprocessing.input_size": 4})
    assert joined(plan.changed({"network": "two blocks"}), [deep, small])[1] == (0,), "what does not fit is left out"
