"""The model file, ``*.alens``: a ZIP archive that can be read without us.

``network.json`` (nodes in order), ``weights.safetensors`` (``node/array`` → array), ``preparation.json`` (working
size, fit, colour, measured levels), ``classes.json`` and ``card.json`` (plan, scores, versions). A checkpoint of a
run may carry ``optimiser.safetensors`` besides. Nothing in it is ever executed.
"""

from __future__ import annotations

import io
import json
import os
import zipfile
from collections.abc import Mapping
from dataclasses import dataclass, field, replace
from pathlib import Path
from typing import Any

import numpy as np
import safetensors
from safetensors.numpy import load, save

from attentive_lens.engine.arrays import Array, Weights
from attentive_lens.engine.network import Network
from attentive_lens.errors import BadFile, LensError
from attentive_lens.images.preparation import Levels
from attentive_lens.plan.blocks import read_network
from attentive_lens.plan.network import NetworkPlan
from attentive_lens.plan.settings import Preparation

FORMAT = 1
MOST_BYTES = 8 << 30


@dataclass(frozen=True)
class ModelFile:
    """A trained model with all that its answers need.

    Attributes
    ----------
    plan : NetworkPlan
        With its answers filled in.
    weights : dict
        Node → array name → float32 array.
    preparation, levels
        What is done to an image first.
    classes : tuple of str
        Names by class number.
    card : dict
        What it is and how it did; any JSON.
    optimiser : dict
        Arrays of a checkpoint's optimiser, by ``node/array/name``; empty in a finished model.
    """

    plan: NetworkPlan
    weights: Weights
    preparation: Preparation
    levels: Levels
    classes: tuple[str, ...]
    card: Mapping[str, Any] = field(default_factory=dict)
    optimiser: Mapping[str, Array] = field(default_factory=dict)

    def network(self) -> Network:
        """A network that runs."""
        return Network(self.plan, self.preparation.shape, self.weights)

    def write(self, file: Path) -> None:
        """Write the file whole or not at all: temporary file, flush to disk, rename.

        Raises
        ------
        BadFile
            If the folder cannot be written or the disk is full.
        """
        own = file.with_name(f".{file.name}.{os.getpid()}")
        flat = {f"{node}/{name}": a for node, arrays in self.weights.items() for name, a in arrays.items()}
        levels = {"mean": self.levels.mean, "deviation": self.levels.deviation}
        try:
            with own.open("wb") as stream:
                with zipfile.ZipFile(stream, "w", zipfile.ZIP_STORED) as archive:
                    _put(archive, "network.json", {"format": FORMAT, "nodes": self.plan.write()})
                    _put(archive, "preparation.json", {**self.preparation.write(), "levels": levels})
                    _put(archive, "classes.json", list(self.classes))
                    _put(archive, "card.json", dict(self.card))
                    archive.writestr("weights.safetensors", save(_whole(flat)))
                    if self.optimiser:
                        archive.writestr("optimiser.safetensors", save(_whole(self.optimiser)))
                stream.flush()
                os.fsync(stream.fileno())
            own.replace(file)
        except OSError as error:
            own.unlink(missing_ok=True)
            raise BadFile(
                f"{file} could not be written",
                str(error.strerror or error).lower(),
                "Free the disk or choose another folder",
            ) from None


def read_model(file: Path) -> ModelFile:
    """Read a model file and check that its parts fit each other.

    Raises
    ------
    BadFile
        If it is missing, damaged, of a later format, or its weights do not fit its network.
    """
    try:
        with zipfile.ZipFile(file) as archive:
            if sum(entry.file_size for entry in archive.infolist()) > MOST_BYTES:
                raise _bad(file, "it would unpack to more than 8 GiB")
            network = json.loads(archive.read("network.json"))
            if network.get("format") != FORMAT:
                raise _bad(file, f"it has format {network.get('format')!r} and this version reads format {FORMAT}")
            plan = read_network(network["nodes"])
            table = json.loads(archive.read("preparation.json"))
            found = table.pop("levels")
            means, deviations = tuple(map(float, found["mean"])), tuple(map(float, found["deviation"]))
            preparation = Preparation.read(table)
            levels = replace(Levels.plain(preparation), mean=means, deviation=deviations)
            classes = tuple(str(name) for name in json.loads(archive.read("classes.json")))
            card = json.loads(archive.read("card.json"))
            flat = load(archive.read("weights.safetensors"))
            names = archive.namelist()
            optimiser = load(archive.read("optimiser.safetensors")) if "optimiser.safetensors" in names else {}
    except FileNotFoundError:
        raise BadFile(f"{file} could not be opened", "there is no such file", "Check the path") from None
    except (
        OSError,
        zipfile.BadZipFile,
        KeyError,
        ValueError,
        TypeError,
        AttributeError,
        io.UnsupportedOperation,
    ):
        raise _bad(file, "it is not a whole model file") from None
    except safetensors.SafetensorError:
        raise _bad(file, "its weights are damaged") from None
    except LensError as error:
        if isinstance(error, BadFile):
            raise
        raise _bad(file, f"its network or preparation is not valid ({error.why})") from None
    weights: Weights = {}
    for key, array in flat.items():
        node, _, name = key.rpartition("/")
        weights.setdefault(node, {})[name] = array
    model = ModelFile(plan, weights, preparation, levels, classes, card, optimiser)
    _check(file, model)
    return model


def _check(file: Path, model: ModelFile) -> None:
    """Refuse weights that do not fit the network, and a number of classes other than that of its answers."""
    if model.plan.nodes[-1].layer.output_shape((1,)) != (len(model.classes),):
        raise _bad(file, "its classes are not as many as its answers")
    if (
        len(model.levels.mean) != model.preparation.shape[2]
        or len(model.levels.deviation) != model.preparation.shape[2]
    ):
        raise _bad(file, "its levels are not as many as its channels")
    for node, facts in zip(model.plan.nodes, model.plan.facts(model.preparation.shape), strict=True):
        wanted = node.layer.weight_shapes(facts.given) | node.layer.state_shapes(facts.given)
        there = {name: a.shape for name, a in model.weights.get(node.name, {}).items()}
        if wanted != there:
            raise _bad(file, f"the weights of {node.name} are not of the shape its network asks for")
        for array in model.weights.get(node.name, {}).values():
            if not np.isfinite(array).all():
                raise _bad(file, f"the weights of {node.name} hold values that are not numbers")


def _put(archive: zipfile.ZipFile, name: str, value: Any) -> None:
    archive.writestr(name, json.dumps(value, indent=1, ensure_ascii=False))


def _whole(arrays: Mapping[str, Array]) -> dict[str, Array]:
    return {key: np.ascontiguousarray(array) for key, array in arrays.items()}


def _bad(file: Path, why: str) -> BadFile:
    return BadFile(f"{file.name} could not be opened as a model", why, "Export it again from its run")
