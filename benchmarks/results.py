"""How soon views of the Results are drawn where there is much to draw, each beside the same with little.

    QT_QPA_PLATFORM=offscreen python benchmarks/results.py

The confusion matrix of 1 000 classes beside that of 6: from the scores to the first painting. A sheet of 10 000 wrong
images beside one of 100: a step with the arrow key, and a scroll, each with its painting. The map of 5 000 images:
t-SNE with the time to its first picture, beside the same number of steps of a plain NumPy gradient (some are taken, and
multiplied), and a painting while it is moved and zoomed.
"""

from __future__ import annotations

import statistics
import time
from collections.abc import Callable

import numpy as np
from numpy.typing import NDArray
from PyQt6.QtCore import Qt
from PyQt6.QtTest import QTest
from PyQt6.QtWidgets import QApplication, QWidget

from attentive_lens.core.records import from_plain, to_plain
from attentive_lens.desk.requests.mapping import DataMap
from attentive_lens.engine.threads import ThreadPool
from attentive_lens.explaining.distances import squared_distances
from attentive_lens.explaining.embedding import STEPS, embedded
from attentive_lens.scoring.scores import Scores, scored
from attentive_lens.window.application import make_application
from attentive_lens.window.parts.matrix import ConfusionMatrix
from attentive_lens.window.parts.sheet import ContactSheet, Group
from attentive_lens.window.results.image_map import ImageMap

SLOW_STEPS = 3
FRAMES = 40


def made(images: int, classes: int) -> Scores:
    """Scores of drawn answers, three in ten wrong."""
    random = np.random.default_rng(0)
    true = random.integers(0, classes, images)
    predicted = np.where(random.random(images) < 0.7, true, random.integers(0, classes, images))
    sure = random.random((images, classes)).astype(np.float32)
    names = [f"a grain of the family {k}" for k in range(classes)]
    return scored("test", names, range(1, images + 1), true, predicted, sure, np.ones(images), "x")


def painted(widget: QWidget) -> None:
    """Have it drawn now."""
    widget.repaint()
    QApplication.processEvents()


def matrix(classes: int) -> float:
    """Seconds from what the worker sends to the first painting."""
    arrays: list[NDArray[np.generic]] = []
    plain = to_plain(made(10_000, classes), arrays)
    widget = ConfusionMatrix()
    widget.resize(640, 620)
    widget.show()
    QApplication.processEvents()
    began = time.perf_counter()
    scores = from_plain(Scores, plain, arrays)
    widget.show_counts(scores.classes, scores.confusion)
    painted(widget)
    seconds = time.perf_counter() - began
    widget.close()
    return seconds


def sheet(images: int) -> tuple[float, float]:
    """Seconds of a step and of a scroll, medians."""
    pixels = np.random.default_rng(0).integers(0, 256, (images, 64, 64, 3)).astype(np.uint8)
    widget = ContactSheet("benchmark", 86)
    widget.resize(520, 560)
    captions = tuple(f"0.{k % 100:02} spiny" for k in range(images))
    widget.show_groups(pixels, (Group(f"{images} wrong", "", tuple(range(images)), captions),))
    widget.show()
    widget.setFocus()
    QApplication.processEvents()
    widget.select(0)
    bar = widget.verticalScrollBar()

    def scroll() -> None:
        if bar is not None:
            bar.setValue(bar.value() + 40)

    def step() -> None:
        QTest.keyClick(widget, Qt.Key.Key_Right)  # type: ignore[call-overload]  # the stub takes no QTest for «self»

    steps = timed(step, widget)
    scrolls = timed(scroll, widget)
    widget.close()
    return steps, scrolls


def timed(call: Callable[[], object], widget: QWidget) -> float:
    """Seconds of something and its painting, median."""
    taken = []
    for _ in range(FRAMES):
        began = time.perf_counter()
        call()
        painted(widget)
        taken.append(time.perf_counter() - began)
    return statistics.median(taken)


def slow_step(places: NDArray[np.float64], wanted: NDArray[np.float64]) -> None:
    """The gradient of t-SNE over all pairs, plainly."""
    near = 1 / (1 + squared_distances(places, places))
    np.fill_diagonal(near, 0)
    weights = (wanted - near / near.sum()) * near
    (weights.sum(axis=1)[:, None] * places - weights @ places) * 4


def layout() -> None:
    """Print what t-SNE takes, and a frame of its map."""
    random = np.random.default_rng(0)
    features = (random.normal(size=(5000, 128)) + np.repeat(random.normal(size=(10, 128)) * 2, 500, axis=0)).astype(
        np.float32
    )
    with ThreadPool(2) as thread_pool:
        for _ in embedded(features[:60], thread_pool=thread_pool):
            pass
        began = time.perf_counter()
        first, job = None, embedded(features, thread_pool=thread_pool)
        while True:
            try:
                summary = next(job)
            except StopIteration as end:
                places = end.value
                break
            if first is None and summary.so_far is not None:
                first = time.perf_counter() - began
        whole = time.perf_counter() - began
    wanted = np.full((5000, 5000), 1 / 5000**2)
    began = time.perf_counter()
    for _ in range(SLOW_STEPS):
        slow_step(places, wanted)
    slow = (time.perf_counter() - began) / SLOW_STEPS * STEPS
    print(
        f"t-SNE of 5000 images: {whole:.1f} s, first picture after {first:.1f} s; plain steps {slow / whole:.0f} times"
    )
    pixels = random.integers(0, 256, (5000, 64, 64, 3)).astype(np.uint8)
    predicted, true = np.repeat(np.arange(10), 500), np.repeat(np.arange(10), 500)
    predicted[::7] = 3
    numbers = np.arange(1, 5001)
    result = DataMap(
        "x", "t-SNE", tuple("abcdefghij"), 5000, (), numbers, places, predicted, true, np.ones(5000, np.float32)
    )
    widget = ImageMap()
    widget.resize(620, 460)
    widget.show_map(result, pixels, ["training"] * 5000, frozenset({"training"}))
    widget.show()
    QApplication.processEvents()
    moves = timed(lambda: widget.move_by(3, 2), widget)
    zooms = timed(lambda: widget.zoom_by(1.02), widget)
    print(f"its map: a frame while moved {1000 * moves:.1f} ms, while zoomed {1000 * zooms:.1f} ms")


def main() -> None:
    """Measure and print."""
    application = make_application()
    few, many = (statistics.median(matrix(classes) for _ in range(5)) for classes in (6, 1000))
    print(f"matrix of 1000 classes: first painted after {1000 * many:.0f} ms, {many / few:.1f} times that of 6")
    small, large = sheet(100), sheet(10_000)
    for word, one, other in zip(("a step", "a scroll"), small, large, strict=True):
        print(f"sheet of 10000 images: {word} takes {1000 * other:.1f} ms, {other / one:.2f} times that of 100")
    layout()
    application.quit()


if __name__ == "__main__":
    main()
