"""Models that a plan is built on: a run's of this workspace or of another, or a model file's."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace
from pathlib import Path

from attentive_lens.errors import BadValue
from attentive_lens.formats.bundle import ModelFile
from attentive_lens.formats.reading import read_model
from attentive_lens.plan.base import MODEL_SUFFIX, Base
from attentive_lens.plan.layers import Output
from attentive_lens.plan.plan import Plan
from attentive_lens.workspace import Workspace

ON = " on "
"""Between a plan's name and its base's."""


def base_file(workspace: Workspace, base: Base) -> Path:
    """The model file of a plan's base; a relative path counts from the workspace.

    Raises
    ------
    LensError
        If there is no such workspace or run; whether the file can be read is seen when it is.
    """
    if not base.model:
        return workspace.run(base.run).model
    place = workspace.folder / Path(base.model).expanduser()
    return place if base.model.endswith(MODEL_SUFFIX) else Workspace.open(place).run(base.run).model


def base_model(workspace: Workspace, plan: Plan) -> ModelFile | None:
    """The model a plan builds on; what it was trained with must be what the plan asks for, or be taken over."""
    if plan.base is None:
        return None
    model = read_model(base_file(workspace, plan.base))
    theirs = [node.name for node in model.plan.nodes[:-1]]
    name = plan.base.words[:1].upper() + plan.base.words[1:]
    if plan.base.until not in theirs:
        why = f"its network has: {', '.join(theirs)}"
        raise BadValue(f"{name} has no layer called {plan.base.until}", why, "Choose one of these")
    planned, other = plan.preprocessing, model.preprocessor.settings
    if planned != other and not plan.base.take_preprocessing:
        names = [name for name in planned.specs() if getattr(planned, name) != getattr(other, name)]
        was = ", ".join(f"{planned.specs()[name].label} {getattr(other, name)}" for name in names)
        settings = ", ".join(f"{getattr(planned, name)}" for name in names)
        raise BadValue(
            f"The plan cannot be built on {plan.base.words}",
            f"it was trained with {was}, and the plan asks for {settings}",
            "Change the preprocessing, or take over the model's with «base.take_preprocessing = true»",
        )
    return model


def with_base(workspace: Workspace, plan: Plan, base: Base) -> Plan:
    """The plan built on a model's layers: its network and preprocessing, new weights after the base's last layer.

    A base that names no layer is taken over up to the last one with rows and columns, where a new head usually begins.
    """
    model = read_model(base_file(workspace, base))
    if not base.until:
        base = replace(base, until=_last_spatial(model))
    network = model.plan.with_outputs(Output().units)
    theirs = model.card.get("plan", {}).get("name")
    name = theirs if isinstance(theirs, str) and theirs.strip() else plan.name
    built = replace(without_base(plan), name=f"{name.split(ON)[0]}{ON}{base.words}")
    built = replace(built, network=network, preprocessing=model.preprocessor.settings)
    return built.changed({f"base.{key}": value for key, value in base.write().items()})


def _last_spatial(model: ModelFile) -> str:
    facts = model.plan.facts(model.preprocessor.settings.shape)
    return next((fact.name for fact in reversed(facts) if len(fact.shape) == 3), model.plan.nodes[0].name)


def without_base(plan: Plan) -> Plan:
    """The plan with new weights throughout."""
    return replace(plan, base=None, name=plan.name.split(ON)[0])


def base_layers(plan: Plan) -> Sequence[str]:
    """Layers a later plan can take over: all before the answers."""
    return [node.name for node in plan.network.nodes[:-1]]
