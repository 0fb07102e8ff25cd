"""What is advised of runs that draw, by their figures; and of one that was trained to carry nothing."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace

from attentive_lens.core.jobs import finish
from attentive_lens.desk.training.advising import advice_of
from attentive_lens.desk.training.executing import execute
from attentive_lens.desk.training.runs import RunReader
from attentive_lens.plan.network import NetworkPlan
from attentive_lens.plan.plan import Plan
from attentive_lens.training.advice import Finding, Record, advise
from attentive_lens.training.figures import Figures
from attentive_lens.training.journal import EpochEvent
from attentive_lens.workspace import Workspace

PLAN = Plan().changed({"network": "variational", "preprocessing.input_size": 16, "augmentation": "none"})


def advised(
    held_out: Sequence[float],
    learned: Sequence[float],
    divergence: float = 20.0,
    plan: Plan = PLAN,
    state: str = "done",
) -> dict[str, Finding]:
    def figures(bound: float) -> Figures:
        parts = {"bound": bound, "reconstruction": -bound - divergence, "divergence": divergence}
        return Figures(-bound, more=parts)

    epochs = [
        EpochEvent(k + 1, figures(b), figures(a), False) for k, (a, b) in enumerate(zip(held_out, learned, strict=True))
    ]
    return {finding.kind: finding for finding in advise(Record(plan, tuple(epochs), state))}


RISING = [1000.0 - 3000 * 0.6**k for k in range(20)]


def test_nothing_is_said_of_a_run_that_learned_and_came_to_rest() -> None:
    assert advised(RISING, RISING) == {}
    assert advised(RISING[:2], RISING[:2]) == {}


def test_codes_that_carry_nothing_are_named_with_a_warm_up_and_then_a_smaller_deviation() -> None:
    result = advised(RISING, RISING, 0.02)
    assert result.keys() == {"codes unused"}
    plan = result["codes unused"].plan
    assert plan is not None
    assert plan.changed({"task.warmup_epochs": 0}) == PLAN
    second = advised(RISING, RISING, 0.02, plan)["codes unused"].plan
    assert second is not None
    assert second.network.nodes[-1].layer.deviation == 0.15  # type: ignore[attr-defined]
    assert "codes unused" in advised(RISING[:4], RISING[:4], 0.02, state="training")
    plain = PLAN.changed({"network": "auto-encoder"})
    assert advised(RISING, RISING, 0.0, plain) == {}
    assert advised(RISING, RISING, 0.0, PLAN.changed({"task.divergence_weight": 0.0})) == {}


def test_a_bound_that_falls_on_held_out_images_alone_is_over_fitting() -> None:
    falling = [*RISING[:10], *(RISING[9] - 60.0 * k for k in range(1, 11))]
    finding = advised(falling, RISING)["over-fitting"]
    assert finding.epoch == 11
    assert finding.plan is not None
    assert finding.plan.augmentation
    second = advised(falling, RISING, plan=finding.plan)["over-fitting"].plan
    assert second is not None
    assert second.optimiser.weight_decay > 0
    assert advised(falling, falling) == {}
    slightly = [*RISING[:10], *(RISING[9] - 2.0 * k for k in range(1, 11))]
    assert advised(slightly, RISING) == {}


def test_an_end_that_came_while_the_bound_rose_is_told() -> None:
    line = [100.0 * k for k in range(20)]
    plan = advised(line, line)["still improving"].plan
    assert plan is not None
    assert plan.training.epochs == 2 * PLAN.training.epochs
    assert advised(line, line, state="training") == {}


def test_a_run_whose_codes_carry_nothing_is_told_so(station: Workspace) -> None:
    plan = PLAN.changed({"training.epochs": 20, "optimiser.learning_rate": 0.01, "training.batch_size": 8})
    nodes = plan.network.nodes
    last = replace(nodes[-1], layer=nodes[-1].layer.with_(deviation=10.0))
    plan = plan.with_network(NetworkPlan((*nodes[:-1], last)))
    run = finish(execute(station, station.claim_run(plan), lambda: False)).run
    kinds = [finding.kind for finding in advice_of(station, run, RunReader(run).view())]
    assert kinds == ["codes unused"]
