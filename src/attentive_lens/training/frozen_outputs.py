"""Outputs of a network's frozen part for all images, computed once and kept in a file that training reads."""

from __future__ import annotations

import hashlib
import shutil
from collections.abc import Callable, Iterator
from dataclasses import dataclass
from pathlib import Path

import numpy as np
from numpy.typing import NDArray

from attentive_lens.core.files import remove_leftovers, replacing
from attentive_lens.core.jobs import Job, Progress
from attentive_lens.engine.arrays import Array
from attentive_lens.engine.batches import inference
from attentive_lens.engine.folding import folded_output
from attentive_lens.engine.network import Network
from attentive_lens.engine.threads import ThreadPool

BUDGET = 2 << 30
"""Bytes that all kept outputs of a workspace may take, at most."""
PORTION = 128
"""Images computed at a time."""


@dataclass(frozen=True)
class FrozenOutputs:
    """What the head of a network learns from and is judged by.

    Attributes
    ----------
    training : ndarray, V×M×…
        Of each variant of the training images.
    validation : ndarray, L×…
        As inference computes them.
    """

    training: NDArray[np.float32]
    validation: NDArray[np.float32]


@dataclass(frozen=True)
class Inputs:
    """Prepared images whose outputs are kept.

    Attributes
    ----------
    variants, members, held_out : int
        Variants and number of training images, and number of validation images.
    training, validation : callable
        Give prepared images: of a variant, from one place to another; of the validation set likewise.
    """

    variants: int
    members: int
    held_out: int
    training: Callable[[int, int, int], Array]
    validation: Callable[[int, int], Array]


def bytes_of(network: Network, node: str, images: int) -> int:
    """What the outputs of a node take for so many images, float32."""
    facts = {fact.name: fact for fact in network.plan.facts(network.image_shape)}
    return 4 * facts[node].numbers * images


def key_of_part(network: Network, node: str, *others: object) -> str:
    """A key of a node's outputs: of all layers and weights before it, and of whatever else decides them."""
    before = network.plan.up_to(node)
    digest = hashlib.sha256(repr(others).encode())
    for each in network.plan.nodes:
        if each.name in before:
            digest.update(repr(each).encode())
            for name, array in sorted(network.weights.get(each.name, {}).items()):
                digest.update(name.encode())
                digest.update(np.ascontiguousarray(array).data)
    return digest.hexdigest()[:32]


def outputs_of(
    network: Network, node: str, images: Array, thread_pool: ThreadPool | None = None, as_inference: bool = False
) -> Array:
    """A node's outputs of prepared images, float32: the same bits for an image in any company, kept or not.

    ``as_inference`` computes them as a model that answers does, which merges normalisations with the layers before.
    """
    if as_inference:
        network, node = folded_output(network, node)
    return np.asarray(inference(network, images, thread_pool, node), np.float32)


def stored_outputs(
    folder: Path,
    key: str,
    network: Network,
    node: str,
    inputs: Inputs,
    thread_pool: ThreadPool,
) -> Job[FrozenOutputs | None]:
    """The outputs from the file of that key, which is made if there is none; None where they are beyond the budget.

    Parameters
    ----------
    folder : Path
        Where files are kept; the oldest go where the budget needs it.
    key : str
        From `key_of_part`.
    network, node
        Whose outputs.
    inputs : Inputs
        Of what.
    thread_pool : ThreadPool
        Threads.
    """
    shape = {fact.name: fact.shape for fact in network.plan.facts(network.image_shape)}[node]
    split = inputs.variants * inputs.members
    total = split + inputs.held_out
    file = folder / f"{key}.npy"
    stored = _opened(file, (total, *shape))
    if stored is None:
        needed = bytes_of(network, node, total)
        if not _make_room(folder, needed):
            return None
        remove_leftovers(folder)
        try:
            with replacing(file) as partial:
                writing = np.lib.format.open_memmap(partial, "w+", np.float32, (total, *shape))
                done = 0
                for first, part in _parts(network, node, inputs, thread_pool):
                    writing[first : first + len(part)] = part
                    done += len(part)
                    yield Progress(done, total, "computing the frozen part once")
                writing.flush()
                del writing
        except OSError:
            return None
        stored = _opened(file, (total, *shape))
        if stored is None:
            return None
    training = stored[:split].reshape(inputs.variants, inputs.members, *shape)
    return FrozenOutputs(training, stored[split:])


def _parts(network: Network, node: str, inputs: Inputs, thread_pool: ThreadPool) -> Iterator[tuple[int, Array]]:
    """Outputs, some at a time, each with the place of the first."""
    for variant in range(inputs.variants):
        for first in range(0, inputs.members, PORTION):
            images = inputs.training(variant, first, min(inputs.members, first + PORTION))
            yield variant * inputs.members + first, outputs_of(network, node, images, thread_pool)
    for first in range(0, inputs.held_out, PORTION):
        images = inputs.validation(first, min(inputs.held_out, first + PORTION))
        place = inputs.variants * inputs.members + first
        yield place, outputs_of(network, node, images, thread_pool, as_inference=True)


def _opened(file: Path, shape: tuple[int, ...]) -> NDArray[np.float32] | None:
    try:
        stored = np.lib.format.open_memmap(file, "r")
    except (OSError, ValueError):
        return None
    return stored if stored.shape == shape and stored.dtype == np.float32 else None


def _make_room(folder: Path, needed: int) -> bool:
    """Remove the oldest files until another fits into the budget and onto half of the disk that is free."""
    if needed > BUDGET:
        return False
    try:
        folder.mkdir(parents=True, exist_ok=True)
        files = sorted(folder.glob("*.npy"), key=lambda each: each.stat().st_mtime)
        used = sum(each.stat().st_size for each in files)
        while files and used + needed > BUDGET:
            used -= files[0].stat().st_size
            files.pop(0).unlink()
        return needed <= shutil.disk_usage(folder).free // 2
    except OSError:
        return False
