"""Draw the pictures of docs/theory/maps.md from the demo: python scripts/map_pictures.py WORKSPACE [IMAGE].

One for each method: the image, its map by run 1 for the class said, its map for the true one, and the same method's for
the class said on the network with starting weights.
"""

from __future__ import annotations

import sys
from pathlib import Path

import numpy as np
from PIL import Image

import attentive_lens as al
from attentive_lens.desk.map_colours import over_image
from attentive_lens.desk.requests.explaining import Explain
from attentive_lens.desk.requests.subjects import RunImage
from attentive_lens.explaining.methods import MAP_METHODS
from attentive_lens.explaining.probe import Probe
from attentive_lens.explaining.saliency import map_method
from attentive_lens.explaining.trust import blank
from attentive_lens.predicting import Predictor

ROOT = Path(__file__).parents[1]
FACTOR, GAP = 2, 8
"""Times as large as the network sees it, and pixels between."""


def main() -> None:
    workspace = Path(sys.argv[1])
    number = int(sys.argv[2]) if len(sys.argv) > 2 else 260
    into = ROOT / "docs" / "theory" / "maps"
    into.mkdir(exist_ok=True)
    run = al.open_workspace(workspace).runs()[0]
    model = run.model.file
    probe = Probe(Predictor.of(model))
    seen = al.ask(Explain(RunImage(str(workspace), run.number, number)))
    pixels = seen.pixels
    prepared = probe.predictor.prepare(pixels[None])[0]
    classes = [model.classes.index(name) for name in (seen.predicted, seen.true)]
    for method in MAP_METHODS:
        for_said, for_true = (probe.against_next(prepared, label) for label in classes)
        maps = [map_method(method).maps(probe, prepared, targets)[0] for targets in (for_said, for_true)]
        maps.append(map_method(method).maps(blank(probe), prepared, for_said)[0])
        side = len(pixels)
        tiles = [over_image(pixels, each) for each in maps]
        tiles = [tiles[0][:, :side], *(each[:, side:] for each in tiles)]
        tiles = [np.dstack([each, np.full(each.shape[:2], 255, np.uint8)]) for each in tiles]
        gap = np.zeros((side * FACTOR, GAP, 4), np.uint8)
        grown = [each.repeat(FACTOR, axis=0).repeat(FACTOR, axis=1) for each in tiles]
        strip = np.concatenate([part for each in grown for part in (each, gap)][:-1], axis=1)
        Image.fromarray(strip).save(into / f"{method}.png", optimize=True)


if __name__ == "__main__":
    main()
