"""What a plan's task asks of its network, and what each brings with it."""

from __future__ import annotations

from typing import Any

import pytest

from attentive_lens.errors import BadValue
from attentive_lens.plan.plan import Plan
from attentive_lens.plan.tasks import Encode


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
