"""The model file, ``*.alens``: a ZIP archive that can be read without us.

``network.json`` (nodes in order), ``weights.safetensors`` (``node/array`` → array), ``preparation.json`` (working
size, fit, colour, measured levels), ``classes.json`` and ``card.json`` (plan, scores, versions). A checkpoint of a
run may carry ``optimiser.safetensors`` besides. Nothing in it is ever executed.
"""

from __future__ import annotations

import json
import os
import zipfile
from collections.abc import Mapping
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

import numpy as np
from safetensors.numpy import save

from attentive_lens.engine.arrays import Array, Weights
from attentive_lens.engine.network import Network
from attentive_lens.errors import BadFile
from attentive_lens.images.preparation import Levels
from attentive_lens.plan.network import NetworkPlan
from attentive_lens.plan.settings import Preparation

FORMAT = 1


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


def _put(archive: zipfile.ZipFile, name: str, value: Any) -> None:
    archive.writestr(name, json.dumps(value, indent=1, ensure_ascii=False))


def _whole(arrays: Mapping[str, Array]) -> dict[str, Array]:
    return {key: np.ascontiguousarray(array) for key, array in arrays.items()}
