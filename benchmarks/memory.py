"""Is the memory that is told before training what training then takes?

For every starting network, at two sizes of input and two numbers of classes, what training is said to take is printed
beside the most that the training process held for itself (resident, without pages of mapped files), and their ratio.

    python benchmarks/memory.py [--pixels 64 224] [--classes 10 1000] [--networks two-blocks ...] [--batch 32]
"""

from __future__ import annotations

import argparse
import os
import sys
import tempfile
from pathlib import Path

from collection import make, measured

from attentive_lens.desk.images.collection import collection
from attentive_lens.desk.network.design import price_in_memory
from attentive_lens.plan.plan import Plan
from attentive_lens.plan.starters import STARTERS
from attentive_lens.workspace import Workspace

PROGRAM = [sys.executable, "-m", "attentive_lens"]


def main() -> None:
    """Measure and print."""
    parser = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    parser.add_argument("--pixels", type=int, nargs="+", default=[64, 224])
    parser.add_argument("--classes", type=int, nargs="+", default=[10, 1000])
    parser.add_argument("--networks", nargs="+", default=list(STARTERS))
    parser.add_argument("--batch", type=int, default=32)
    words = parser.parse_args()
    with tempfile.TemporaryDirectory() as place, tempfile.TemporaryDirectory() as state:
        os.environ["XDG_STATE_HOME"] = state
        for classes in words.classes:
            pictures, folder = Path(place) / f"pictures {classes}", Path(place) / f"station {classes}"
            make(pictures, max(400, 2 * classes), classes=classes)
            measured([*PROGRAM, "new", str(folder), str(pictures)], quiet=True)
            held_out = collection(Workspace.open(folder), Plan()).count("validation")
            for pixels in words.pixels:
                for name in words.networks:
                    settings = {"network": name, "preprocessing.input_size": pixels, "training.batch_size": words.batch}
                    told, _ = price_in_memory(Plan().changed(settings), classes, held_out)
                    sets = [word for key, value in settings.items() for word in ("--set", f"{key}={value}")]
                    once = ["--set", "training.epochs=1"]
                    _, held = measured([*PROGRAM, "train", str(folder), *sets, *once], quiet=True)
                    print(
                        f"{classes:5} classes, {pixels:4} pixels, {name:20} told {told / 1e6:7.0f} MB, held {held:7.0f}"
                        f" MB, {told / 1e6 / held:.2f}",
                        flush=True,
                    )


if __name__ == "__main__":
    main()
