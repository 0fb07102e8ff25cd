from __future__ import annotations

import tomllib

import pytest
import tomlkit
from hypothesis import given
from hypothesis import strategies as st

from attentive_lens.errors import BadValue, LensError
from attentive_lens.plan.augmentation import DEFAULT_AUGMENTATION
from attentive_lens.plan.plan import Plan
from attentive_lens.plan.starters import STARTERS


@given(
    st.sampled_from(sorted(STARTERS)),
    st.integers(16, 128),
    st.floats(1e-6, 1.0),
    st.integers(0, 2**40),
    st.booleans(),
)
def test_a_plan_written_as_toml_and_read_is_the_same(
    network: str, side: int, rate: float, seed: int, based: bool
) -> None:
    settings = {"network": network, "preprocessing.input_size": side, "optimiser.learning_rate": rate, "seed": seed}
    if based:
        settings |= {"base.run": 3, "base.until": "relu 1", "base.frozen": False}
    plan = Plan().changed(settings)
    assert Plan.read(tomllib.loads(tomlkit.dumps(plan.write()))) == plan


def test_changing_a_setting_leaves_the_first_plan_as_it_was() -> None:
    plan = Plan()
    other = plan.changed({"training.epochs": 3, "augmentation": "none"})
    assert (other.training.epochs, other.augmentation) == (3, ())
    assert (plan.training.epochs, len(plan.augmentation)) == (20, len(DEFAULT_AUGMENTATION))


@pytest.mark.parametrize(
    ("settings", "part"),
    [
        ({"training.epoch": 5}, "epochs"),
        ({"trainings.epochs": 5}, "training.epochs"),
        ({"network": "four blocks"}, "blocks"),
        ({"base.run": 2}, "until"),
        ({"base.run": 2, "base.until": "relu 7"}, "relu 7"),
        ({"preprocessing.input_size": 7}, "does not fit"),
        ({"seed": -1}, "whole number"),
        ({"augmentation": []}, "Known are: default, none"),
    ],
)
def test_a_wrong_change_is_refused_with_what_is_known(settings: dict[str, object], part: str) -> None:
    with pytest.raises(LensError, match=part):
        Plan().changed(settings)


def test_a_group_pattern_alone_is_followed_and_keep_together_has_the_last_word() -> None:
    assert Plan().changed({"split.group_pattern": "^(.+)_"}).split.keep_together == "name pattern"
    both = Plan().changed({"split.group_pattern": "^(.+)_", "split.keep_together": "none"})
    assert both.split.keep_together == "none"
    assert Plan().changed({"split.group_pattern": ""}).split.keep_together == "copies"


def test_a_plan_is_called_by_its_network_until_it_has_a_name_of_its_own() -> None:
    assert Plan().changed({"network": "two blocks"}).name == "two blocks"
    assert Plan().changed({"name": "mine", "network": "two blocks"}).name == "mine"


def test_frozen_layers_are_those_up_to_the_frost_line() -> None:
    plan = Plan().changed({"base.run": 1, "base.until": "relu 1"})
    assert plan.frozen == {"convolution 1", "relu 1"}
    assert plan.changed({"base.frozen": False}).frozen == frozenset()


def test_a_plan_of_a_later_format_is_refused() -> None:
    with pytest.raises(BadValue, match="reads format 1"):
        Plan.read({"format": 2})
    with pytest.raises(BadValue, match="network"):
        Plan.read({"netwrok": []})
    with pytest.raises(BadValue, match=r"\[training\]"):
        Plan.read({"training": 3})
    with pytest.raises(BadValue, match="rotate"):
        Plan.read({"augmentation": [{"kind": "rotat"}]})
