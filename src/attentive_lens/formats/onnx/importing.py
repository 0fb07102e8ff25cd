"""A model of the standard taken in: a model file of ours, with what its pixels become and the names of its classes."""

from __future__ import annotations

import json
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from pathlib import Path
from typing import Any

from attentive_lens.errors import BadFile, BadValue, LensError
from attentive_lens.formats.bundle import ModelFile
from attentive_lens.formats.onnx.preparation import PREPARED
from attentive_lens.formats.onnx.reading import OnnxModel, read
from attentive_lens.formats.onnx.recognising import Recogniser
from attentive_lens.formats.onnx.rules import RULES
from attentive_lens.formats.onnx.units import joined
from attentive_lens.formats.onnx.writing import SCORES
from attentive_lens.images.pixel_format import PixelFormat
from attentive_lens.images.preprocessing import Preprocessor
from attentive_lens.plan.layers import Shape
from attentive_lens.plan.layers.base import one_or_both
from attentive_lens.plan.preprocessing import Preprocessing

PLAIN = "It does not say what its pixels become: 0 to 1 is taken. Name mean and standard deviation if it has others."
ALL_SOFTMAX = "It ends with raw scores: softmax is taken to make probabilities of them."
NO_NAMES = "It has no names of its classes: they are numbered. Name each of them."


@dataclass(frozen=True)
class TakenIn:
    """A model of ours, and what had to be assumed.

    Attributes
    ----------
    model : ModelFile
        As any other.
    begin : str
        The value of the graph that is its prepared image, N×C×H×W.
    assumed : tuple of str
        Sentences.
    """

    model: ModelFile
    begin: str
    assumed: tuple[str, ...]


def take_in(
    model: OnnxModel,
    classes: Sequence[str] = (),
    mean: Sequence[float] = (),
    std: Sequence[float] = (),
    side: int = 0,
) -> TakenIn:
    """A graph as a model of ours.

    Parameters
    ----------
    model : OnnxModel
        What was read.
    classes : sequence of str
        Names by class number; those that the file tells if left out.
    mean, std : sequence of float
        Of the channels, in 0–1: what is taken off a pixel, and what it is then divided by.
    side : int
        Of the image, which is square then, where the file leaves both its sides open; 0: as the file says.

    Raises
    ------
    BadFile
        If a node of it can be no layer of ours, or its input is no image.
    BadValue
        If names or figures do not fit it.
    """
    own = _own(model)
    assumed: list[str] = []
    if own is not None:
        preprocessor, begin = own, PREPARED
    else:
        begin, image = _image(model, side)
        preprocessor = _preprocessor(image, mean, std)
        assumed += [] if mean or std else [PLAIN]
    network = Recogniser(joined(model), begin, preprocessor.settings.shape).network(RULES)
    if own is not None and model.outputs[0] == SCORES:
        network = replace(network, output="none")
    elif own is None and network.output == "softmax" and model.nodes[-1].operator != "Softmax":
        assumed.append(ALL_SOFTMAX)
    units = network.plan.nodes[-1].layer.output_shape((1,))[0]
    count = 2 if network.output == "one sigmoid" else units
    names = tuple(classes) or _names(model)
    if not names:
        names = tuple(f"class {number}" for number in range(1, count + 1))
        assumed.append(NO_NAMES)
    if len(names) != count or len(set(names)) != count:
        why = f"it has {count} classes, and {len(set(names))} different names are given"
        raise BadValue(f"{model.name} was not taken in", why, "Name each class once")
    card = {"imported from": model.name, "operators": model.version, "assumed": assumed}
    thresholds = _thresholds(model, count) if network.output == "sigmoid" else ()
    ours = ModelFile(
        network.plan, network.weights, preprocessor, names, network.output, card=card, thresholds=thresholds
    )
    return TakenIn(ours, begin, tuple(assumed))


def opened(file: Path) -> ModelFile:
    """A file of the standard as a model of ours, by what it says of itself; see `take_in` for what is assumed else.

    Raises
    ------
    BadFile
        If it cannot be read or taken in, or a name it has for its classes is missing or there twice.
    """
    try:
        return take_in(read(file)).model
    except BadValue as error:
        raise BadFile(error.what, error.why, error.remedy) from None


def _own(model: OnnxModel) -> Preprocessor | None:
    """What a file of our own says of its preprocessing, which need not be recognised then."""
    if not any(PREPARED in node.outputs for node in model.nodes):
        return None
    try:
        stored: Mapping[str, Any] = json.loads(model.properties.get("preprocessing", ""))
        settings = Preprocessing.read(stored["settings"])
        mean, std = (tuple(float(value) for value in stored[name]) for name in ("mean", "std"))
        pixel_format = PixelFormat.from_table(stored)
    except (ValueError, KeyError, TypeError, LensError):
        return None
    if not len(mean) == len(std) == settings.channels:
        return None
    return Preprocessor(settings, mean, std, pixel_format)


def _thresholds(model: OnnxModel, count: int) -> tuple[float, ...]:
    """Those of a file of our own that answers several labels; none where it does not say so many from 0 to 1."""
    try:
        values = json.loads(model.properties.get("thresholds", "[]"))
        numbers = tuple(float(value) for value in values)
    except (ValueError, TypeError):
        return ()
    return numbers if len(numbers) == count and all(0 <= number <= 1 for number in numbers) else ()


def _names(model: OnnxModel) -> tuple[str, ...]:
    try:
        names = json.loads(model.properties.get("classes", "[]"))
    except ValueError:
        return ()
    return tuple(names) if isinstance(names, list) and all(isinstance(name, str) for name in names) else ()


def _image(model: OnnxModel, side: int) -> tuple[str, Shape]:
    """The input that is the image, channels first, and its rows, columns and channels."""
    if len(model.inputs) != 1:
        raise BadFile(f"{model.name} was not taken in", f"it takes {len(model.inputs)} inputs", "Take one of images")
    ((name, sides),) = model.inputs.items()
    if len(sides) == 4 and sides[3] in (1, 3) and sides[1] not in (1, 3):
        first = next((node for node in model.nodes if name in node.inputs), None)
        if first is not None and first.operator == "Transpose" and first.get("perm") == [0, 3, 1, 2]:
            name, sides = first.outputs[0], (sides[0], sides[3], sides[1], sides[2])
    channels, rows, columns = (*sides[1:], None, None, None)[:3]
    rows, columns = rows or side or None, columns or side or None
    if len(sides) != 4 or channels not in (1, 3) or rows is None or columns is None:
        shape = "×".join("…" if each is None else str(each) for each in sides)
        why = f"its input is {shape}, and an image of 1 or 3 channels is wanted"
        remedy = "Name its side" if len(sides) == 4 and rows is None else "Export it for such images"
        raise BadFile(f"{model.name} was not taken in", why, remedy)
    return name, (rows, columns, channels)


def _preprocessor(image: Shape, mean: Sequence[float], std: Sequence[float]) -> Preprocessor:
    colour = "grey" if image[2] == 1 else "RGB"
    settings = Preprocessing(
        input_size=one_or_both((image[0], image[1])), colour_space=colour, normalisation="standardise"
    )
    plain = Preprocessor.plain(settings)
    for name, figures in (("mean", mean), ("standard deviation", std)):
        if figures and len(figures) not in (1, image[2]):
            why = f"its images have {image[2]} channels, and {len(figures)} figures are given"
            raise BadValue(f"The {name} does not fit the model", why, "Give one a channel")
    if any(value <= 0 for value in std):
        raise BadValue("The standard deviation cannot be meant", "it is not above 0", "Give one a channel, in 0 to 1")
    spread = {1: lambda values: tuple(values) * image[2]}
    given = [spread.get(len(each), tuple)(each) if each else None for each in (mean, std)]
    return replace(plain, mean=given[0] or plain.mean, std=given[1] or plain.std)
