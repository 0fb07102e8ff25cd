"""The model file, ``*.alens``: a ZIP archive that can be read without us.

``network.json`` (nodes in order, output function, kernels), ``weights.safetensors`` (``node/array`` → array),
``preprocessing.json`` (input size, resize mode, colour space, normalisation and its measured statistics),
``classes.json`` (names; of several labels, their thresholds besides) and ``card.json`` (plan, scores, versions). A
checkpoint of a run may carry ``optimiser.safetensors`` besides. Nothing in it is ever executed.
"""

from __future__ import annotations

import json
import zipfile
from collections.abc import Mapping
from dataclasses import dataclass, field, replace
from pathlib import Path
from typing import TYPE_CHECKING, Any

import numpy as np
from safetensors.numpy import save

from attentive_lens.core.files import replacing
from attentive_lens.core.values import unknown_word
from attentive_lens.errors import BadFile, BadUsage
from attentive_lens.images.preprocessing import Preprocessor
from attentive_lens.plan.labels import of_one
from attentive_lens.plan.network import NetworkPlan
from attentive_lens.plan.tasks import IMAGES

if TYPE_CHECKING:
    from attentive_lens.engine.arrays import Array, Weights
    from attentive_lens.engine.network import Network
    from attentive_lens.engine.outputs import OutputFunction

FORMAT = 1


@dataclass(frozen=True)
class ModelFile:
    """A trained model with all that its answers need.

    Attributes
    ----------
    plan : NetworkPlan
        With its output filled in.
    weights : dict
        Node → array name → float32 array.
    preprocessor : Preprocessor
        What is done to an image first, with its statistics.
    classes : tuple of str
        Names by class number.
    output : str
        What makes answers of its scores, one of `engine.outputs.OUTPUTS`; it belongs to the loss it was trained by.
        «images» where it gives images in place of scores, see `plan.tasks`.
    kernels : mapping
        Node → kernel it was trained with, for the layers that have several.
    card : dict
        What it is and how it did; any JSON.
    thresholds : tuple of float
        Of a model that answers several labels, from which probability it says each, K; then its classes are labels.
    label : str
        The one of them that is asked about, see `about`; then it has two classes, and the weights of all labels.
    optimiser : dict
        Arrays of a checkpoint's optimiser, by ``node/array/name``; empty in a finished model.
    """

    plan: NetworkPlan
    weights: Weights
    preprocessor: Preprocessor
    classes: tuple[str, ...]
    output: str = "softmax"
    kernels: Mapping[str, str] = field(default_factory=dict)
    card: Mapping[str, Any] = field(default_factory=dict)
    optimiser: Mapping[str, Array] = field(default_factory=dict)
    thresholds: tuple[float, ...] = ()
    label: str = ""
    labels: tuple[str, ...] = ()

    @property
    def several(self) -> bool:
        """Whether it answers several labels, each by itself."""
        return bool(self.thresholds) and not self.label

    def about(self, label: str) -> ModelFile:
        """The same model, asked about one of its labels: two classes, without it and with it.

        Raises
        ------
        BadUsage
            If it has no such label.
        """
        if not self.several:
            raise BadUsage(f"The model has no label «{label}»", "it answers one class an image", "Leave it out")
        if label not in self.classes:
            raise unknown_word("label", label, frozenset(self.classes))
        return replace(self, classes=of_one(label), label=label, labels=self.classes)

    @property
    def output_function(self) -> str | OutputFunction:
        """What makes answers of its scores; of one label, an object made for it."""
        if not self.label:
            return self.output
        from attentive_lens.engine.outputs import OneLabel  # only here: the window opens model files, and runs none

        place = self.labels.index(self.label)
        return OneLabel(place, len(self.labels), self.thresholds[place])

    @property
    def draws(self) -> bool:
        """Whether it draws images; if not, it answers classes."""
        return self.output == IMAGES

    def flat(self, half: bool = False) -> dict[str, Array]:
        """Every array by «node/array», as it is or as float16; `BadFile` if a value is too large for that."""
        flat = {f"{node}/{name}": a for node, arrays in self.weights.items() for name, a in arrays.items()}
        if half:
            for name, array in flat.items():
                if array.size and float(np.abs(array).max()) > float(np.finfo(np.float16).max):
                    why = f"a weight of {name} is too large for that"
                    raise BadFile("The model cannot be stored in 16 bits", why, "Store it in 32 bits")
            return {name: array.astype(np.float16) for name, array in flat.items()}
        return flat

    def network(self) -> Network:
        """A network that runs."""
        from attentive_lens.engine.network import Network  # only here: the window opens model files, and runs none

        return Network(self.plan, self.preprocessor.settings.shape, self.weights, self.kernels)

    def write(self, file: Path, half: bool = False) -> None:
        """Write the file whole or not at all: temporary file, flush to disk, rename.

        Parameters
        ----------
        file : Path
        half : bool
            Whether the weights are stored as float16, in half the room; they are read as float32.

        Raises
        ------
        BadFile
            If the folder cannot be written, the disk is full, or a weight is too large for float16.
        """
        flat = self.flat(half)
        preprocessor = self.preprocessor
        measured = {"mean": preprocessor.mean, "std": preprocessor.std, **preprocessor.pixel_format.to_table()}
        network = {"format": FORMAT, "nodes": self.plan.write(), "output": self.output, "kernels": dict(self.kernels)}
        try:
            with replacing(file, sync=True) as part, zipfile.ZipFile(part, "w", zipfile.ZIP_STORED) as archive:
                _put(archive, "network.json", network)
                _put(archive, "preprocessing.json", {**preprocessor.settings.write(), **measured})
                labels = {"labels": list(self.labels or self.classes), "thresholds": list(self.thresholds)}
                _put(archive, "classes.json", labels if self.thresholds else list(self.classes))
                _put(archive, "card.json", dict(self.card))
                archive.writestr("weights.safetensors", save(_whole(flat)))
                if self.optimiser:
                    archive.writestr("optimiser.safetensors", save(_whole(self.optimiser)))
        except OSError as error:
            raise BadFile(
                f"{file} could not be written",
                str(error.strerror or error).lower(),
                "Free the disk or choose another folder",
            ) from None


def _put(archive: zipfile.ZipFile, name: str, value: Any) -> None:
    archive.writestr(name, json.dumps(value, indent=1, ensure_ascii=False))


def _whole(arrays: Mapping[str, Array]) -> dict[str, Array]:
    return {key: np.ascontiguousarray(array) for key, array in arrays.items()}
