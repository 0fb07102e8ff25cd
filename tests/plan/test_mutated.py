"""Plans changed at random, and files that are no plans: taken, or refused in a sentence, soon."""

from __future__ import annotations

import sys
import time
from pathlib import Path

import pytest

from attentive_lens.errors import BadValue, LensError
from attentive_lens.plan.layers import Output, Relu
from attentive_lens.plan.network import NetworkPlan
from attentive_lens.plan.nodes import MOST_NODES
from attentive_lens.plan.plan import Plan

sys.path.insert(0, str(Path(__file__).parents[2] / "benchmarks" / "attacks"))

import plans  # noqa: E402


@pytest.mark.parametrize("seed", range(3))
def test_no_mutation_ends_in_a_trace(seed: int) -> None:
    result, longest, faults = plans.attack(400, 1000 + seed)
    assert faults == []
    assert result["taken"] > 5
    assert result["refused"] > 100
    assert longest < 5


def test_files_that_are_no_plans_are_refused(tmp_path: Path) -> None:
    longest, faults = plans.attack_files(tmp_path)
    assert faults == []
    assert longest < 5


@pytest.mark.parametrize(
    ("table", "part"),
    [
        ({"network": "for blocks"}, "blocks"),
        ({"network": 1.5}, "list of layers"),
        ({"network": [3]}, "section"),
        ({"network": "two blocks", "augmentation": 1.5}, "list of steps"),
        ({"network": "two blocks", "augmentation": {"kind": "rotate"}}, "list of steps"),
        ({"network": [{"layer": "relu", "after": []}, {"layer": "output"}]}, "after"),
        ({"network": [{"layer": "relu", "after": [[1]]}, {"layer": "output"}]}, "after"),
        ({"network": [{"layer": ["relu"]}, {"layer": "output"}]}, "relu"),
        ({"network": [{"layer": "relu", "name": "a" * 99}, {"layer": "output"}]}, "80 letters"),
        ({"network": [{"layer": "relu", "name": "\x1b[2J"}, {"layer": "output"}]}, "printable"),
        ({"network": "two blocks", "seed": 2**63}, "seed"),
        ({"network": "two blocks", "seed": 10**4000}, "seed"),
        ({"network": "two blocks", "optimiser": {"kind": "adam", "learning_rate": 10**4000}}, "above the most"),
        ({"network": "two blocks", "name": "\x1b[2J"}, "printable"),
        ({"network": "two blocks", "split": {"group_pattern": "(" * 200}}, "regular expression"),
    ],
)
def test_what_is_wrong_is_named(table: dict[str, object], part: str) -> None:
    with pytest.raises(LensError) as caught:
        Plan.read(table)
    assert part in str(caught.value)
    assert len(str(caught.value)) < 2500


def test_large_networks_are_put_together_in_linear_time_and_refused_when_too_large() -> None:
    began = time.perf_counter()
    plan = NetworkPlan.stack([*(Relu() for _ in range(MOST_NODES - 1)), Output()])
    assert len({node.name for node in plan.nodes}) == MOST_NODES
    assert plan.up_to("relu 2000")
    with pytest.raises(BadValue, match="too large"):
        NetworkPlan.stack([*(Relu() for _ in range(MOST_NODES)), Output()])
    assert time.perf_counter() - began < 5
