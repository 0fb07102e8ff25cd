"""How much of the processor does an epoch use, as a user runs it?

Every starting network is trained with a new plan's settings, with augmentation, evaluation, checkpoints and journal;
printed is what was multiplied and added a second as a share of the matrix-product peak taken before and after, and what
share of the processors' time each part took.

    python benchmarks/epochs.py [--images 1260] [--epochs 3] [--threads 2] [--size 64 32x128]
                                [--channels 3 5] [NAME …]
"""

from __future__ import annotations

import argparse
import os
from itertools import product

os.environ.setdefault("OPENBLAS_NUM_THREADS", "1")

from attentive_lens.desk.measuring.engine import Sampler
from attentive_lens.desk.measuring.epochs import PARTS, epoch_of
from attentive_lens.engine.threads import ThreadPool
from attentive_lens.plan.plan import Plan
from attentive_lens.plan.starters import STARTERS


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    parser.add_argument("names", nargs="*", metavar="NAME", default=list(STARTERS))
    parser.add_argument("--images", type=int, default=1260)
    parser.add_argument("--epochs", type=int, default=3)
    parser.add_argument("--threads", type=int, default=2)
    parser.add_argument("--size", nargs="+", default=["64"], metavar="ROWSxCOLUMNS")
    parser.add_argument("--channels", type=int, nargs="+", default=[3])
    words = parser.parse_args()
    print("| network | input | share of the peak | seconds | " + " | ".join(PARTS) + " |")
    print("|---" * (len(PARTS) + 4) + "|")
    with ThreadPool(words.threads) as thread_pool:
        sampler = Sampler(thread_pool, 1)
        for name, size, channels in product(words.names, words.size, words.channels):
            sides = [int(side) for side in size.split("x")]
            settings = {"preprocessing.input_size": (sides * 2)[:2], "training.threads": words.threads}
            if channels != 3:
                settings["preprocessing.channel_names"] = [f"channel {k}" for k in range(channels)]
            plan = Plan().changed({"network": name, **settings})
            figure = epoch_of(name, plan, words.images, words.epochs, sampler.middle_peak)
            shares = " | ".join(f"{figure.shares[part]:.0%}" for part in PARTS)
            print(f"| {name} | {size}×{channels} | {figure.ratio:.3f} | {figure.seconds:.2f} | {shares} |", flush=True)


if __name__ == "__main__":
    main()
