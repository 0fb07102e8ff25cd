"""Executing a claimed run, in this process."""

from __future__ import annotations

import platform
from collections.abc import Callable
from dataclasses import dataclass
from typing import Any

import numpy as np

import attentive_lens
from attentive_lens.desk.data import Data, gather
from attentive_lens.engine.crew import Crew
from attentive_lens.engine.network import Network, fingerprint
from attentive_lens.errors import BadValue, LensError
from attentive_lens.formats.bundle import ModelFile, read_model
from attentive_lens.images.feeding import Feed
from attentive_lens.images.preparation import Levels
from attentive_lens.plan.plan import Plan
from attentive_lens.plan.progress import Job
from attentive_lens.training.checkpoints import Checkpoints
from attentive_lens.training.journal import Journal
from attentive_lens.training.learner import Classifier
from attentive_lens.training.loop import Outcome, run
from attentive_lens.workspace import Run, Workspace


@dataclass(frozen=True)
class Trained:
    """A run that ended: how, and the fingerprint of its best weights (empty if no epoch was finished)."""

    run: Run
    outcome: Outcome
    weights_sha256: str


def execute(workspace: Workspace, claimed: Run, stop: Callable[[], bool]) -> Job[Trained]:
    """Train a claimed run to its end.

    Its journal ends with exactly one ``end`` event, whatever happens short of being killed.

    Raises
    ------
    LensError
        If the images, the base or the numbers do not allow it; the journal holds the same sentence.
    """
    claimed.note_process()
    with Journal(claimed.journal) as journal:
        try:
            trained = yield from _execute(workspace, claimed, journal, stop)
        except LensError as error:
            journal.write("end", state="failed", error=str(error))
            raise
        except GeneratorExit:
            journal.write("end", state="stopped", error="")
            raise
        except BaseException as error:
            journal.write("end", state="failed", error=f"A fault of the program: {error!r}")
            raise
        journal.write(
            "end",
            state=trained.outcome.state,
            epochs=trained.outcome.epochs,
            seconds=round(trained.outcome.seconds, 3),
            weights_sha256=trained.weights_sha256,
        )
        return trained


def _execute(workspace: Workspace, claimed: Run, journal: Journal, stop: Callable[[], bool]) -> Job[Trained]:
    plan = claimed.plan()
    journal.write("start", plan=plan.name, epochs=plan.training.epochs)
    data = yield from gather(workspace, plan)
    claimed.keep_images(data.labels.tolist(), data.collection.sets)
    members = data.members("training")
    if len(members) < 2:
        raise BadValue("There is nothing to train on", f"the training set has {len(members)} images", "Add images")
    network, levels = _starting_point(workspace, plan, data)
    classes = len(data.collection.classes)
    feed = Feed(data.pixels, data.labels, members, plan.recipe, levels, plan.seed, plan.training.batch, classes)
    held_out = data.members("validation")
    model = ModelFile(network.plan, {}, plan.preparation, levels, tuple(data.collection.classes))
    with Crew(plan.training.threads) as crew:
        learner = Classifier(network, plan.training, plan.frozen, levels, crew)
        if not learner.route.trainable:
            raise BadValue("There is nothing to learn", "every layer with weights is frozen", "Freeze fewer layers")
        outcome = yield from run(
            learner,
            feed,
            (data.pixels[held_out], data.labels[held_out]),
            plan.training.epochs,
            Checkpoints(claimed.checkpoints, model),
            journal,
            {"plan": plan.write(), "run": claimed.number, "versions": _versions()},
            lambda: stop() or claimed.should_stop(),
        )
    sha = fingerprint(read_model(claimed.model).weights) if outcome.epochs else ""
    return Trained(claimed, outcome, sha)


def _starting_point(workspace: Workspace, plan: Plan, data: Data) -> tuple[Network, Levels]:
    """Fresh weights and measured levels; with a base, the base's layers and the levels they were trained with."""
    network_plan = plan.network.for_classes(len(data.collection.classes))
    network = Network.start(network_plan, plan.preparation.shape, plan.seed)
    if plan.base is None:
        return network, Levels.measure(data.pixels[data.members("training")], plan.preparation)
    earlier = read_model(workspace.run(plan.base.run).model)
    taken = network_plan.up_to(plan.base.until)
    for name in taken:
        own = network.weights.get(name, {})
        theirs = earlier.weights.get(name, {})
        if {k: a.shape for k, a in own.items()} != {k: a.shape for k, a in theirs.items()}:
            raise BadValue(
                f"The layer {name} cannot be taken from run {plan.base.run}",
                "its weights there are of another shape or missing",
                "Start from that run's own network",
            )
        if theirs:
            network.weights[name] = {key: array.copy() for key, array in theirs.items()}
    return network, earlier.levels


def _versions() -> dict[str, Any]:
    return {
        "attentive_lens": attentive_lens.__version__,
        "numpy": np.__version__,
        "python": platform.python_version(),
    }
