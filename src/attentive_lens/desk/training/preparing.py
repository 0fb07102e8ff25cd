"""What a run trains with, made ready by every process that takes part in it."""

from __future__ import annotations

import hashlib
from dataclasses import dataclass, replace

import numpy as np
from numpy.typing import NDArray

from attentive_lens.core.jobs import Job
from attentive_lens.core.telling import counted
from attentive_lens.desk.images.collection import Collection, Library, collection
from attentive_lens.desk.images.data import Data, gather, pixel_format_of
from attentive_lens.desk.network.bases import base_model, untaken
from attentive_lens.desk.network.design import price_in_memory
from attentive_lens.desk.training.cautions import changed_since, repainted_since
from attentive_lens.engine.arrays import DTYPES
from attentive_lens.engine.network import Network, fingerprint
from attentive_lens.engine.ranks import Ranks
from attentive_lens.engine.threads import ThreadPool
from attentive_lens.errors import BadFile, BadValue
from attentive_lens.formats.bundle import ModelFile
from attentive_lens.formats.reading import read_checkpoint
from attentive_lens.images.feeding import Feed
from attentive_lens.images.preprocessing import Preprocessor
from attentive_lens.images.rows import Chosen
from attentive_lens.images.sampling import shown_of_classes
from attentive_lens.plan.examination import examine
from attentive_lens.plan.labels import HALF
from attentive_lens.plan.plan import Plan
from attentive_lens.training.frozen_outputs import FrozenOutputs, Inputs, key_of_part, stored_outputs
from attentive_lens.training.learner import NetworkLearner
from attentive_lens.training.learners import learner_for
from attentive_lens.workspace import Run, Workspace

Judged = tuple[Chosen | NDArray[np.float32], NDArray[np.int64]]
"""Validation images, or what is kept of them, and their classes."""


@dataclass(frozen=True)
class Setup:
    """A run's plan, data and network, before its first step here.

    Attributes
    ----------
    plan : Plan
        With the base's preprocessing.
    data : Data
        Images and labels, by the run's classes.
    network, preprocessor
        As it starts, or goes on.
    feed : Feed
        Training batches.
    last : ModelFile or None
        The checkpoint it goes on from.
    """

    plan: Plan
    data: Data
    network: Network
    preprocessor: Preprocessor
    feed: Feed
    last: ModelFile | None

    @property
    def names(self) -> tuple[str, ...]:
        """Classes."""
        return tuple(self.data.collection.learned(self.plan.task)) if self.last is None else self.last.classes

    def model(self) -> ModelFile:
        """All of a model file but weights and card."""
        kernels = self.network.used_kernels()
        thresholds = (HALF,) * len(self.names) if self.plan.task.several else ()
        return ModelFile(
            self.network.plan, {}, self.preprocessor, self.names, self.plan.outputs, kernels, thresholds=thresholds
        )

    def learner(self, claimed: Run, thread_pool: ThreadPool, ranks: Ranks) -> NetworkLearner:
        """What learns, standing where the run stands.

        Raises
        ------
        BadValue
            If all of it is frozen.
        """
        feed, plan = self.feed, self.plan
        kinds = len(self.names) if feed.targets is None else len(feed.targets)
        counts = shown_of_classes(self.data.labels[feed.members], kinds, feed.sampling)
        learner = learner_for(
            plan, self.network, self.preprocessor, thread_pool, counts, feed.examples, ranks, feed.targets
        )
        learner.rates = claimed.rates()
        if self.last is not None:
            learner.restore(self.last.weights, self.last.optimiser)
        if not learner.route.trainable:
            raise BadValue("There is nothing to learn", "every layer with weights is frozen", "Freeze fewer layers")
        feed.rows = lambda count: learner.cut(count).rows
        return learner

    def held_out(self) -> Judged:
        """Validation images and their classes."""
        rows = self.data.members("validation")
        rows = rows[self.data.labels[rows] >= 0]  # of classes without training images nothing is asked
        return Chosen(self.data.pixels, rows), self.data.labels[rows]

    def with_frozen_outputs(
        self, workspace: Workspace, learner: NetworkLearner, thread_pool: ThreadPool
    ) -> Job[Judged]:
        """Validation images and classes; where a part is frozen, its outputs instead, and the feed takes them too.

        They are read from a file of the workspace or computed now.
        """
        images, labels = self.held_out()
        if learner.frozen and isinstance(images, Chosen):
            stored = yield from _kept(workspace, learner, self.feed, images, thread_pool)
            if stored is not None:
                self.feed.frozen_outputs = stored.training
                return stored.validation, labels
        return images, labels

    def mark(self, learner: NetworkLearner) -> str:
        """The same for all processes that would take the same steps."""
        digest = hashlib.sha256(fingerprint(learner.weights()).encode())
        statistics = (np.asarray(self.preprocessor.mean).tolist(), np.asarray(self.preprocessor.std).tolist())
        stored = self.feed.frozen_outputs.shape if self.feed.frozen_outputs is not None else None
        digest.update(repr((self.plan.write(), statistics, self.names, stored)).encode())
        digest.update(self.data.labels.tobytes() + self.feed.members.tobytes())
        return digest.hexdigest()


def prepare(workspace: Workspace, claimed: Run, last: ModelFile | None) -> Job[Setup]:
    """Gather the data of a claimed run, and its network as it starts or as a checkpoint has it.

    Raises
    ------
    LensError
        If the images, the base, memory or the plan do not allow it.
    """
    plan = claimed.plan()
    base = base_model(workspace, plan)
    if base is not None:
        plan = replace(plan, preprocessing=base.preprocessor.settings)
    check_memory(plan, collection(workspace, plan))
    data = yield from gather(workspace, plan, claimed if last is not None else None)
    if last is not None:
        _check_labels(claimed, data)
    if not plan.task.draws:
        _check_several(plan, data)
    if last is None:
        Library.read(workspace).check_groups(plan)
    names = last.classes if last is not None else tuple(data.collection.learned(plan.task))
    targets = data.collection.targets(names) if plan.task.several else None
    data = data if plan.task.several else data.seen_by(names)
    members = data.members("training")
    if len(members) < 2:
        raise BadValue("There is nothing to train on", f"the training set has {len(members)} images", "Add images")
    if not len(data.members("validation")):
        _check_without_validation(plan)
    if last is None:
        network, preprocessor = starting_point(plan, data, base, len(names))
    else:
        network, preprocessor = last.network(), last.preprocessor
    preprocessor = replace(preprocessor, pixel_format=pixel_format_of(workspace))
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
        plan.task.wanted,
        plan.training.sampling,
        targets,
    )
    return Setup(plan, data, network, preprocessor, feed, last)


def starting_point(plan: Plan, data: Data, base: ModelFile | None, classes: int) -> tuple[Network, Preprocessor]:
    """Fresh weights for so many classes, and measured statistics.

    With a base, its layers, and its statistics if the plan says so.
    """
    if not plan.task.draws:
        plan.loss.check(classes)
    units = plan.units(classes)
    for fault in examine(plan.network.nodes, plan.preprocessing.shape, units, classes).faults:
        raise fault.error  # an output that names another number of units than there are classes
    network_plan = plan.network_for(classes)
    shape, kernels = plan.preprocessing.shape, plan.training.kernels
    dtype = DTYPES[plan.training.precision]
    network = Network.start(network_plan, shape, plan.seed, dtype, plan.initialisation, kernels)
    if network_plan.discriminator:
        own = Network.start(network_plan, shape, plan.seed, dtype, plan.discriminator_initialisation, kernels)
        network.weights.update({name: own.weights[name] for name in network_plan.discriminator & own.weights.keys()})
    measured = Preprocessor.measured(Chosen(data.pixels, data.members("training")), plan.preprocessing)
    if plan.base is None or base is None:
        return network, measured
    for fault in untaken(base, plan, plan.base):
        raise fault.error
    for name in network_plan.up_to(plan.base.until) & base.weights.keys():
        network.weights[name] = {key: array.astype(dtype) for key, array in base.weights[name].items()}
    return network, base.preprocessor if plan.base.statistics == "base" else measured


def last_checkpoint(claimed: Run) -> ModelFile | None:
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


def _kept(
    workspace: Workspace, learner: NetworkLearner, feed: Feed, judged: Chosen, thread_pool: ThreadPool
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
    return (yield from stored_outputs(folder, key, learner.network, learner.frozen, inputs, thread_pool))


def _check_labels(claimed: Run, data: Data) -> None:
    """Refuse to go on with other labels or images than the run began with."""
    noted = claimed.images()
    changed = changed_since(claimed, data.collection)
    repainted = repainted_since(claimed, data.collection, data.regions)
    if noted is None or changed or repainted or len(noted[1]) != len(data.labels):
        images = counted(len(repainted), "image has", "images have")
        others = f"{images} other contents or outlines since it began" if repainted else ""
        raise BadValue(
            f"Run {claimed.number} cannot go on",
            f"{len(changed)} labels were changed since it began" if changed else others or "it began with other images",
            "Train its plan as a new run, which learns from what is there now",
        )


def check_memory(plan: Plan, images: Collection) -> None:
    """Refuse a plan that needs more memory than there is, before anything is prepared or allocated."""
    needed, free = price_in_memory(plan, max(2, len(images.learned(plan.task))), images.count("validation"))
    if needed > free:
        raise BadValue(
            "The plan does not fit into memory",
            f"training takes about {needed / 2**30:.1f} GiB and {free / 2**30:.1f} GiB are free",
            "Choose a smaller batch size, a smaller input size or fewer filters",
        )


def _check_several(plan: Plan, data: Data) -> None:
    """Refuse to learn from images that are all of one class, or have one label among them."""
    labels = data.collection.labels_taught
    if plan.task.several and len(labels) < 2:
        why = f"the training images have {'only the label «' + labels[0] + '»' if labels else 'no labels'}"
        raise BadValue("There are not several labels to learn", why, "Label images otherwise, or set task=classify")
    taught, count = data.collection.taught, data.collection.count("training")
    if len(taught) == 1 and count > 1:
        why = f"all {count} training images are of «{taught[0]}»"
        raise BadValue("There is nothing to tell apart", why, "Label or add training images of another class")


def _check_without_validation(plan: Plan) -> None:
    """Refuse what follows a validation set where there is none."""
    if plan.schedule.needs_validation:
        why = f"there is no validation set, and the {plan.schedule.kind} schedule waits for its loss to stop falling"
        raise BadValue("The learning rate would never fall", why, "Hold some images out, or choose another schedule")
    if plan.stopping.needs_validation:
        why = "there is no validation set, and a rule of «stopping» waits for what it gives"
        raise BadValue("The run would not stop as planned", why, "Hold some images out, or take the rule back")
