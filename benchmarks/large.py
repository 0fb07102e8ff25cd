"""Whether the window of a large collection stalls: while measures arrive, stages are shown, sheets and matrix scrolled.

    python benchmarks/large.py WORKSPACE

The workspace (of `benchmarks/collection.py`'s kind, with a trained run) is opened without what was measured of its
images; a timer ticks every 5 ms, and its longest gaps are printed for each thing that is done, beside those of a window
that is left alone.
"""

from __future__ import annotations

import os
import sys
import tempfile
import time
from collections.abc import Callable
from pathlib import Path

os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")
os.environ.setdefault("OPENBLAS_NUM_THREADS", "1")

from PyQt6.QtCore import QElapsedTimer, QEventLoop, QTimer
from PyQt6.QtWidgets import QAbstractScrollArea

from attentive_lens.window.application import make_application, make_frame
from attentive_lens.window.pages import STAGES
from attentive_lens.window.pages.results import ResultsPage
from attentive_lens.window.session import open_session


class Watch:
    """Gaps between ticks of a timer."""

    def __init__(self) -> None:
        self.gaps: list[float] = []
        self._clock = QElapsedTimer()
        self._clock.start()
        self._timer = QTimer()
        self._timer.timeout.connect(self._tick)
        self._timer.start(5)

    def _tick(self) -> None:
        self.gaps.append(self._clock.nsecsElapsed() / 1e6)
        self._clock.restart()

    def during(self, what: str, until: Callable[[], bool], least: float = 0.5, most: float = 120) -> None:
        """Run the window's events until something holds; print the longest gaps."""
        self.gaps.clear()
        began = time.perf_counter()
        while time.perf_counter() - began < least or not until():
            loop = QEventLoop()
            QTimer.singleShot(50, loop.quit)
            loop.exec()
            if time.perf_counter() - began > most:
                break
        longest = " ".join(f"{gap:.0f}" for gap in sorted(self.gaps, reverse=True)[:6])
        print(f"{what:46} {time.perf_counter() - began:6.1f} s; longest gaps {longest} ms", flush=True)


def main() -> None:
    """Open, do and print."""
    state = tempfile.TemporaryDirectory()
    os.environ["XDG_STATE_HOME"] = state.name
    began = time.perf_counter()
    application = make_application()
    session = open_session(Path(sys.argv[1]))
    frame = make_frame(session)
    frame.resize(1280, 800)
    frame.show()
    application.processEvents()
    print(f"open after {time.perf_counter() - began:.2f} s", flush=True)
    watch = Watch()
    watch.during("images arrive", lambda: session.images.pixels is not None)
    frame.show_stage("images")
    watch.during("measures arrive", lambda: "sharpness" in session.images.measures, 1.0)
    watch.during("left alone", lambda: True, 5)
    for turn in ("first", "second"):
        for key in STAGES:
            frame.show_stage(key)
            watch.during(f"{key}, shown for the {turn} time", lambda: True, 4)
    results = frame.page("results")
    assert isinstance(results, ResultsPage)
    frame.show_stage("results")
    for word in results.views:
        results.show_view(word)
        watch.during(f"results: {word}", lambda: True, 4)
    results.show_view("overview")
    for area in frame.findChildren(QAbstractScrollArea):
        bar = area.verticalScrollBar()
        if area.isVisible() and bar is not None and bar.maximum() > 500:
            watch.gaps.clear()
            for k in range(100):
                bar.setValue(bar.maximum() * (k * 37 % 100) // 100)
                application.processEvents()
            longest = " ".join(f"{gap:.0f}" for gap in sorted(watch.gaps, reverse=True)[:6])
            print(f"scrolling {area.objectName() or type(area).__name__}: longest gaps {longest} ms", flush=True)
    frame.close()


if __name__ == "__main__":
    main()
