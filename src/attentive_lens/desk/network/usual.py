"""The plan that a workspace begins with, made for its images: their size, whether they are grey, what flips do."""

from __future__ import annotations

import math
from collections.abc import Sequence
from functools import partial

import numpy as np

from attentive_lens.core.helpers import Helpers
from attentive_lens.core.jobs import Job, Progress
from attentive_lens.desk.images.data import pixel_format_of, references, several_labels
from attentive_lens.errors import LensError
from attentive_lens.images.ahead import batches
from attentive_lens.images.flips import Turned, turned_by_flip
from attentive_lens.images.opening import keeping_open
from attentive_lens.images.pixel_format import GREY as GREY_CHANNEL
from attentive_lens.images.pixel_format import PixelArray, are_ordinary
from attentive_lens.images.sources import Reference
from attentive_lens.plan.labels import labels_of
from attentive_lens.plan.plan import Plan
from attentive_lens.plan.preprocessing import Preprocessing
from attentive_lens.plan.starters import STARTERS
from attentive_lens.workspace import ImageRow, Workspace
from attentive_lens.workspace.plan_files import read_plan, write_plan

FILE = "usual.toml"
"""The plan that a workspace begins with, where it is not the default one."""
GREY = ("grey", "black and white")
LEAST, MOST = 8, 64
"""Sides between which the input size follows the images."""
SQUARE, FAR_FROM_SQUARE = 1.2, 1.6
"""Proportions up to which small images count as square, and up to which others lose little when they are made so."""
ALIKE, NEARLY = 1.05, 0.95
"""Proportions up to which two images are of one shape, and the part that must be."""
STEP = 4
SAMPLED, SIDE = 1200, 16
"""Images that flips are tried on, and their side."""


def usual_plan(workspace: Workspace) -> Plan:
    """What a workspace begins with; the default plan where nothing was noted or it cannot be read."""
    file = workspace.folder / FILE
    try:
        return read_plan(file) if file.exists() else Plan()
    except LensError:
        return Plan()


def looked_at(rows: Sequence[ImageRow], workspace: Workspace | None = None) -> Preprocessing:
    """How images are prepared to be looked at, whatever the plan: by the default, those of one shape in that shape.

    All channels of the workspace's images are there.
    """
    usual = Plan().preprocessing if workspace is None else in_own_channels(workspace, Plan().preprocessing)
    return usual.with_(input_size=_oblong(rows) or usual.input_size)


def in_own_channels(workspace: Workspace, settings: Preprocessing) -> Preprocessing:
    """The same for all channels that the workspace's images have, where these are not an ordinary picture's."""
    grey = "grey" if pixel_format_of(workspace).channels == GREY_CHANNEL else settings.colour_space
    return settings.with_(channel_names=_names_seen(workspace), colour_space=grey)


def _names_seen(workspace: Workspace) -> tuple[str, ...]:
    """Channels that a plan names; none where they are grey, or red, green and blue."""
    channels = pixel_format_of(workspace).channels
    return () if are_ordinary(channels) else channels


def fitted(
    rows: Sequence[ImageRow], plan: Plan | None = None, channels: tuple[str, ...] = ()
) -> tuple[Plan, list[str]]:
    """A plan for images of this size and colour, and a sentence for each thing that is not as usual."""
    plan = plan or Plan()
    sentences: list[str] = []
    if not rows:
        return plan, sentences
    side = int(np.median([max(row.width, row.height) for row in rows]))
    changes: dict[str, object] = {}
    oblong = _oblong(rows)
    if oblong is not None:
        changes["preprocessing.input_size"] = oblong
        what = "×".join(map(str, oblong))
        sentences.append(f"The images are of one shape, and not square: the input of the usual plan is {what} pixels.")
    elif side < MOST:
        changes["preprocessing.input_size"] = max(LEAST, side)
        sentences.append(f"The longer side of the images is {side} pixels: so is the input of the usual plan.")
    if channels:
        changes["preprocessing.channel_names"] = list(channels)
        what = f"the usual plan looks at all {len(channels)}"
        sentences.append(f"The images have channels of their own, {', '.join(channels)}: {what}.")
    elif all(row.mode.startswith(GREY) for row in rows):
        changes["preprocessing.colour_space"] = "grey"
        sentences.append("All images are grey: the usual plan looks at one channel.")
    for network in ("three blocks", "two blocks"):
        try:
            return plan.changed({**changes, "network": network}) if changes else plan, sentences
        except LensError:
            continue  # too deep for so few pixels
    smallest = min(STARTERS, key=lambda name: len(STARTERS[name].network.nodes))
    return plan.changed({**changes, "network": smallest}), sentences


def _oblong(rows: Sequence[ImageRow]) -> tuple[int, int] | None:
    """Rows and columns of an input for images that are nearly all of one shape, which is not square; None for others.

    Small ones are taken as they are. Others are reduced to about as many pixels as the usual square has, in steps of
    `STEP`, where a square would be a lesser picture of them.
    """
    sides = np.array([(row.height, row.width) for row in rows if row.height and row.width], np.float64)
    if not len(sides):
        return None
    shapes = np.log(sides[:, 1] / sides[:, 0])
    usual = float(np.median(shapes))
    height, width = np.median(sides, axis=0).tolist()
    step, is_small = 1, height * width <= MOST**2
    least = SQUARE if is_small else FAR_FROM_SQUARE
    if abs(usual) < math.log(least) or np.mean(np.abs(shapes - usual) < math.log(ALIKE)) < NEARLY:
        return None
    if not is_small:
        height, width, step = MOST * math.exp(-usual / 2), MOST * math.exp(usual / 2), STEP
    rows_, columns = (max(LEAST, step * round(side / step)) for side in (height, width))
    return rows_, columns


def note_usual(workspace: Workspace) -> Job[list[str]]:
    """Look at a new workspace's images, note the plan that it begins with, and say what is not as usual."""
    rows = workspace.catalogue.images()
    plan, sentences = fitted(rows, channels=_names_seen(workspace))
    if several_labels(workspace):
        plan = plan.changed({"task": "multi-label"})
        count = len(labels_of(workspace.catalogue.classes()))
        sentences.append(f"An image may have several of {count} labels: the usual plan learns each by itself.")
    flips = [step for step in plan.augmentation if step.kind == "flip"] if not plan.task.several else []
    turned = (yield from _turned(workspace, rows)) if flips else ()
    if turned:
        plan = plan.with_augmentation(tuple(step for step in plan.augmentation if step.kind != "flip"))
        pairs = ", ".join(f"«{each.name}» looks like «{each.other}»" for each in turned[:3])
        more = f" and {len(turned) - 3} more do alike" if len(turned) > 3 else ""
        sentences.append(f"Mirrored, {pairs}{more}: the usual plan does not flip images.")
    if plan != Plan():
        write_plan(workspace.folder / FILE, plan)
    return sentences


def _turned(workspace: Workspace, rows: Sequence[ImageRow]) -> Job[tuple[Turned, ...]]:
    some = rows[:: max(1, -(-len(rows) // SAMPLED))]
    small = Preprocessing(input_size=SIDE, channel_names=_names_seen(workspace))
    present = [
        (row.label, each) for row, each in zip(some, references(workspace, some), strict=True) if each is not None
    ]
    pixels: list[PixelArray] = []
    whole = any(each.source.is_whole for _, each in present)
    with Helpers(partial(_opened, small), 0 if whole else None) as helpers:
        for few in helpers.each(batches(each for _, each in present)):
            yield Progress(len(pixels), len(present), "trying flips")
            pixels += few
    labels = np.array([label for label, _ in present], np.int64)
    return turned_by_flip(np.stack(pixels), labels, workspace.catalogue.classes())


def _opened(settings: Preprocessing, images: Sequence[Reference]) -> list[PixelArray]:
    with keeping_open():
        return [each.resized(settings) for each in images]
