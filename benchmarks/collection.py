"""A large collection: how fast it is imported and prepared, how much memory that and browsing it take.

Makes a folder of 64×64 PNG files in ten classes, then runs each part in a process of its own. Rates are ratios to bare
Pillow decoding of the same files by two threads in the same run; memory is the most the process and its children held
for themselves (resident, without pages of mapped cache files, which the system may drop).

    python benchmarks/collection.py [--images 200000] [--folder PLACE]
"""

from __future__ import annotations

import argparse
import os
import subprocess
import sys
import tempfile
import time
from collections.abc import Sequence
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path

import numpy as np
import psutil
from PIL import Image

CLASSES = 10

BROWSE = """
import statistics, sys, time
from pathlib import Path
from attentive_lens.window.application import make_application, make_frame
from attentive_lens.window.session import open_session
from attentive_lens.window.parts.sheet import ContactSheet
from PyQt6.QtWidgets import QComboBox
from PyQt6.QtCore import QEventLoop
began = time.perf_counter()
application = make_application()
session = open_session(Path(sys.argv[1]))
frame = make_frame(session)
frame.resize(1280, 800)
frame.show()
application.processEvents()
print(f"window open after {time.perf_counter() - began:.2f} s")
def until(ready):
    while not ready():
        application.processEvents(QEventLoop.ProcessEventsFlag.AllEvents, 50)
until(lambda: session.images.pixels is not None)
sheet = frame.page("images").findChild(ContactSheet, "contact sheet")
bar = sheet.verticalScrollBar()
def painted(count, step):
    found = []
    for k in range(count):
        bar.setValue(step(k))
        start = time.perf_counter()
        sheet.viewport().repaint()
        found.append((time.perf_counter() - start) * 1000)
    return f"median {statistics.median(found):.1f} ms, longest {max(found):.1f} ms"
print("a screenful while scrolling by rows:", painted(200, lambda k: 20 * k))
print("a screenful anywhere:", painted(60, lambda k: bar.maximum() * (k * 37 % 60) // 60))
until(lambda: "sharpness" in session.images.measures)
box = frame.page("images").findChild(QComboBox, "order")
start = time.perf_counter()
box.setCurrentText("sharpness")
box.textActivated.emit("sharpness")
sheet.viewport().repaint()
print(f"sorted by sharpness and painted in {time.perf_counter() - start:.2f} s")
frame.close()
"""


def make(folder: Path, images: int, pixels: int = 64, classes: int = CLASSES) -> list[Path]:
    """Files of made-up pictures, each another: a disc of its own size, place and tint in noise of its own."""
    random = np.random.default_rng(0)
    down, across = np.mgrid[:pixels, :pixels] / pixels
    for k in range(classes):
        (folder / f"type {k}").mkdir(parents=True)
    files = [folder / f"type {k % classes}" / f"{k:06}.png" for k in range(images)]
    for file in files:
        row, column, radius = random.uniform((0.35, 0.35, 0.15), (0.65, 0.65, 0.4))
        disc = ((down - row) ** 2 + (across - column) ** 2 < radius**2)[..., None]
        picture = np.where(disc, random.integers(30, 200, 3, np.uint8), np.uint8(205))
        picture += random.integers(0, 25, picture.shape, np.uint8)
        Image.fromarray(picture).save(file, "PNG", compress_level=1)
    return files


def bare(files: Sequence[Path]) -> float:
    """Files decoded a second by two threads of Pillow and nothing else."""
    chosen = files[:: max(1, len(files) // 10_000)]

    def one(file: Path) -> None:
        with Image.open(file) as picture:
            picture.load()

    start = time.perf_counter()
    with ThreadPoolExecutor(2) as pool:
        list(pool.map(one, chosen))
    return len(chosen) / (time.perf_counter() - start)


def measured(words: Sequence[str], quiet: bool = False) -> tuple[float, float]:
    """Seconds and most memory (MB) of a process with its children; what it prints is printed, unless ``quiet``."""
    start, out = time.perf_counter(), subprocess.DEVNULL if quiet else None
    environment = {**os.environ, "QT_QPA_PLATFORM": "offscreen"}
    process = subprocess.Popen(words, env=environment, stdout=out, stderr=out)  # noqa: S603
    watched = psutil.Process(process.pid)
    most = 0.0
    while process.poll() is None:
        held = 0
        try:
            for own in (watched, *watched.children(recursive=True)):
                used = own.memory_info()
                held += used.rss - used.shared
        except psutil.Error:
            held = 0
        most = max(most, held / 1e6)
        time.sleep(0.1)
    if process.returncode:
        sys.exit(f"{words} ended with {process.returncode}")
    return time.perf_counter() - start, most


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    parser.add_argument("--images", type=int, default=200_000)
    parser.add_argument("--folder", type=Path)
    words = parser.parse_args()
    with tempfile.TemporaryDirectory(dir=words.folder) as place, tempfile.TemporaryDirectory() as state:
        os.environ["XDG_STATE_HOME"] = state
        start = time.perf_counter()
        files = make(Path(place) / "pictures", words.images)
        print(f"{words.images} files made in {time.perf_counter() - start:.0f} s", flush=True)
        workspace = str(Path(place) / "workspace")
        before = bare(files)
        lens = [sys.executable, "-m", "attentive_lens"]
        spent, most = measured([*lens, "new", workspace, str(Path(place) / "pictures")])
        rate, decoding = words.images / spent, (before + bare(files)) / 2
        print(
            f"import: {rate:.0f} images/s, {rate / decoding:.2f} of bare decoding ({decoding:.0f}/s); {most:.0f} MB",
            flush=True,
        )
        prepare = (
            "import sys; from attentive_lens.desk.requests.images import Prepare;"
            " from attentive_lens.desk.tasks import carry_out; from attentive_lens.core.jobs import finish;"
            " finish(carry_out(Prepare(sys.argv[1])))"
        )
        spent, most = measured([sys.executable, "-c", prepare, workspace])
        rate, decoding = words.images / spent, (decoding + bare(files)) / 2
        print(f"preprocessing: {rate:.0f} images/s, {rate / decoding:.2f} of bare decoding; {most:.0f} MB", flush=True)
        _, most = measured([sys.executable, "-c", BROWSE, workspace])
        print(f"browsing, window and worker together: {most:.0f} MB")


if __name__ == "__main__":
    main()
