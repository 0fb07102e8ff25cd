"""How fast a network answers that came back from a file of the open format, beside the same network made here.

    python benchmarks/imported.py [ROUNDS]

Every starting network is written and taken in again; the two answer the same batch in turns, and the ratio of their
least times is printed, own by imported: 1 is as fast. Taking in a deep graph is timed beside NumPy's start.
"""

from __future__ import annotations

import os

os.environ.setdefault("OPENBLAS_NUM_THREADS", "1")

import subprocess
import sys
import tempfile
import time
from collections.abc import Callable
from functools import partial
from pathlib import Path

import numpy as np
from numpy.typing import NDArray

from attentive_lens.engine.arrays import DTYPES
from attentive_lens.engine.network import Network
from attentive_lens.formats.bundle import ModelFile
from attentive_lens.formats.onnx.importing import take_in
from attentive_lens.formats.onnx.reading import read
from attentive_lens.formats.onnx.writing import write_onnx
from attentive_lens.images.preprocessing import Preprocessor
from attentive_lens.plan.plan import Plan
from attentive_lens.plan.starters import STARTERS
from attentive_lens.predicting import Predictor

IMAGES, CLASSES = 64, 6


def made(name: str, pixels: NDArray[np.uint8]) -> ModelFile:
    """A starting network with weights drawn at random."""
    plan = Plan().changed({"network": name})
    network = plan.network.with_outputs(CLASSES)
    preprocessor = Preprocessor.measured(pixels, plan.preprocessing)
    started = Network.start(network, plan.preprocessing.shape, 1, DTYPES["single"])
    classes = tuple(f"class {k}" for k in range(CLASSES))
    return ModelFile(network, dict(started.weights), preprocessor, classes, "softmax")


def timed(call: Callable[[], object]) -> float:
    """Seconds."""
    began = time.perf_counter()
    call()
    return time.perf_counter() - began


def answer(predictor: Predictor, pixels: NDArray[np.uint8]) -> None:
    """A batch, prepared and answered."""
    predictor.scores(predictor.prepare(pixels))


def main() -> None:
    rounds = int(sys.argv[1]) if len(sys.argv) > 1 else 15
    pixels = np.random.default_rng(1).integers(0, 256, (IMAGES, 64, 64, 3)).astype(np.uint8)
    start = [sys.executable, "-c", "import numpy"]
    numpy_start = min(timed(lambda: subprocess.run(start, check=True)) for _ in range(5))
    with tempfile.TemporaryDirectory() as folder:
        for name in STARTERS:
            own, file = made(name, pixels), Path(folder) / "model.onnx"
            write_onnx(own, file)
            began = time.perf_counter()
            back = take_in(read(file)).model
            seconds = time.perf_counter() - began
            pair = [Predictor.of(own), Predictor.of(back)]
            least = [np.inf, np.inf]
            for _ in range(rounds):
                for k, predictor in enumerate(pair):
                    least[k] = min(least[k], timed(partial(answer, predictor, pixels)))
            figures = f"{least[0] / least[1]:.2f} of its speed"
            print(f"{name}: {figures}; taken in in {seconds / numpy_start:.2f} times NumPy's start", flush=True)


if __name__ == "__main__":
    main()
