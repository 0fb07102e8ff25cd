"""What a plan's task asks of its network, and what each brings with it."""

from __future__ import annotations

from typing import Any

import pytest

from attentive_lens.errors import BadUsage, BadValue
from attentive_lens.plan.measures import MEASURES
from attentive_lens.plan.plan import CHOICES, DRAWING, PAIRED, SECTIONS, Plan
from attentive_lens.plan.starters import STARTERS
from attentive_lens.plan.tasks import TASKS, Encode


def test_tasks_and_networks_go_together() -> None:
    plan = Plan().changed({"task": "encode"})
    assert plan.network.draws
    assert plan.name == "variational"
    assert plan.changed({"task": "classify"}).name == "three blocks"
    assert plan.changed({"network": "residual"}).task.kind == "classify"
    assert plan.changed({"preprocessing.input_size": 40}).network.facts((40, 40, 3))[-1].shape == (40, 40, 3)
    grey = plan.changed({"preprocessing.colour_space": "grey"})
    assert grey.network.facts((64, 64, 1))[-1].shape == (64, 64, 1)
    assert Plan.read(plan.write()) == plan
    assert Plan.read({"network": "auto-encoder"}).task.kind == "encode"
    named = plan.changed({"name": "mine", "task.denoise": True})
    assert named.changed({"network": "auto-encoder"}).task == Encode(denoise=True)
    assert named.changed({"network": "auto-encoder"}).name == "mine"
    for settings in ({"task": "encode", "network": "two blocks"}, {"task": "classify", "network": "variational"}):
        with pytest.raises(BadValue, match="does not fit the task"):
            Plan().changed(settings)
    with pytest.raises(BadValue, match="draws images of 64×64×3, and they come in as 32×32×3"):
        named.changed({"preprocessing.input_size": 32})


def test_networks_that_are_no_pair_are_refused_with_the_reason() -> None:
    plan = Plan().changed({"network": "generator, by class", "preprocessing.input_size": 16})
    for task, words in (("classify", "draws images"), ("encode", "its last layer gives scores")):
        with pytest.raises(BadValue, match=words):
            Plan.read({**{k: v for k, v in plan.write().items() if "discriminator" not in k}, "task": {"kind": task}})
    table = plan.write()

    def without(kind: str) -> Any:
        return {**table, "network": [row for row in table["network"] if row["layer"] != kind]}

    with pytest.raises(BadValue):
        Plan.read(without("real or drawn"))
    rows = [dict(row) for row in table["network"]]
    drawing = next(row for row in rows if row["layer"] == "drawing")
    drawing["likelihood"] = "gaussian"
    with pytest.raises(BadValue, match="the discriminator judges"):
        Plan.read({**table, "network": rows})
    rows = [dict(row) for row in table["network"]]
    next(row for row in rows if row["layer"] == "real or drawn")["after"] = ["drawing", "image"]
    with pytest.raises(BadValue, match="stands after"):
        Plan.read({**table, "network": rows})
    rows = [dict(row) for row in table["network"]]
    next(row for row in rows if row["layer"] == "flatten")["after"] = "tanh 1"
    with pytest.raises(BadValue):
        Plan.read({**table, "network": rows})
    for place, name, source, after, words in (
        ("fully connected 2", "seen", "image", "concatenate 1", "looks at the image"),
        ("output", "drawn before", "relu 1", "add 1", "of the discriminator looks at"),
    ):
        extra = {"layer": "flatten", "name": name, "after": source}
        rows = []
        for row in table["network"]:
            if row["name"] == place:
                rows += [extra, {"layer": "concatenate", "name": "both", "after": [after, name]}]
                row = {**row, "after": "both"}
            rows.append(dict(row))
        with pytest.raises(BadValue, match=words):
            Plan.read({**table, "network": rows})
    with pytest.raises(BadValue, match="of its layers are «noise»"):
        Plan.read({**Plan().write(), "task": {"kind": "generate"}})


def every_setting(plan: Plan) -> dict[str, object]:
    """Each setting of a plan by its dotted name, as it stands."""
    parts = {name: getattr(plan, name) for name in (*SECTIONS, *CHOICES, *PAIRED)}
    settings = {f"{section}.{name}": getattr(part, name) for section, part in parts.items() for name in part.specs()}
    return settings | {section: parts[section].kind for section in (*CHOICES, *PAIRED)}


@pytest.mark.parametrize("task", TASKS)
def test_a_setting_that_has_no_part_in_a_task_is_refused_and_no_other(task: str) -> None:
    plan = Plan().changed({"task": task, "preprocessing.input_size": 32})
    for name, value in every_setting(plan).items():
        if plan.idle.intersection((name, name.partition(".")[0])):
            with pytest.raises(BadUsage, match=r"has no part in the plan|cannot be set"):
                plan.changed({name: value})
        elif isinstance(value, str) or name.partition(".")[0] != "task":
            assert plan.changed({name: value}) == plan, name
    drawing = plan.task.draws
    assert ("loss" in plan.idle, "training.best_by" in plan.idle) == (drawing, drawing)
    assert ("discriminator_optimiser" in plan.idle) is (task != "generate")
    assert Plan.read(plan.write()) == plan


@pytest.mark.parametrize("task", TASKS)
@pytest.mark.parametrize("images", ["training", "validation"])
def test_a_rule_waits_for_nothing_that_is_never_measured(task: str, images: str) -> None:
    plan = Plan().changed({"task": task, "preprocessing.input_size": 32})
    known = plan.task.measured_on(images)
    assert "loss" in known
    assert ("accuracy" in known) is not plan.task.draws
    assert ("macro_f1" in known) is (not plan.task.draws and images == "validation")
    for name in MEASURES:
        target: dict[str, object] = {"stopping.target": 0.5, "stopping.target_measure": name}
        target["stopping.target_set"] = images
        ways = [target]
        if images == "validation":
            ways.append({"stopping.patience": 3, "stopping.patience_measure": name})
        for settings in ways:
            if name in known:
                assert plan.changed(settings).stopping != plan.stopping
                continue
            with pytest.raises(BadValue, match=f"measured of {images} images is .*loss"):
                plan.changed(settings)
            off = {key: value for key, value in settings.items() if key not in ("stopping.target", "stopping.patience")}
            plan.changed(off)  # a rule that is off waits for nothing


@pytest.mark.parametrize("task", TASKS)
def test_every_network_and_task_can_be_chosen_whatever_the_rules_wait_for(task: str) -> None:
    plan = Plan().changed({"task": task, "preprocessing.input_size": 32})
    for name in plan.task.measured_on("validation"):
        rules = {"stopping.patience": 3, "stopping.patience_measure": name}
        ruled = plan.changed({**rules, "stopping.target": 0.5, "stopping.target_measure": name})
        for choice in (*({"task": other} for other in TASKS), *({"network": each} for each in (*STARTERS, *DRAWING))):
            chosen = ruled.changed(choice)
            assert chosen.stopping.patience == 3
            known = chosen.task.measured_on("validation")
            assert chosen.stopping.patience_measure == (name if name in known else "loss")
            assert chosen.stopping.target == (0.5 if name in known else 0)
