"""Opening a model file that may come from anywhere: everything in it is checked before it is believed.

The archive is closed: exactly the known members, once each, stored or deflated; exactly the tensors that its network
needs. Sizes are limited before anything is read, by what the network needs and not by what the file claims. Whatever
the readers of ZIP, JSON and safetensors raise ends here, as one sentence with the reason.
"""

from __future__ import annotations

import json
import math
import struct
import zipfile
import zlib
from collections.abc import Mapping
from dataclasses import replace
from pathlib import Path
from typing import Any, NoReturn

import numpy as np
import psutil
import safetensors
from safetensors.numpy import load

from attentive_lens.engine.arrays import Array, Weights
from attentive_lens.engine.kernels.choice import KERNELS
from attentive_lens.engine.outputs import OUTPUTS
from attentive_lens.errors import BadFile, LensError
from attentive_lens.formats.bundle import FORMAT, ModelFile
from attentive_lens.images.pixel_format import PixelFormat
from attentive_lens.images.preprocessing import Preprocessor
from attentive_lens.plan.base import OPEN
from attentive_lens.plan.blocks import read_network
from attentive_lens.plan.examination import Facts
from attentive_lens.plan.layers.base import product
from attentive_lens.plan.network import NetworkPlan
from attentive_lens.plan.nodes import MOST_NODES
from attentive_lens.plan.preprocessing import Preprocessing
from attentive_lens.plan.tasks import IMAGES, Classify, Encode, Generate, TaskSettings

WEIGHTS, OPTIMISER = "weights.safetensors", "optimiser.safetensors"
NEEDED = ("network.json", "preprocessing.json", "classes.json", "card.json", WEIGHTS)
MOST_JSON = 2 << 20
"""Bytes of one JSON member, unpacked."""
MOST_DEPTH = 32
"""Brackets within brackets in JSON."""
MOST_CLASSES = 100_000
EARLIER_KERNELS = {"gather": "direct"}
"""Names that model files of earlier versions may hold, and what computes the same now."""
MOST_GROWTH, ALWAYS = 1.4, 30 << 20
"""All members together unpack to at most this factor of the file, or so many bytes more."""
MOST_STATE = 8
"""Arrays that training keeps of one weight array: an optimiser's own, whoever wrote it, and its mean."""
PRECISIONS = {"F32": "float32", "F64": "float64", "F16": "float16"}
"""One of them for all weights of a file, as safetensors writes them."""
OTHER_KINDS = {"BF16": "bfloat16"}
"""Of numbers that no network here computes with."""
FILES_AT_ONCE = 16
"""Images that answering holds at once: two threads' pieces."""
BROKEN = (
    OSError,
    EOFError,
    zipfile.BadZipFile,
    zipfile.LargeZipFile,
    zlib.error,
    struct.error,
    safetensors.SafetensorError,
    ArithmeticError,
    AttributeError,
    LookupError,
    MemoryError,
    RuntimeError,  # encrypted members, endless recursion
    TypeError,
    ValueError,
)
"""What the readers of a damaged or forged file raise."""


class _Refused(Exception):
    """Why the file is not taken."""


def read_model(file: Path) -> ModelFile:
    """Read a model file, without what only going on with a run needs; one of the open format as it says of itself.

    Raises
    ------
    BadFile
        If it is missing, damaged, of a later format, or anything in it is not as it must be; with the reason.
    """
    if file.suffix.lower() == OPEN:
        from attentive_lens.formats.onnx.importing import opened  # only here: the standard's schemas take long to load

        return opened(file)
    return _read(file, optimiser=False)


def read_checkpoint(file: Path) -> ModelFile:
    """As `read_model`, with the optimiser's arrays."""
    return _read(file, optimiser=True)


def _read(file: Path, optimiser: bool) -> ModelFile:
    try:
        with zipfile.ZipFile(file) as archive:
            return _from_archive(archive, file.stat().st_size, optimiser)
    except FileNotFoundError:
        raise BadFile(f"{file} could not be opened", "there is no such file", "Check the path") from None
    except _Refused as refused:
        raise _bad(file, str(refused)) from None
    except LensError as error:
        raise _bad(file, f"its network or preprocessing is not valid: {error.what}, {error.why}") from None
    except zipfile.BadZipFile as error:
        raise _bad(file, f"it is not a whole model file ({error})") from None
    except BROKEN as error:
        why = str(error).strip().splitlines()[0][:200] if str(error).strip() else type(error).__name__
        raise _bad(file, f"it is damaged ({why})") from None


def _bad(file: Path, why: str) -> BadFile:
    name = file.name.encode("utf-8", "backslashreplace").decode()
    printable = "".join(c if c.isprintable() else "�" for c in why)[:300]
    return BadFile(f"{name} could not be opened as a model", printable, "Export it again from its run")


def _refuse(why: str) -> NoReturn:
    raise _Refused(why)


def _from_archive(archive: zipfile.ZipFile, size: int, optimiser: bool) -> ModelFile:
    entries = _members(archive, size)
    network = _json(archive, entries["network.json"], dict)
    if network.get("format") != FORMAT:
        _refuse(f"it has format {network.get('format')!r} and this version reads format {FORMAT}")
    if network.keys() != {"format", "nodes", "output", "kernels"} or not isinstance(network["nodes"], list):
        _refuse("network.json holds something else than «format», «nodes», «output» and «kernels»")
    if len(network["nodes"]) > MOST_NODES:
        _refuse(f"its network has {len(network['nodes'])} layers, more than {MOST_NODES}")
    plan = read_network(network["nodes"])
    table = _json(archive, entries["preprocessing.json"], dict)
    measured = {name: table.pop(name, None) for name in ("mean", "std")}
    try:
        own = PixelFormat.from_table({name: table.pop(name) for name in ("white", "pixel_format") if name in table})
    except LensError as error:
        _refuse(f"preprocessing.json does not say what its pixels are: {error.why}")
    preprocessor = replace(_preprocessor(Preprocessing.read(table), measured), pixel_format=own)
    output = network["output"]
    names, thresholds = _names(_json(archive, entries["classes.json"], (list, dict)))
    if thresholds and output != "sigmoid":
        _refuse("classes.json has thresholds, which go with «sigmoid» alone")
    classes = _classes(names, output == IMAGES)
    _check_output(plan, output, len(classes), preprocessor.settings)
    kernels = _kernels(network["kernels"], plan)
    facts = plan.facts(preprocessor.settings.shape)
    _check_memory(facts, entries[WEIGHTS].file_size)
    card = _json(archive, entries["card.json"], dict)
    shapes = {
        f"{node.name}/{name}": shape
        for node, fact in zip(plan.nodes, facts, strict=True)
        for name, shape in (
            node.layer.weight_shapes(fact.input_shape) | node.layer.state_shapes(fact.input_shape)
        ).items()
    }
    flat = _tensors(archive, entries[WEIGHTS], shapes)
    for key, array in flat.items():
        if key.endswith("/variance") and array.size and float(array.min()) < 0:
            _refuse(f"{_told(key)} hold values below zero")
    weights: Weights = {}
    for key, array in flat.items():
        node, _, name = key.rpartition("/")
        weights.setdefault(node, {})[name] = array
    optimiser_arrays: Mapping[str, Array] = {}
    if optimiser and OPTIMISER in entries:
        optimiser_arrays = _optimiser(archive, entries[OPTIMISER], flat)
    return ModelFile(plan, weights, preprocessor, classes, output, kernels, card, optimiser_arrays, thresholds)


def _check_output(plan: NetworkPlan, output: object, classes: int, settings: Preprocessing) -> None:
    """Whether what the network gives goes with what is made of it, and with the classes."""
    if not isinstance(output, str) or output not in (*OUTPUTS, IMAGES):
        _refuse(f"its output function {output!r:.40} is none of {', '.join((*OUTPUTS, IMAGES))}")
    draws = Generate() if plan.meeting else Encode()
    task: TaskSettings = draws if output == IMAGES else Classify()
    if (error := task.misfit(plan, settings)) is not None:
        _refuse(error.why)
    if output == IMAGES:
        return
    scores = plan.nodes[-1].layer.output_shape((1,))
    if scores != (OUTPUTS[output].outputs(classes),) or (output == "one sigmoid" and classes != 2):
        _refuse(f"it has {classes} classes, which do not go with its {scores[0]} scores and «{output}»")


def _members(archive: zipfile.ZipFile, size: int) -> dict[str, zipfile.ZipInfo]:
    """Exactly the known members, once each, in a form that is read without surprises."""
    entries: dict[str, zipfile.ZipInfo] = {}
    for entry in archive.infolist():
        if entry.filename in entries:
            _refuse(f"{entry.filename} stands in it twice")
        if entry.filename not in (*NEEDED, OPTIMISER):
            _refuse(f"it holds {entry.filename!r}, which is no part of a model")
        if entry.compress_type not in (zipfile.ZIP_STORED, zipfile.ZIP_DEFLATED):
            _refuse(f"{entry.filename} is packed in an unknown way")
        if entry.flag_bits & 1:
            _refuse(f"{entry.filename} is encrypted")
        entries[entry.filename] = entry
    missing = [name for name in NEEDED if name not in entries]
    if missing:
        _refuse(f"it is not a whole model file: {', '.join(missing)} is missing")
    if sum(entry.file_size for entry in entries.values()) > MOST_GROWTH * size + ALWAYS:
        _refuse("it would unpack to far more than its own size")
    return entries


def _bytes(archive: zipfile.ZipFile, entry: zipfile.ZipInfo, most: int) -> bytes:
    """A member's bytes, at most so many, whatever its header claims."""
    with archive.open(entry) as stream:
        data = stream.read(most + 1)
    if len(data) > most:
        _refuse(f"{entry.filename} is larger than it can be")
    return data


def _json(archive: zipfile.ZipFile, entry: zipfile.ZipInfo, kind: type | tuple[type, ...]) -> Any:
    text = _bytes(archive, entry, MOST_JSON).decode("utf-8")
    depth = deepest = 0
    inside = escaped = False
    for sign in text:
        if inside:
            inside = escaped or sign != '"'
            escaped = sign == "\\" and not escaped
        elif sign == '"':
            inside = True
        elif sign in "[{":
            depth += 1
            deepest = max(deepest, depth)
        elif sign in "]}":
            depth -= 1
    if deepest > MOST_DEPTH:
        _refuse(f"{entry.filename} has brackets {deepest} deep")

    def constant(word: str) -> NoReturn:
        _refuse(f"{entry.filename} holds {word}, which is no number")

    value = json.loads(text, parse_constant=constant)
    if not isinstance(value, kind):
        _refuse(f"{entry.filename} is no {'table' if kind is dict else 'list'}")
    return value


def _preprocessor(settings: Preprocessing, measured: Mapping[str, Any]) -> Preprocessor:
    figures: dict[str, tuple[float, ...]] = {}
    for name, values in measured.items():
        if not isinstance(values, list) or len(values) != settings.channels:
            _refuse(f"preprocessing.json's {name} does not have a number for each of its {settings.channels} channels")
        if any(isinstance(v, bool) or not isinstance(v, int | float) or not abs(v) <= 1e6 for v in values):
            _refuse(f"preprocessing.json's {name} holds something that is no number of a sensible size")
        figures[name] = tuple(float(v) for v in values)
    if min(figures["std"]) < 1e-6:
        _refuse("preprocessing.json's std is not above zero")
    return Preprocessor(settings, figures["mean"], figures["std"])


def _kernels(table: Any, plan: NetworkPlan) -> dict[str, str]:
    names = {node.name for node in plan.nodes}
    known = (*KERNELS, "depthwise")
    if (
        not isinstance(table, dict)
        or not table.keys() <= names
        or not all(kernel in (*known, *EARLIER_KERNELS) for kernel in table.values())
    ):
        _refuse("its «kernels» are not names of its layers with one of " + ", ".join(known))
    return {name: EARLIER_KERNELS.get(str(kernel), str(kernel)) for name, kernel in table.items()}


def _names(table: list[Any] | dict[str, Any]) -> tuple[list[Any], tuple[float, ...]]:
    """Names of classes; or of labels, with the thresholds from which they are said."""
    if isinstance(table, list):
        return table, ()
    names, values = table.get("labels"), table.get("thresholds")
    if table.keys() != {"labels", "thresholds"} or not isinstance(names, list) or not isinstance(values, list):
        _refuse("classes.json is neither a list of names nor «labels» with their «thresholds»")
    numbers = [v for v in values if isinstance(v, int | float) and not isinstance(v, bool) and 0 <= v <= 1]
    if len(numbers) != len(names):
        _refuse(f"classes.json has {len(numbers)} thresholds from 0 to 1 for {len(names)} labels")
    return names, tuple(map(float, numbers))


def _classes(names: list[Any], draws: bool) -> tuple[str, ...]:
    if len(names) < (1 if draws else 2):
        _refuse(f"it has {len(names) or 'no'} class{'es' * (not names)}, and a classifier tells at least two apart")
    if len(names) > MOST_CLASSES:
        _refuse(f"it has more than {MOST_CLASSES} classes")
    for name in names:
        if not isinstance(name, str) or not name.strip() or name != name.strip() or not name.isprintable():
            _refuse(f"{name!r:.60} is no name for a class: a printable text without outer blanks is needed")
    if len(set(names)) < len(names):
        twice = next(name for name in names if names.count(name) > 1)
        _refuse(f"two classes are called «{twice}»")
    return tuple(names)


def _tensors(archive: zipfile.ZipFile, entry: zipfile.ZipInfo, shapes: Mapping[str, tuple[int, ...]]) -> Any:
    """Exactly the arrays wanted, finite, all of one precision; those stored in 16 bits come in single precision."""
    needed = 8 * sum(product(shape) for shape in shapes.values())
    most = needed + 64 + sum(len(key.encode()) + 200 for key in shapes)
    if entry.file_size > most:
        _refuse(f"its weights take {entry.file_size} bytes, and its network has no more than {needed} of them")
    header, data = _header(_bytes(archive, entry, most), entry.filename)
    for key in shapes:
        if key not in header:
            _refuse(f"{_told(key)} are missing")
    first = next(iter(header), "")
    for key, (kind, shape) in header.items():
        if key not in shapes:
            _refuse(f"{_told(key)} belong to no layer of its network")
        if kind not in PRECISIONS:
            _refuse(f"{_told(key)} are {OTHER_KINDS.get(kind, kind)}, and {' or '.join(PRECISIONS.values())} is needed")
        if kind != header[first][0]:
            kinds = f"{_told(first)} are {PRECISIONS[header[first][0]]} and {_told(key)} {PRECISIONS[kind]}"
            _refuse(f"{kinds}, and one precision for all is needed")
        if shape != shapes[key]:
            _refuse(f"{_told(key)} are {list(shape)} and not of the shape its network asks for, {list(shapes[key])}")
    flat = load(data)
    for key, array in flat.items():
        if not np.isfinite(array).all():
            _refuse(f"{_told(key)} hold values that are not numbers")
    return {key: array.astype(np.float32) if array.dtype == np.float16 else array for key, array in flat.items()}


def _header(data: bytes, name: str) -> tuple[dict[str, tuple[str, tuple[int, ...]]], bytes]:
    """Type and shape by name, from the table at the beginning of a safetensors file."""
    length = int.from_bytes(data[:8], "little")
    if len(data) < 8 or length > min(len(data) - 8, MOST_JSON):
        _refuse(f"{name} is damaged: its weights' table is cut off")
    if data[8 : 8 + length].count(b"{") > 2 * MOST_NODES * 8 or data[8 : 8 + length].count(b"[") > 4 * MOST_NODES * 8:
        _refuse(f"{name} has more arrays than a network can")
    table = json.loads(data[8 : 8 + length])
    table.pop("__metadata__", None)
    return {key: (str(tensor["dtype"]), tuple(tensor["shape"])) for key, tensor in table.items()}, data


def _told(key: str) -> str:
    """«the weights of convolution 1 (kernel)»."""
    node, _, name = key.rpartition("/")
    return f"the weights of {node:.60} ({name:.30})"


def _optimiser(archive: zipfile.ZipFile, entry: zipfile.ZipInfo, weights: Mapping[str, Array]) -> dict[str, Array]:
    """A checkpoint's arrays: of the weights' shapes and precision, and the figures under no node."""
    most = MOST_STATE * sum(array.nbytes for array in weights.values()) + (16 << 20)
    arrays: dict[str, Array] = load(_bytes(archive, entry, most))
    for key, array in arrays.items():
        place = key.rpartition("/")[0]
        if not np.isfinite(array).all():
            _refuse(f"what the optimiser keeps of {key!r:.60} holds values that are not numbers")
        like = weights.get(place)
        if place and (like is None or array.shape != like.shape or array.dtype != like.dtype):
            _refuse(f"what the optimiser keeps of {key!r:.60} fits no weights of its network")
    return arrays


def _check_memory(facts: tuple[Facts, ...], stored: int) -> None:
    """Refuse a network whose maps or weights, stored in so many bytes, do not fit into memory, before any is allocated.

    The size of what is stored tells the precision.
    """
    largest = max(math.prod(fact.input_shape) + math.prod(fact.shape) for fact in facts)
    weights = sum(fact.weights for fact in facts)
    bytes_a_number = 8 if stored >= 8 * weights else 4
    needed = bytes_a_number * (FILES_AT_ONCE * largest + 2 * weights)
    free = psutil.virtual_memory().available
    if needed > free:
        _refuse(f"running it needs {needed / 2**30:.1f} GiB of memory, and {free / 2**30:.1f} GiB are free")
