"""The task that lets a plan run through in small: as a run does, in a folder that is gone afterwards."""

from __future__ import annotations

import shutil
import time
from pathlib import Path

from attentive_lens.core.files import make_folder, of_this_process
from attentive_lens.core.jobs import Job, Progress
from attentive_lens.desk.images.collection import collection
from attentive_lens.desk.network.bases import base_model
from attentive_lens.desk.requests.rehearsing import Rehearse, Rehearsed
from attentive_lens.desk.tasks.scoring import scored_anew
from attentive_lens.desk.training.executing import Launch, Trained, execute
from attentive_lens.desk.training.runs import RunReader
from attentive_lens.errors import NotHere
from attentive_lens.plan.plan import Plan
from attentive_lens.plan.shortening import shortened
from attentive_lens.workspace import Run, Workspace

EPOCHS = 2
IMAGES, OF_CLASS, BATCHES = 64, 4, 2
"""Training images at least: so many, so many of every class, and so many batches."""
LEAST = 0.001
"""Part of the training images that a split can be told to use, at least."""
FAR = 20.0
"""A loss beyond it, and the number of classes, is no loss of a network that guesses, by any function."""
FOLDER = "rehearsal"


def rehearse(request: Rehearse) -> Job[Rehearsed]:
    """See `Rehearse`."""
    place, plan = Workspace.open(Path(request.workspace)), Plan.read(request.plan)
    place.check_writable("The plan was not rehearsed")
    base_model(place, plan)
    short = in_small(place, plan)
    folder = of_this_process(place.cache, FOLDER)
    shutil.rmtree(folder, ignore_errors=True)
    run = Run(folder / "0001")
    try:
        make_folder(folder)
        make_folder(run.folder)
        run.write_plan(short)
        began = time.perf_counter()
        yield from _trained(place, run, Launch(until=1), 0)
        yield from _trained(place, run, Launch(resume=True), 1)
        images = collection(place, short, run)
        training, validation = images.count("training"), images.count("validation")
        draws = short.task.draws
        accuracy = (yield from _scored(place, run)) if validation and not draws else None
        seconds, epochs = time.perf_counter() - began, RunReader(run).view().epochs
        batches = len(epochs) * -(-training // short.training.batch_size)
        losses = tuple(epoch.training.loss for epoch in epochs)
        least = losses[0] if draws else FAR + len(images.learned(plan.task))
        runs_away = losses[-1] > least and not short.task.is_pair  # whose losses rise where the other side learns
        return Rehearsed(training, validation, batches, seconds, losses, runs_away, accuracy)
    finally:
        shutil.rmtree(folder, ignore_errors=True)


def in_small(place: Workspace, plan: Plan) -> Plan:
    """The plan for two epochs of a few images of every class, and no fewer than fill two batches."""
    images = collection(place, plan)
    count = images.count("training")
    wanted = max(IMAGES, OF_CLASS * len(images.learned(plan.task)), BATCHES * plan.training.batch_size)
    part = min(1.0, wanted / max(1, count))
    short = shortened(plan, min(1.0, EPOCHS / plan.training.epochs))
    fraction = max(LEAST, plan.split.subset_fraction * part)
    return short.changed({"training.epochs": EPOCHS, "training.evaluate_every": 1, "split.subset_fraction": fraction})


def _trained(place: Workspace, run: Run, launch: Launch, turn: int) -> Job[Trained]:
    """One of the two parts, told as a half of the whole."""
    job = execute(place, run, lambda: False, launch)
    while True:
        try:
            progress = next(job)
        except StopIteration as end:
            trained: Trained = end.value
            return trained
        part = progress.done / max(1, progress.total)
        yield Progress(round(500 * (turn + part)), 1000, "rehearsing the plan")


def _scored(place: Workspace, run: Run) -> Job[float | None]:
    try:
        return (yield from scored_anew(place, run, "validation")).accuracy
    except NotHere:  # of classes that no training image shows
        return None
