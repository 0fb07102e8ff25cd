"""The page on the model file is enough to get the same answers: its own code, run on every kind of layer."""

from __future__ import annotations

import re
from dataclasses import replace
from pathlib import Path
from typing import Any

import numpy as np
import pytest
from PIL import Image

import attentive_lens as al
from attentive_lens.engine.encoding import Coder
from attentive_lens.engine.network import Network
from attentive_lens.formats.bundle import ModelFile
from attentive_lens.formats.reading import read_model
from attentive_lens.images.pixel_format import PixelFormat
from attentive_lens.images.preprocessing import Preprocessor
from attentive_lens.plan.blocks import BLOCKS, Residual, Squeeze, built
from attentive_lens.plan.encoders import ENCODERS
from attentive_lens.plan.generators import GENERATORS
from attentive_lens.plan.layers import (
    LAYERS,
    Add,
    AveragePooling,
    BatchNormalisation,
    Clip,
    Codes,
    Concatenate,
    Connected,
    Convolution,
    Drawing,
    Dropout,
    Elu,
    Flatten,
    Gelu,
    GlobalPooling,
    GroupNormalisation,
    LayerSettings,
    LeakyRelu,
    LocalResponse,
    MaxPooling,
    Multiply,
    Output,
    ParametricRelu,
    PowerPooling,
    Relu,
    Resampling,
    ScaleAndShift,
    Sigmoid,
    Silu,
    Softmax,
    Tanh,
    TransposedConvolution,
)
from attentive_lens.plan.network import NetworkPlan
from attentive_lens.plan.nodes import Node
from attentive_lens.plan.preprocessing import Preprocessing
from attentive_lens.plan.starters import STARTERS

PAGE = Path(__file__).parents[2] / "docs" / "reference" / "model-file.md"
SIDE = 18

IN_A_ROW: dict[str, list[LayerSettings]] = {
    "convolution": [Convolution(filters=6, kernel_size=3), Convolution(filters=4, kernel_size=4, stride=2)],
    "padding": [
        Convolution(filters=4, kernel_size=5, padding="valid"),
        Convolution(filters=4, padding="explicit", padding_width=2),
    ],
    "rectangles": [
        Convolution(filters=4, kernel_size=(1, 5)),
        Convolution(filters=4, kernel_size=(3, 2), padding="explicit", padding_width=(0, 2, 1, 0), stride=2),
        MaxPooling(kernel_size=(2, 3), stride=1, padding_width=(1, 0, 2, 1)),
        AveragePooling(kernel_size=3, padding_width=1, ceil_mode=True),
    ],
    "ceil mode": [MaxPooling(kernel_size=4, stride=5, ceil_mode=True), PowerPooling(stride=3, ceil_mode=True)],
    "slopes": [Convolution(filters=4), ParametricRelu(), ScaleAndShift(), ParametricRelu(shared=True)],
    "dilation": [Convolution(filters=4, kernel_size=3, dilation=2)],
    "groups": [Convolution(filters=6), Convolution(filters=12, groups=3), Convolution(filters=12, groups=12)],
    "transposed": [
        TransposedConvolution(filters=4, kernel_size=2, stride=2),
        TransposedConvolution(filters=3, kernel_size=4),
    ],
    "pooling": [MaxPooling(kernel_size=3, stride=2), AveragePooling(), PowerPooling(power=3.0)],
    "activations": [
        LeakyRelu(),
        Elu(),
        Clip(low=-0.5, high=0.7),
        Gelu(),
        Silu(),
        Tanh(),
        Sigmoid(),
        Softmax(),
        Relu(),
        Dropout(),
    ],
    "normalisation": [Convolution(filters=8), BatchNormalisation(), GroupNormalisation(groups=4), LocalResponse()],
    "resampling": [Resampling(factor=2, interpolation="bilinear"), Resampling(factor=3, interpolation="nearest")],
}


def code() -> dict[str, Any]:
    names: dict[str, Any] = {}
    (block,) = re.findall(r"```python\n(.*?)```", PAGE.read_text("utf-8"), re.DOTALL)
    assert set(re.findall(r"^(?:import|from) (\S+)", block, re.MULTILINE)) == {"json", "zipfile", "numpy"}
    exec(block, names)  # noqa: S102
    return names


def joined() -> NetworkPlan:
    nodes = [
        Node("one", Convolution(filters=4), ("image",)),
        Node("other", Convolution(filters=4, kernel_size=1), ("image",)),
        Node("sum", Add(), ("one", "other")),
        Node("product", Multiply(), ("sum", "one")),
        Node("both", Concatenate(), ("product", "other")),
        Node("means", GlobalPooling(), ("both",)),
        Node("gate", Sigmoid(), ("means",)),
        Node("gated", Multiply(), ("both", "gate")),
        Node("output", Output(), ("flat",)),
    ]
    nodes[-1:-1] = [Node("flat", Flatten(), ("gated",))]
    return NetworkPlan(tuple(nodes))


PLANS: dict[str, NetworkPlan] = {
    **{name: NetworkPlan.stack([*row, Flatten(), Connected(units=5), Output()]) for name, row in IN_A_ROW.items()},
    **{f"global {how}": NetworkPlan.stack([Convolution(), GlobalPooling(mode=how), Output()])
       for how in ("average", "max", "power mean")},
    **{name: starter.network for name, starter in STARTERS.items()},
    "joins": joined(),
    "blocks": built([Convolution(filters=8), Relu(), Residual(filters=8, stride=2), Squeeze(reduction=2),
                     GlobalPooling(), Output()]),
}  # fmt: skip


DRAWING = {
    **{name: encoder.network_for(16) for name, encoder in ENCODERS.items()},
    **{f"{name}, not square": encoder.network_for((16, 24)) for name, encoder in ENCODERS.items()},
    "a row drawn freely": NetworkPlan.stack(
        [Flatten(), Connected(units=3), Codes(), Connected(units=16 * 16 * 3), Drawing(mean="free", variance="learned")]
    ),
}


PAIRS = {name: generator.network_for(16) for name, generator in GENERATORS.items()}


def written(file: Path, plan: NetworkPlan, preprocessing: Preprocessing, seed: int = 0) -> Path:
    random = np.random.default_rng(seed)
    network = Network.start(plan.with_outputs(4), preprocessing.shape, seed)
    for arrays in network.weights.values():
        for array in arrays.values():
            if array.ndim == 1:
                array += random.uniform(0.1, 0.6, array.shape).astype(np.float32)
    pixels = random.integers(0, 256, (9, *preprocessing.shape)).astype(np.uint8)
    preprocessor = Preprocessor.measured(pixels, preprocessing)
    model = ModelFile(network.plan, network.weights, preprocessor, ("a", "b", "c", "d"))
    model.write(file)
    return file


def both(file: Path, pixels: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    result, classes = code()["probabilities"](file, pixels)
    images = pixels if pixels.shape[3] == 3 else np.repeat(pixels, 3, axis=3)
    ours = [[answer[name] for name in classes] for answer in al.open_model(file).predict(images)]
    return result, np.array(ours)


@pytest.mark.parametrize("name", PLANS)
def test_the_page_s_code_gives_our_answers(name: str, tmp_path: Path) -> None:
    file = written(tmp_path / "model.alens", PLANS[name], Preprocessing(input_size=SIDE))
    pixels = np.random.default_rng(1).integers(0, 256, (3, SIDE, SIDE, 3)).astype(np.uint8)
    theirs, ours = both(file, pixels)
    assert theirs == pytest.approx(ours, abs=2e-5)
    assert np.ptp(ours, axis=0).max() > 1e-4, "answers that do not depend on the image prove nothing"


@pytest.mark.parametrize("normalisation", ["standardise", "local contrast"])
def test_the_page_s_code_reads_models_of_other_channels_and_depths(normalisation: str, tmp_path: Path) -> None:
    names = ("near", "far", "wide", "warm", "cold")
    settings = Preprocessing(
        input_size=SIDE, channel_names=names, colour_space="luma-chroma", normalisation=normalisation
    )
    file = written(tmp_path / "model.alens", PLANS["convolution"], settings)
    own = PixelFormat(depth="16 bit", black=100, white=4100, channels=names)
    model = read_model(file)
    replace(model, preprocessor=replace(model.preprocessor, pixel_format=own)).write(file)
    values = np.random.default_rng(1).integers(100, 4100, (3, SIDE, SIDE, 5)).astype(np.uint16)
    theirs, classes = code()["probabilities"](file, (values - 100) / np.float32(4000))
    ours = [[answer[name] for name in classes] for answer in al.open_model(file).predict(values)]
    assert theirs == pytest.approx(np.array(ours), abs=2e-5)


@pytest.mark.parametrize("name", DRAWING)
def test_the_page_s_code_draws_our_images(name: str, tmp_path: Path) -> None:
    preprocessor = Preprocessor.plain(Preprocessing(input_size=(16, 24) if "not square" in name else 16))
    network = Network.start(DRAWING[name], preprocessor.settings.shape, 3)
    file = tmp_path / "model.alens"
    ModelFile(network.plan, network.weights, preprocessor, ("a", "b"), "images").write(file)
    pixels = np.random.default_rng(1).integers(0, 256, (3, *preprocessor.settings.shape)).astype(np.uint8)
    coder = Coder(read_model(file).network())
    ours = coder.decode(coder.means(coder.encode(preprocessor.apply(pixels))))
    assert code()["probabilities"](file, pixels)[0] == pytest.approx(ours, abs=2e-5)


@pytest.mark.parametrize("name", PAIRS)
def test_the_page_s_code_draws_of_our_noise(name: str, tmp_path: Path) -> None:
    plan = PAIRS[name].for_classes(2, 1)
    network = Network.start(plan, (16, 16, 3), 3)
    file = tmp_path / "model.alens"
    preprocessor = Preprocessor.plain(Preprocessing(input_size=16))
    ModelFile(plan, network.weights, preprocessor, ("a", "b"), "images").write(file)
    coder = Coder(read_model(file).network())
    codes, labels = coder.random_codes(np.random.default_rng(1), 4), np.array([0, 1, 1, 0])
    pixels = np.zeros((4, 16, 16, 3), np.uint8)
    given = {coder.code: codes, **coder.class_values(labels)}
    drawn = code()["probabilities"](file, pixels, given)[0]
    assert drawn == pytest.approx(coder.decode(codes, None, labels), abs=2e-5)
    middle = code()["probabilities"](file, pixels)[0]
    assert middle == pytest.approx(coder.decode(np.zeros_like(codes)), abs=2e-5)
    assert np.abs(drawn - middle).max() > 0.01


def test_every_layer_and_block_is_tried() -> None:
    plans = (*PLANS.values(), *DRAWING.values(), *PAIRS.values())
    tried = {node.layer.kind for plan in plans for node in plan.nodes}
    assert tried == LAYERS.keys()
    assert BLOCKS, "blocks are written out as the layers they are made of"


@pytest.mark.parametrize("colour", ["RGB", "grey", "luma-chroma"])
@pytest.mark.parametrize("level", ["0-1", "standardise", "local contrast"])
def test_every_preparation_is_told(colour: str, level: str, tmp_path: Path) -> None:
    for size in (SIDE, (SIDE, 2 * SIDE)):
        preprocessing = Preprocessing(input_size=size, colour_space=colour, normalisation=level)
        file = written(tmp_path / "model.alens", PLANS["pooling"], preprocessing)
        pixels = np.random.default_rng(1).integers(0, 256, (3, *preprocessing.shape)).astype(np.uint8)
        theirs, ours = both(file, pixels)
        assert theirs == pytest.approx(ours, abs=2e-5)


@pytest.mark.parametrize("fit", ["stretch", "letterbox", "centre crop", "none"])
@pytest.mark.parametrize("size", [(90, 40), (25, 31), (200, 180)])
def test_pictures_of_any_size_are_brought_to_the_input_size_as_the_page_says(
    fit: str, size: tuple[int, int], tmp_path: Path
) -> None:
    file = written(tmp_path / "model.alens", PLANS["two blocks"], Preprocessing(input_size=SIDE, resize_mode=fit))
    random = np.random.default_rng(size[0])
    picture = Image.fromarray(random.integers(0, 256, (size[1], size[0], 3)).astype(np.uint8))
    pixels = np.asarray(picture)
    wide, tall = size
    if fit == "centre crop":
        least = min(size)
        left, top = (wide - least) // 2, (tall - least) // 2
        picture = picture.crop((left, top, left + least, top + least))
    if fit == "letterbox":
        edges = np.concatenate([pixels[0], pixels[-1], pixels[:, 0], pixels[:, -1]]).mean(axis=0)
        framed = Image.new("RGB", (max(size), max(size)), tuple(int(v) for v in np.rint(edges)))
        framed.paste(picture, ((max(size) - wide) // 2, (max(size) - tall) // 2))
        picture = framed
    if fit == "none":
        left, top = max(0, (wide - SIDE) // 2), max(0, (tall - SIDE) // 2)
        picture = picture.crop((left, top, min(wide, left + SIDE), min(tall, top + SIDE)))
        pixels_seen = np.asarray(picture)
        edges = np.concatenate([pixels_seen[0], pixels_seen[-1], pixels_seen[:, 0], pixels_seen[:, -1]]).mean(axis=0)
        framed = Image.new("RGB", (SIDE, SIDE), tuple(int(v) for v in np.rint(edges)))
        framed.paste(picture, ((SIDE - picture.width) // 2, (SIDE - picture.height) // 2))
        picture = framed
    small = np.asarray(picture.resize((SIDE, SIDE), Image.Resampling.BILINEAR, reducing_gap=3.0))
    result, classes = code()["probabilities"](file, small[None])
    (ours,) = al.open_model(file).predict(pixels)
    assert result[0] == pytest.approx([ours[name] for name in classes], abs=2e-5)
