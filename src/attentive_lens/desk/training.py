"""Executing a claimed run, in this process."""

from __future__ import annotations

import contextlib
import hashlib
import os
import platform
from collections.abc import Callable
from dataclasses import dataclass, replace
from typing import TypeVar

import numpy as np
from numpy.typing import NDArray

from attentive_lens.core.files import remove_leftovers
from attentive_lens.core.jobs import Job
from attentive_lens.core.records import PlainTable
from attentive_lens.core.version import VERSION
from attentive_lens.desk.bases import base_model, untaken
from attentive_lens.desk.cautions import changed_since
from attentive_lens.desk.controlling import RunControl
from attentive_lens.desk.data import Data, gather
from attentive_lens.desk.design import price_in_memory
from attentive_lens.desk.runs import RunReader
from attentive_lens.engine.network import Network, fingerprint
from attentive_lens.engine.threads import ThreadPool
from attentive_lens.errors import BadFile, BadValue, LensError
from attentive_lens.formats.bundle import ModelFile
from attentive_lens.formats.reading import read_checkpoint, read_model
from attentive_lens.images.feeding import Feed
from attentive_lens.images.preprocessing import Preprocessor
from attentive_lens.images.rows import Chosen
from attentive_lens.plan.frost import frozen_part
from attentive_lens.plan.plan import Plan
from attentive_lens.training.checkpoints import Checkpoints
from attentive_lens.training.control import STOP
from attentive_lens.training.frozen_outputs import FrozenOutputs, Inputs, kept_outputs, key_of_part
from attentive_lens.training.journal import Journal
from attentive_lens.training.learner import Classifier
from attentive_lens.training.loop import Outcome, Position, run
from attentive_lens.workspace import Run, Workspace

T = TypeVar("T")
INPUT_IMAGES = 64
"""On which the prepared images' mean and standard deviation are taken."""


@dataclass(frozen=True)
class Trained:
    """A run that ended: how, and the fingerprint of its best weights (empty if no epoch was finished)."""

    run: Run
    outcome: Outcome
    weights_sha256: str


def execute(
    workspace: Workspace,
    claimed: Run,
    stop: Callable[[], bool],
    resume: bool = False,
    lock: int | None = None,
    until: int = 0,
) -> Job[Trained]:
    """Train a claimed run to its end, or go on with one that was stopped or broken off.

    One that goes on ends with the same weights, to the bit, as if it had never been interrupted; without a checkpoint
    it begins anew. Its journal ends with exactly one ``end`` event, whatever happens short of being killed or of a
    full disk.

    Parameters
    ----------
    workspace, claimed
        Whose run.
    stop : callable
        Asked after every step.
    resume : bool
        Whether it was begun before.
    lock : int, optional
        From `Run.hold`, where the process that started this one held the run for it.
    until : int
        Epochs after which it stops, to go on later; 0 for none.

    Raises
    ------
    LensError
        If the images, the base or the numbers do not allow it; the journal holds the same sentence.
    """
    held = lock if lock is not None and _is_open(lock) else claimed.hold()
    try:
        remove_leftovers(claimed.folder)
        with Journal(claimed.journal) as journal:
            try:
                trained = yield from _execute(workspace, claimed, journal, RunControl(claimed, stop, until), resume)
            except LensError as error:
                _end(journal, state="failed", error=str(error))
                raise
            except (GeneratorExit, KeyboardInterrupt):
                _end(journal, state="stopped", error="")
                raise
            except BaseException as error:
                _end(journal, state="failed", error=f"A fault of the program: {error!r}")
                raise
            journal.write(
                "end",
                state=trained.outcome.state,
                epochs=trained.outcome.epochs,
                seconds=round(trained.outcome.seconds, 3),
                weights_sha256=trained.weights_sha256,
                reason=trained.outcome.reason,
            )
            return trained
    finally:
        os.close(held)


def _is_open(file: int) -> bool:
    try:
        os.fstat(file)
    except OSError:
        return False
    return True


def _end(journal: Journal, **values: object) -> None:
    """Tell how it ended, if the journal can be written."""
    with contextlib.suppress(LensError):
        journal.write("end", **values)


def _execute(workspace: Workspace, claimed: Run, journal: Journal, control: RunControl, resume: bool) -> Job[Trained]:
    plan = claimed.plan()
    last = _checkpoint(claimed) if resume else None
    position = Position.read(last.card["position"]) if last else Position()
    if resume:
        journal.write("resume", epoch=position.epoch)
    if last is None:
        journal.write("start", plan=plan.name, epochs=plan.training.epochs, loss_function=plan.loss.kind)
    else:
        epochs_told = {epoch.epoch for epoch in RunReader(claimed).view().epochs}
        for epoch in last.card.get("untold", ()):
            if epoch["epoch"] not in epochs_told:
                journal.write("epoch", **epoch)
    base = base_model(workspace, plan)
    if base is not None:
        plan = replace(plan, preprocessing=base.preprocessor.settings)
    check_memory(plan, len(workspace.catalogue.classes()))
    data = yield from gather(workspace, plan, claimed if last is not None else None)
    names = tuple(data.collection.classes) if last is None else last.classes
    if last is not None:
        _check_labels(claimed, data)
        data = data.seen_by(names)
    else:
        claimed.keep_images(data.labels.tolist(), data.collection.sets)
    members = data.members("training")
    if len(members) < 2:
        raise BadValue("There is nothing to train on", f"the training set has {len(members)} images", "Add images")
    network, preprocessor = starting_point(plan, data, base) if last is None else (last.network(), last.preprocessor)
    classes = len(names)
    feed = Feed(
        data.pixels,
        data.labels,
        members,
        plan.augmentation,
        preprocessor,
        plan.seed,
        plan.training.batch_size,
        classes,
        plan.training.augmentation_variants,
    )
    if last is None:
        _tell_input(journal, feed)
    held_out = data.members("validation")
    if not len(held_out):
        _check_without_validation(plan)
    model = ModelFile(network.plan, {}, preprocessor, names, plan.loss.output, network.used_kernels())

    with ThreadPool(plan.training.threads) as thread_pool:
        counts = np.bincount(data.labels[members], minlength=classes)
        frozen = frozen_part(plan).node
        learner = Classifier(network, plan, preprocessor, thread_pool, counts, frozen, feed.examples)
        learner.rates = claimed.rates()
        if last is not None:
            learner.restore(last.weights, last.optimiser)
        if not learner.route.trainable:
            raise BadValue("There is nothing to learn", "every layer with weights is frozen", "Freeze fewer layers")
        validation = Chosen(data.pixels, held_out)
        judged: Chosen | NDArray[np.float32] = validation
        kept: FrozenOutputs | None = None
        if frozen:
            kept = yield from _unless(
                lambda: control.word() == STOP, _kept(workspace, learner, feed, validation, thread_pool)
            )
        if kept is not None:
            feed.kept, judged = kept.training, kept.validation
        outcome = yield from run(
            learner,
            feed,
            (judged, data.labels[held_out]),
            plan,
            Checkpoints(
                claimed.checkpoints,
                model,
                keep_last=plan.training.keep_last,
                seconds=plan.training.checkpoint_minutes * 60,
            ),
            journal,
            {"plan": plan.write(), "run": claimed.number, "versions": _versions()},
            control,
            position,
        )
    sha = fingerprint(read_model(claimed.model).weights) if outcome.epochs else ""
    return Trained(claimed, outcome, sha)


def _unless(asked: Callable[[], bool], job: Job[T | None]) -> Job[T | None]:
    """A job's result, or None where somebody asks to stop before."""
    while True:
        try:
            progress = next(job)
        except StopIteration as end:
            result: T | None = end.value
            return result
        yield progress
        if asked():
            job.close()
            return None


def _kept(
    workspace: Workspace, learner: Classifier, feed: Feed, judged: Chosen, thread_pool: ThreadPool
) -> Job[FrozenOutputs | None]:
    """The frozen part's outputs of all images, from a file of the workspace or computed now; None beyond the budget."""
    digest = hashlib.sha256()
    for rows in (feed.members, judged.places):
        digest.update(np.ascontiguousarray(rows).data)
        for first in range(0, len(rows), 512):
            digest.update(np.ascontiguousarray(feed.pixels[rows[first : first + 512]]).data)
    preprocessor, variants = feed.preprocessor, max(1, feed.variants if feed.augmentation else 1)
    statistics = (preprocessor.settings, np.asarray(preprocessor.mean).tolist(), np.asarray(preprocessor.std).tolist())
    steps = [step.write_kind() for step in feed.augmentation]
    key = key_of_part(
        learner.network, learner.frozen, digest.hexdigest(), statistics, steps, feed.seed, variants,
        learner.network.used_kernels(),
    )  # fmt: skip
    inputs = Inputs(
        variants,
        len(feed.members),
        len(judged.places),
        feed.prepared,
        lambda first, last: preprocessor.apply(judged[first:last]),
    )
    folder = workspace.cache / "frozen"
    return (yield from kept_outputs(folder, key, learner.network, learner.frozen, inputs, thread_pool))


def starting_point(plan: Plan, data: Data, base: ModelFile | None) -> tuple[Network, Preprocessor]:
    """Fresh weights and measured statistics; with a base, its layers, and its statistics if the plan says so."""
    network_plan = plan.network.with_outputs(plan.loss.outputs(len(data.collection.classes)))
    shape, kernels = plan.preprocessing.shape, plan.training.kernels
    network = Network.start(network_plan, shape, plan.seed, initialisation=plan.initialisation, kernels=kernels)
    measured = Preprocessor.measured(Chosen(data.pixels, data.members("training")), plan.preprocessing)
    if plan.base is None or base is None:
        return network, measured
    for fault in untaken(base, plan, plan.base):
        raise fault.error
    for name in network_plan.up_to(plan.base.until) & base.weights.keys():
        network.weights[name] = {key: array.copy() for key, array in base.weights[name].items()}
    return network, base.preprocessor if plan.base.statistics == "base" else measured


def _checkpoint(claimed: Run) -> ModelFile | None:
    """The last state that was kept; None if there is none yet, and the run begins anew."""
    file = claimed.checkpoints / "last.alens"
    if not file.exists():
        return None
    try:
        last = read_checkpoint(file)
    except BadFile as error:
        why = f"its last checkpoint is damaged, {error.why}"
        raise BadFile(f"Run {claimed.number} cannot go on", why, "Train its plan as a new run") from None
    if "position" not in last.card or "/steps" not in last.optimiser:
        raise BadFile(
            f"Run {claimed.number} cannot go on",
            "its last checkpoint does not say where it stood",
            "Train its plan as a new run",
        )
    return last


def _check_labels(claimed: Run, data: Data) -> None:
    """Refuse to go on with other labels or images than the run began with."""
    noted = claimed.images()
    changed = changed_since(claimed, data.collection)
    if noted is None or changed or len(noted[1]) != len(data.labels):
        raise BadValue(
            f"Run {claimed.number} cannot go on",
            f"{len(changed)} labels were changed since it began" if changed else "it began with other images",
            "Train its plan as a new run, which learns from what is there now",
        )


def check_memory(plan: Plan, classes: int) -> None:
    """Refuse a plan that needs more memory than there is, before anything is prepared or allocated."""
    needed, free = price_in_memory(plan, classes)
    if needed > free:
        raise BadValue(
            "The plan does not fit into memory",
            f"a step needs about {needed / 2**30:.1f} GiB and {free / 2**30:.1f} GiB are free",
            "Choose a smaller batch size, a smaller input size or fewer filters",
        )


def _tell_input(journal: Journal, feed: Feed) -> None:
    """Note mean and standard deviation of some prepared images, without augmentation, and batches of an epoch."""
    values = feed.preprocessor.apply(feed.pixels[feed.members[:: max(1, len(feed.members) // INPUT_IMAGES)]])
    mean, std = float(values.mean(dtype=np.float64)), float(values.std(dtype=np.float64))
    journal.write("input", mean=round(mean, 4), std=round(std, 4), batches=feed.batches)


def _check_without_validation(plan: Plan) -> None:
    """Refuse what follows a validation set where there is none."""
    if plan.schedule.needs_validation:
        why = f"there is no validation set, and the {plan.schedule.kind} schedule waits for its loss to stop falling"
        raise BadValue("The learning rate would never fall", why, "Hold some images out, or choose another schedule")
    if plan.stopping.needs_validation:
        why = "there is no validation set, and a rule of «stopping» waits for what it gives"
        raise BadValue("The run would not stop as planned", why, "Hold some images out, or take the rule back")


def _versions() -> PlainTable:
    return {
        "attentive_lens": VERSION,
        "numpy": np.__version__,
        "python": platform.python_version(),
    }
