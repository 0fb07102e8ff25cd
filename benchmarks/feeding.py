"""Speed of what feeds training: the augmentation, the editor's live variants, and the time a step waits for its batch.

The augmentation flip, rotation, shift with scale, brightness and contrast is timed on one core against SciPy's affine
transform of the same images, channel by channel, at the same order and in the same run. Waiting is what the loop's
own journal says: seconds in which the network stood still because the next batch was not there.

    taskset -c 0 python benchmarks/feeding.py augmentation
    python benchmarks/feeding.py live [WORKSPACE]
    python benchmarks/feeding.py waiting [WORKSPACE]
"""

from __future__ import annotations

import argparse
import os
import statistics
import tempfile
import time
from pathlib import Path

os.environ.setdefault("OPENBLAS_NUM_THREADS", "1")

import numpy as np
from scipy.ndimage import affine_transform

from attentive_lens.core.jobs import finish
from attentive_lens.desk.making import make_demo
from attentive_lens.desk.requests.images import Augment
from attentive_lens.desk.tasks import carry_out
from attentive_lens.desk.training.executing import execute
from attentive_lens.images.augmentation import augment
from attentive_lens.plan.augmentation import STEPS, Brightness, Contrast, Flip, Rotate, Scale, Translate
from attentive_lens.plan.plan import Plan
from attentive_lens.training.journal import read_events
from attentive_lens.workspace import Workspace

AUGMENTATION = (
    Flip(probability=0.5),
    Rotate(probability=1.0),
    Translate(probability=1.0),
    Scale(probability=1.0),
    Brightness(probability=1.0),
    Contrast(probability=1.0),
)


def augmentation(samples: int) -> None:
    random = np.random.default_rng(0)
    images = random.integers(0, 256, (256, 64, 64, 3)).astype(np.uint8)
    angle = np.deg2rad(20)
    turned = np.array([[np.cos(angle), -np.sin(angle)], [np.sin(angle), np.cos(angle)]]) / 1.1
    augment(images[:8], range(8), AUGMENTATION, 0, 0)
    rates, ratios = [], []
    for epoch in range(samples):
        start = time.perf_counter()
        augment(images, range(256), AUGMENTATION, 0, epoch)
        ours = time.perf_counter() - start
        start = time.perf_counter()
        for image in images[:64]:
            preprocessor = image.astype(np.float32) / 255
            for channel in range(3):
                affine_transform(preprocessor[:, :, channel], turned, (3.0, -2.0), order=1, mode="nearest")
        theirs = (time.perf_counter() - start) * 4
        rates.append(256 / ours)
        ratios.append(theirs / ours)
    summary = (
        f"{statistics.median(ratios):.1f} times SciPy's affine transform alone ({min(ratios):.1f}–{max(ratios):.1f})"
    )
    print(f"whole augmentation, one core: {statistics.median(rates):.0f} images/s of 64×64×3, {summary}")
    print("one step alone, as a part of SciPy's affine transform:")
    for kind, step in STEPS.items():
        start = time.perf_counter()
        augment(images[:64], range(64), [step(probability=1.0)], 0, 0)
        print(f"  {kind:16} {(time.perf_counter() - start) / (theirs / 4):.2f}")


def live(workspace: Path, samples: int) -> None:
    """Seconds of one request for 40 variants, and of 40 bare conversions to float in the same run."""
    plan = Plan().with_augmentation(AUGMENTATION).write()
    finish(carry_out(Augment(str(workspace), plan, 8, 5)))
    result = []
    for draw in range(samples):
        start = time.perf_counter()
        made = finish(carry_out(Augment(str(workspace), plan, 8, 5, draw)))
        spent = time.perf_counter() - start
        start = time.perf_counter()
        for _ in range(5):
            made.originals.astype(np.float32)
        result.append((spent, spent / (time.perf_counter() - start)))
    spent, ratio = (statistics.median(column) for column in zip(*result, strict=True))
    print(f"40 variants of 64×64: {spent * 1000:.1f} ms, {ratio:.0f} times their bare conversion to float")


def waiting(workspace: Path) -> None:
    """A run of two epochs with the six-step augmentation; the part of each epoch spent waiting."""
    place = Workspace.open(workspace)
    run = place.claim_run(Plan().with_augmentation(AUGMENTATION).changed({"training.epochs": 3}))
    finish(execute(place, run, lambda: False))
    events, _ = read_events(run.journal)
    for event in events:
        if event["event"] == "epoch":
            waited, lasted = float(str(event["waited"])), float(str(event["seconds"]))
            print(f"epoch {event['epoch']}: waited {100 * waited / lasted:.1f} % of {lasted:.1f} s")


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    parser.add_argument("what", choices=["augmentation", "live", "waiting"])
    parser.add_argument("workspace", nargs="?", type=Path)
    parser.add_argument("--samples", type=int, default=9)
    words = parser.parse_args()
    if words.what == "augmentation":
        augmentation(words.samples)
        return
    with tempfile.TemporaryDirectory() as folder:
        place = words.workspace
        if place is None:
            place = Path(folder) / "pollen"
            finish(make_demo(place, 1800, 0))
        if words.what == "live":
            live(place, words.samples)
        else:
            waiting(place)


if __name__ == "__main__":
    main()
