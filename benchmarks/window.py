"""How soon the window is painted, and whether it stalls while training runs on both cores.

First paint: whole processes, from their start to the first painting, imports included, each beside a process that
shows an empty Qt window and imports NumPy (the floor). Stalls: the longest gaps between ticks of a 5 ms timer in the
window on its Training stage, idle and while a run trains, beside the gaps of a process that does nothing else.

    python benchmarks/window.py [--runs 9] [--seconds 20]
"""

from __future__ import annotations

import argparse
import os
import statistics
import subprocess
import sys
import tempfile
import time
from pathlib import Path

os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")
os.environ.setdefault("OPENBLAS_NUM_THREADS", "1")
_state = tempfile.TemporaryDirectory()
os.environ["XDG_STATE_HOME"] = _state.name

SLACK = 0.020

SINCE = "import os, time; print(time.time() - float(os.environ['STARTED']), flush=True)"

FLOOR = f"""
import numpy
from PyQt6.QtCore import QTimer
from PyQt6.QtWidgets import QApplication, QWidget
application = QApplication([])
class Empty(QWidget):
    def paintEvent(self, event):
        {SINCE}
        QTimer.singleShot(0, application.quit)
window = Empty()
window.resize(1280, 800)
window.show()
application.exec()
"""

OURS = f"""
import sys
from pathlib import Path
import attentive_lens.__main__
from attentive_lens.window.application import make_application, make_frame
from attentive_lens.window.session import open_session
application = make_application()
frame = make_frame(open_session(Path(sys.argv[1])))
def first():
    {SINCE}
    application.quit()
frame.painted.connect(first)
frame.show()
application.exec()
frame.session.close()
"""

GAPS = """
import sys, time
from PyQt6.QtCore import QCoreApplication, QTimer
application = QCoreApplication([])
last, gaps = time.perf_counter(), []
def tick():
    global last
    now = time.perf_counter()
    gaps.append(now - last)
    last = now
timer = QTimer()
timer.timeout.connect(tick)
timer.start(5)
QTimer.singleShot(int(float(sys.argv[1]) * 1000), application.quit)
application.exec()
print(max(gaps[2:]))
"""


def seconds_of(code: str, *words: str) -> float:
    started = {**os.environ, "STARTED": str(time.time())}
    done = subprocess.run([sys.executable, "-c", code, *words], capture_output=True, text=True, check=True, env=started)
    return float(done.stdout.split()[0])


def spread(values: list[float]) -> str:
    return f"{statistics.median(values):.3f} s (from {min(values):.3f} to {max(values):.3f})"


def gaps_in_window(workspace: Path, seconds: float, train: bool) -> list[float]:
    """The longest gaps between ticks in the window, longest first; the first second is left out."""
    from PyQt6.QtCore import QEventLoop, QTimer

    from attentive_lens.desk.training.runs import reap_children
    from attentive_lens.window.application import make_application, make_frame
    from attentive_lens.window.session import open_session

    application = make_application()
    session = open_session(workspace)
    frame = make_frame(session)
    frame.show()
    frame.show_stage("training")
    wait(2.5)
    if train:
        session.design.change(session.design.plan.changed({"training.epochs": 9999}))
        session.start()
        while not (session.runs.view and session.runs.view.batches):
            wait(0.2)
    gaps: list[float] = []
    last = time.perf_counter()

    def tick() -> None:
        nonlocal last
        now = time.perf_counter()
        gaps.append(now - last)
        last = now

    timer = QTimer()
    timer.timeout.connect(tick)
    timer.start(5)
    loop = QEventLoop()
    QTimer.singleShot(int(seconds * 1000), loop.quit)
    loop.exec()
    timer.stop()
    if train:
        session.runs.steer("stop")
        while reap_children():
            wait(0.2)
    frame.close()
    application.processEvents()
    return sorted(gaps[2:], reverse=True)


def wait(seconds: float) -> None:
    from PyQt6.QtCore import QEventLoop, QTimer

    loop = QEventLoop()
    QTimer.singleShot(int(seconds * 1000), loop.quit)
    loop.exec()


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--runs", type=int, default=9)
    parser.add_argument("--seconds", type=float, default=20)
    words = parser.parse_args()
    from attentive_lens.core.jobs import finish
    from attentive_lens.desk.making import make_demo

    with tempfile.TemporaryDirectory() as folder:
        workspace = Path(folder) / "station"
        finish(make_demo(workspace, 1800, 0))
        seconds_of(OURS, str(workspace))
        pairs = [(seconds_of(OURS, str(workspace)), seconds_of(FLOOR)) for _ in range(words.runs)]
        ours, floor = [list(column) for column in zip(*pairs, strict=True)]
        ratio = statistics.median(a / b for a, b in pairs)
        print(f"first paint       {spread(ours)}")
        print(f"empty window      {spread(floor)}; ratio {ratio:.2f}")
        idle = gaps_in_window(workspace, words.seconds, train=False)
        busy = gaps_in_window(workspace, words.seconds, train=True)
        machine = seconds_of(GAPS, str(words.seconds))
        print(f"longest gap of a timer alone                {machine * 1000:6.1f} ms")
        print(f"longest gaps in the window, idle            {' '.join(f'{g * 1000:.1f}' for g in idle[:5])} ms")
        print(f"longest gaps in the window, while training  {' '.join(f'{g * 1000:.1f}' for g in busy[:5])} ms")
        within = sum(gap <= machine + SLACK for gap in busy) / len(busy)
        print(f"{within:.4%} of {len(busy)} gaps while training are within {SLACK * 1000:.0f} ms of the timer alone")


if __name__ == "__main__":
    main()
