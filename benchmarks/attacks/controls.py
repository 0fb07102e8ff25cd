"""Every control of every page used in an order of chance, for as long as is wanted: no fault may be told.

python benchmarks/attacks/controls.py WORKSPACE [--seconds 120] [--seed 0]

The workspace is copied first. Nothing is trained: what would start a run is refused.
"""

from __future__ import annotations

import argparse
import os
import random
import shutil
import sys
import tempfile
import time
import traceback
from pathlib import Path
from types import TracebackType

os.environ["QT_QPA_PLATFORM"] = "offscreen"
_state = tempfile.TemporaryDirectory()
os.environ["XDG_STATE_HOME"] = _state.name
sys.path.insert(0, str(Path(__file__).parents[2]))

import pytest
from PyQt6.QtWidgets import QApplication
from tests.window.clicking import answer_dialogs, deeds

from attentive_lens.errors import BadFile
from attentive_lens.window.application import make_application, make_frame
from attentive_lens.window.session import Session
from attentive_lens.workspace import Workspace

BESIDE = frozenset({"theme", "stop training"})
BEGINNING = ("start_training", "resume_training", "start_halving", "enqueue")


def refuse(*_: object, **__: object) -> None:
    raise BadFile("Nothing was begun", "this is an attack on the window", "Go on")


def main() -> int:
    parser = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    parser.add_argument("workspace", type=Path)
    parser.add_argument("--seconds", type=float, default=120)
    parser.add_argument("--seed", type=int, default=0)
    arguments = parser.parse_args()
    faults: dict[str, list[str]] = {}
    trail: list[str] = []

    def note(kind: type[BaseException], value: BaseException, trace: TracebackType | None) -> None:
        faults.setdefault("".join(traceback.format_exception(kind, value, trace)[-3:]), trail[-6:])

    application = make_application()
    with tempfile.TemporaryDirectory() as folder, pytest.MonkeyPatch.context() as patch:
        work = Path(shutil.copytree(arguments.workspace, Path(folder) / "work"))
        answer_dialogs(patch)
        for name in BEGINNING:
            patch.setattr(f"attentive_lens.desk.training.state.{name}", refuse)
        frame = make_frame(Session(Workspace.open(work)))
        sys.excepthook = note
        frame.show()
        chosen, end, used = random.Random(arguments.seed), time.monotonic() + arguments.seconds, 0

        def go_on(seconds: float) -> None:
            until = time.monotonic() + seconds
            while time.monotonic() < until:
                application.processEvents()
                time.sleep(0.002)

        def try_(name: str, call: object) -> None:
            trail.append(name)
            try:
                call()  # type: ignore[operator]
            except Exception:  # noqa: BLE001  # what is looked for
                note(*sys.exc_info())  # type: ignore[arg-type]

        go_on(3)
        while time.monotonic() < end:
            key = chosen.choice(list(frame.rail.buttons))
            try_(f"stage {key}", lambda key=key: frame.show_stage(key))
            for _ in range(chosen.randint(3, 14)):
                possible = list(deeds(frame.page(frame.current), BESIDE))
                if possible:
                    try_(*chosen.choice(possible))
                    used += 1
                go_on(chosen.choice((0.0, 0.02, 0.1)))
            if chosen.random() < 0.2:
                try_("undo", frame.session.step_back)
            if chosen.random() < 0.1 and frame.session.runs.views:
                run = chosen.choice(list(frame.session.runs.views))
                try_(f"run {run}", lambda run=run: frame.session.runs.choose(run))
        for window in QApplication.topLevelWidgets():
            if window is not frame:
                window.close()
        frame.close()
    for words, steps in faults.items():
        print(f"after {steps}\n{words}")
    print(f"{used} controls used, {len(faults)} faults")
    return bool(faults)


if __name__ == "__main__":
    sys.exit(main())
