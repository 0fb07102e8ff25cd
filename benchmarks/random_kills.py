"""Is a run that is killed anywhere the same, to the bit, when it has gone on?

Runs on the demo are killed (SIGKILL) one to three times, each at a moment drawn at random over their length, also while
checkpoints are written (they are written often), while they are paused and while another learning rate is set; then
they go on to their end. Compared with an unbroken run are the best and the last weights, and the epochs told. Then
windows are killed while a run trains that they started.

    python benchmarks/random_kills.py [--kills 200] [--windows 10] [--seed 1]
"""

from __future__ import annotations

import argparse
import json
import multiprocessing
import os
import random
import signal
import subprocess
import sys
import tempfile
import time
from pathlib import Path

os.environ.setdefault("OPENBLAS_NUM_THREADS", "1")
os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")

from attentive_lens.core.jobs import finish
from attentive_lens.desk.making import make_demo
from attentive_lens.desk.training.executing import Launch, execute
from attentive_lens.desk.training.runs import RunReader
from attentive_lens.engine.network import fingerprint
from attentive_lens.formats.reading import read_checkpoint
from attentive_lens.plan.plan import Plan
from attentive_lens.workspace import Run, Workspace

PLAN = Plan().changed(
    {
        "network": "normalised blocks",
        "preprocessing.input_size": 32,
        "training.epochs": 6,
        "training.batch_size": 16,
        "training.checkpoint_minutes": 0.05,
        "training.keep_last": 2,
        "schedule": "one cycle",
        "averaging": "exponential moving average",
    }
)
RATE_STEP, RATE = 20, 0.0004
"""Step from which every run has another learning rate, set before it begins."""


def train(place: str, number: int, resume: bool) -> None:
    """Execute a run in this process."""
    workspace = Workspace.open(Path(place))
    finish(execute(workspace, workspace.run(number), lambda: False, Launch(resume)))


def claim(workspace: Workspace) -> Run:
    run = workspace.claim_run(PLAN)
    run.keep_rates([(RATE_STEP, RATE)])
    return run


def print_of(run: Run) -> tuple[str, str, tuple[int, ...]]:
    """What must be the same: best and last weights, epochs told."""
    best, last = (read_checkpoint(run.checkpoints / f"{name}.alens").weights for name in ("best", "last"))
    return fingerprint(best), fingerprint(last), tuple(epoch.epoch for epoch in RunReader(run).view().epochs)


def wait(process: multiprocessing.process.BaseProcess, seconds: float) -> bool:
    """Whether it ended by itself within some seconds; it is killed if not."""
    process.join(seconds)
    if process.exitcode is not None:
        return True
    os.kill(process.pid or 0, signal.SIGKILL)
    process.join()
    return False


def trainers(workspace: Workspace, kills: int, chance: random.Random) -> tuple[int, int]:
    """Kills done, and runs that came out different."""
    fork = multiprocessing.get_context("forkserver")
    fork.set_forkserver_preload(["attentive_lens.desk.training.executing", "attentive_lens.engine.kernels.direct"])
    place = str(workspace.folder)
    whole = claim(workspace)
    process = fork.Process(target=train, args=(place, whole.number, False))
    process.start()
    process.join()
    began = time.perf_counter()
    again = claim(workspace)
    process = fork.Process(target=train, args=(place, again.number, False))
    process.start()
    process.join()
    length = time.perf_counter() - began
    expected, done, different = print_of(whole), 0, 0
    assert print_of(again) == expected, "two unbroken runs differ"
    while done < kills:
        run = claim(workspace)
        for _ in range(chance.choice((1, 2, 3))):
            process = fork.Process(target=train, args=(place, run.number, run.journal.exists()))
            process.start()
            paused = chance.random() < 0.2
            if paused:
                time.sleep(chance.uniform(0, length / 2))
                run.ask("pause")
            if wait(process, chance.uniform(0, length * 0.7)):
                break
            done += 1
            run.forget_word()
        if RunReader(run).view().state != "done":
            process = fork.Process(target=train, args=(place, run.number, run.journal.exists()))
            process.start()
            process.join()
        came = print_of(run)
        if came != expected:
            different += 1
            print(f"run {run.number} differs: {came} in place of {expected}")
    return done, different


def windows(workspace: Workspace, kills: int, chance: random.Random) -> tuple[int, int]:
    """Windows killed, and runs that did not come to their end by themselves."""
    broken = 0
    script = (
        "import sys\nfrom pathlib import Path\nfrom PyQt6.QtCore import QTimer\n"
        "from attentive_lens.window.application import make_application, make_frame\n"
        "from attentive_lens.window.session import open_session\n"
        "app = make_application()\nsession = open_session(Path(sys.argv[1]))\nframe = make_frame(session)\n"
        "session.design.change(session.workspace.run(1).plan())\nframe.show()\n"
        "QTimer.singleShot(200, session.start)\napp.exec()\n"
    )
    for _ in range(kills):
        before = len(workspace.runs())
        window = subprocess.Popen([sys.executable, "-c", script, str(workspace.folder)], stderr=subprocess.DEVNULL)
        while len(workspace.runs()) == before:
            time.sleep(0.05)
        time.sleep(chance.uniform(0, 3))
        window.kill()
        window.wait()
        run = workspace.runs()[-1]
        end = time.monotonic() + 120
        while RunReader(run).view().state == "training" and time.monotonic() < end:
            time.sleep(0.1)
        broken += RunReader(run).view().state != "done"
    return kills, broken


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    parser.add_argument("--kills", type=int, default=200)
    parser.add_argument("--windows", type=int, default=10)
    parser.add_argument("--seed", type=int, default=1)
    words = parser.parse_args()
    chance = random.Random(words.seed)
    with tempfile.TemporaryDirectory() as folder:
        os.environ["XDG_STATE_HOME"] = folder
        workspace = finish(make_demo(Path(folder) / "station", 240, 5)).workspace
        done, different = trainers(workspace, words.kills, chance)
        print(f"trainers killed {done} times, in runs of which {different} came out different")
        done, broken = windows(workspace, words.windows, chance)
        print(f"windows killed {done} times; {broken} of their runs did not come to their end")
        print(json.dumps({"different": different, "broken": broken}))
    sys.exit(bool(different or broken))


if __name__ == "__main__":
    main()
