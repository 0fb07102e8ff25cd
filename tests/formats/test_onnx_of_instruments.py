"""Images of any depth and channels are prepared by an exported graph as they are here."""

from __future__ import annotations

import numpy as np
import pytest
from tests.formats.test_onnx_writing import run, turned

from attentive_lens.formats.onnx.graph import Graph
from attentive_lens.formats.onnx.preparation import prepared
from attentive_lens.images.pixel_format import COLOURS, GREY, PixelFormat
from attentive_lens.images.preprocessing import Preprocessor
from attentive_lens.plan.preprocessing import Preprocessing

NAMES = ("near", "far", "wide", "warm", "cold")
FORMATS = {
    "five of 16 bits": PixelFormat(depth="16 bit", black=200, white=3900, channels=NAMES),
    "five of 8 bits": PixelFormat(channels=NAMES),
    "grey floats": PixelFormat(depth="floating point", black=-2.5, white=7.5, channels=GREY),
    "colours of 16 bits": PixelFormat(depth="16 bit", white=65_535, channels=COLOURS),
}


def settings_for(own: PixelFormat) -> list[dict[str, object]]:
    if len(own.channels) == len(NAMES):
        return [{"channel_names": NAMES}, {"channel_names": ("cold", "near")}]
    return [{"colour_space": "grey"}, {"colour_space": "RGB"}, {"colour_space": "luma-chroma"}]


@pytest.mark.parametrize("name", FORMATS)
@pytest.mark.parametrize("mode", ["stretch", "letterbox", "centre crop", "none"])
@pytest.mark.parametrize("shape", [(24, 24), (31, 24), (24, 57)])
def test_an_image_is_prepared_as_it_is_here(name: str, mode: str, shape: tuple[int, int]) -> None:
    own, random = FORMATS[name], np.random.default_rng(sum(shape))
    rough = np.kron(random.random((16, 16, len(own.channels))), np.ones((4, 4, 1)))[: shape[0], : shape[1]]
    if own.depth == "8 bit":
        values = (rough * 255).astype(np.uint8)
    else:
        spread = own.black - 0.1 * (own.white - own.black) + rough * 1.2 * (own.white - own.black)
        values = spread.clip(0 if own.depth == "16 bit" else None, 65_535).astype(
            np.uint16 if own.depth == "16 bit" else np.float32
        )
    for choice in settings_for(own):
        settings = Preprocessing(input_size=24, resize_mode=mode, **choice)  # type: ignore[arg-type]
        count = settings.channels
        preprocessor = Preprocessor(
            settings, (0.3, 0.4, 0.5, 0.6, 0.2)[:count], (0.2, 0.25, 0.3, 0.2, 0.4)[:count], own
        )
        here = turned(preprocessor.apply(preprocessor.resized(own.scaled(values).pixels)[None]))
        graph = Graph()
        image = values if own.depth == "8 bit" else values.astype(np.float32)
        there = run(graph, prepared(graph, "image", preprocessor), 4, image=image[None])
        assert here.shape == there.shape
        level = 1.01 / (255 * 0.2) if own.depth == "8 bit" and shape != (24, 24) else 2e-4
        assert np.abs(here - there).max() < level, choice
