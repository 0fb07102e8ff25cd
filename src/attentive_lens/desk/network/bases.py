"""Models that a plan is built on: a run's of this workspace or of another, or a model file's."""

from __future__ import annotations

import contextlib
from collections.abc import Callable, Iterator, Sequence
from dataclasses import replace
from pathlib import Path
from typing import TypeAlias

from attentive_lens.desk.images.data import pixel_format_of
from attentive_lens.errors import BadValue, LensError
from attentive_lens.formats.bundle import ModelFile
from attentive_lens.formats.reading import read_model
from attentive_lens.images.pixel_format import are_ordinary
from attentive_lens.plan.base import MODEL_SUFFIXES, Base
from attentive_lens.plan.examination import Fault
from attentive_lens.plan.layers import Output
from attentive_lens.plan.network import NetworkPlan
from attentive_lens.plan.plan import Plan
from attentive_lens.workspace import Run, Workspace

ON = " on "
"""Between a plan's name and its base's."""
NEW_HEAD = "new head"
"""What a plan is called that has no other name than its base."""


def base_file(workspace: Workspace, base: Base) -> Path:
    """The model file of a plan's base; a relative path counts from the workspace.

    Raises
    ------
    LensError
        If there is no such workspace or run; whether the file can be read is seen when it is.
    """
    if not base.model:
        return workspace.run(base.run).model
    if base.on_shelf:
        return workspace.shelf.model(base.on_shelf).file
    place = workspace.folder / Path(base.model).expanduser()
    return place if base.model.endswith(MODEL_SUFFIXES) else Workspace.open(place).run(base.run).model


def run_of(workspace: Workspace, base: Base) -> Run | None:
    """The run a base's model is of; None for a file of which that is not known."""
    if base.on_shelf:
        origin = workspace.shelf.model(base.on_shelf).said.origin
        return next((run for run in workspace.runs() if origin == f"run {run.number} of {workspace.name}"), None)
    if base.model.endswith(MODEL_SUFFIXES):
        return None
    place = Workspace.open(workspace.folder / Path(base.model).expanduser()) if base.model else workspace
    return place.run(base.run)


def learned_from(workspace: Workspace, base: Base) -> frozenset[int]:
    """Numbers of this workspace's images that a base was trained with, by their pixels, wherever that was."""
    run = run_of(workspace, base)
    noted = run.images() if run is not None else None
    if run is None or noted is None:
        return frozenset()
    pixels = {digest for digest, of in zip(run.digests().tolist(), noted[1], strict=False) if of == "training"} - {0}
    return frozenset(row.number for row in workspace.catalogue.images() if row.digest in pixels)


def base_model(workspace: Workspace, plan: Plan) -> ModelFile | None:
    """The model a plan builds on; what it was trained with must be what the plan asks for, or be taken over."""
    if plan.base is None:
        return None
    model = read_model(base_file(workspace, plan.base))
    _check(model, plan, plan.base)
    _check_channels(model, plan.base, pixel_format_of(workspace).channels)
    return model


def _check_channels(model: ModelFile, base: Base, channels: tuple[str, ...]) -> None:
    """Refuse a base that looks at channels which the images do not have."""
    seen = model.preprocessor.settings.channel_names
    if (are_ordinary(channels) and not seen) or (seen and set(seen) <= set(channels)):
        return
    its, theirs = ", ".join(seen) or "red, green and blue", ", ".join(channels) or "those of ordinary pictures"
    why = f"it looks at {its}, and the images' channels are {theirs}"
    raise BadValue(f"{base.words[:1].upper()}{base.words[1:]} does not fit these images", why, "Choose another base")


def _check(model: ModelFile, plan: Plan, base: Base) -> None:
    theirs = [node.name for node in model.plan.nodes[:-1]]
    name = base.words[:1].upper() + base.words[1:]
    if base.until not in theirs:
        why = f"its network has: {', '.join(theirs)}"
        raise BadValue(f"{name} has no layer called {base.until}", why, "Choose one of these")
    planned, other = plan.preprocessing, model.preprocessor.settings
    if planned != other and not base.take_preprocessing:
        names = [name for name in planned.specs() if getattr(planned, name) != getattr(other, name)]
        was = ", ".join(f"{planned.specs()[name].label} {getattr(other, name)}" for name in names)
        settings = ", ".join(f"{getattr(planned, name)}" for name in names)
        raise BadValue(
            f"The plan cannot be built on {base.words}",
            f"it was trained with {was}, and the plan asks for {settings}",
            "Change the preprocessing, or take over the model's with «base.take_preprocessing = true»",
        )


def untaken(model: ModelFile, plan: Plan, base: Base) -> tuple[Fault, ...]:
    """Layers up to the base's last whose weights the model does not have in the shape that the plan gives them."""
    faults = []
    taken = plan.network.up_to(base.until)
    for node, fact in zip(plan.network.nodes, plan.network.facts(model.preprocessor.settings.shape), strict=True):
        if node.name not in taken:
            continue
        needed = node.layer.weight_shapes(fact.input_shape) | node.layer.state_shapes(fact.input_shape)
        if needed != {name: array.shape for name, array in model.weights.get(node.name, {}).items()}:
            what, why = f"The layer {node.name} cannot be taken from {base.words}", "its weights there are of another "
            remedy = "Make it as it is there, take over fewer layers, or build on no model"
            faults.append(Fault(node.name, "base", BadValue(what, f"{why}shape or missing", remedy)))
    return tuple(faults)


_Stamp: TypeAlias = tuple[Path, int, int]
"""A file, when it was changed (ns) and how long it is."""


class Bases:
    """Whether plans can be built on their bases; the model that was read last is remembered while its file stays.

    Parameters
    ----------
    workspace : Workspace
        Whose runs plans name.
    """

    def __init__(self, workspace: Workspace) -> None:
        self.workspace = workspace
        self._read: tuple[_Stamp, ModelFile] | None = None
        self._told: tuple[Plan, _Stamp | None, tuple[Fault, ...]] | None = None

    def faults(self, plan: Plan) -> tuple[Fault, ...]:
        """Why it cannot: a base that is not there or not fit, at the last layer taken over; or layers that differ."""
        if plan.base is None:
            return ()
        stamp = self._stamp(plan.base)
        if self._told is None or self._told[:2] != (plan, stamp):
            self._told = (plan, stamp, self._examined(plan, plan.base))
        return self._told[2]

    def _examined(self, plan: Plan, base: Base) -> tuple[Fault, ...]:
        try:
            model = self._model(base)
        except LensError as error:
            return (Fault("", "base", BadValue(error.what, error.why, error.remedy)),)
        try:
            _check(model, plan, base)
        except LensError as error:
            return (Fault(base.until, "base", BadValue(error.what, error.why, error.remedy)),)
        return untaken(model, plan, base)

    def repairs(self, plan: Plan, fault: Fault) -> tuple[tuple[str, Plan], ...]:
        """The nearest plans without the fault, with a few words each; the last builds on no model."""
        result: list[tuple[str, Plan]] = []
        if plan.base is not None:
            for words, wished in self._wishes(plan, plan.base, fault):
                with contextlib.suppress(LensError):
                    made = wished()
                    if not any(other.node == fault.node for other in self.faults(made)):
                        result.append((words, made))
        return (*result, ("Build on no model", without_base(plan)))

    def _wishes(self, plan: Plan, base: Base, fault: Fault) -> Iterator[tuple[str, Callable[[], Plan]]]:
        with contextlib.suppress(LensError):
            model = self._model(base)
            theirs = {node.name: node.layer for node in model.plan.nodes[:-1]}
            if plan.preprocessing != model.preprocessor.settings and not base.take_preprocessing:
                yield "Take over its preprocessing", lambda: replace(plan, base=base.with_(take_preprocessing=True))
            if fault.node in theirs:
                nodes = tuple(
                    replace(node, layer=theirs[node.name]) if node.name == fault.node else node
                    for node in plan.network.nodes
                )
                yield f"Make {fault.node} as it is there", lambda: replace(plan, network=NetworkPlan(nodes))
            before = [node.name for node in plan.network.nodes if node.name in theirs]
            place = before.index(fault.node) if fault.node in before else len(before)
            if place:
                last = before[place - 1]
                yield f"Take over up to {last}", lambda: replace(plan, base=base.with_(until=last))

    def _model(self, base: Base) -> ModelFile:
        stamp = self._stamp(base)
        if stamp is None:
            return read_model(base_file(self.workspace, base))  # either says why not
        if self._read is None or self._read[0] != stamp:
            self._read = (stamp, read_model(stamp[0]))
        return self._read[1]

    def _stamp(self, base: Base) -> _Stamp | None:
        """The base's file as it is now; None if there is none."""
        try:
            file = base_file(self.workspace, base)
            stat = file.stat()
        except (LensError, OSError):
            return None
        return file, stat.st_mtime_ns, stat.st_size


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
    first = name.split(ON)[0]
    built = replace(without_base(plan), name=f"{NEW_HEAD if first == base.words else first}{ON}{base.words}")
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
