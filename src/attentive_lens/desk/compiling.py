"""Loops compiled for this processor before somebody waits for them: by doing in small what a first session does.

They are compiled when they are first called and kept from then on, by their source, the compiler and the processor. On
a new machine that is most of a first run's first minute, so it is done beforehand: `python -m
attentive_lens.desk.compiling`, which the set-up and the window start in the background, with the lowest priority.
"""

from __future__ import annotations

import fcntl
import os
import subprocess
import sys
import tempfile
from contextlib import suppress
from pathlib import Path

import attentive_lens
from attentive_lens.core.keeping import key_of

SOURCES = ("engine/kernels", "images/augmentation", "explaining")
"""Where loops stand that are compiled."""
IMAGES, LOWEST = 24, 19


def is_needed() -> bool:
    """Whether they were not all compiled yet by this version, compiler and processor, as far as is known."""
    return not _stamp().exists()


def begin() -> subprocess.Popen[bytes] | None:
    """Have them compiled by a process of its own, which outlives this one; None where that is not needed."""
    if not is_needed():
        return None
    nothing = subprocess.DEVNULL
    words = [sys.executable, "-m", "attentive_lens.desk.compiling"]
    return subprocess.Popen(words, stdin=nothing, stdout=nothing, stderr=nothing, start_new_session=True)


def compile_all() -> bool:
    """Compile what is not compiled; False where another process is at it."""
    folder = _stamp().parent
    folder.mkdir(parents=True, exist_ok=True)
    with (folder / "compiling.lock").open("w") as lock:
        try:
            fcntl.flock(lock, fcntl.LOCK_EX | fcntl.LOCK_NB)
        except OSError:
            return False
        if is_needed():
            with tempfile.TemporaryDirectory(prefix="attentive-lens-") as place:
                _first_session(Path(place))
            _stamp().touch()
    return True


def _stamp() -> Path:
    """The file that says it was done, beside what was compiled."""
    from importlib.metadata import version  # only here: the window is painted sooner without

    root = Path(attentive_lens.__file__).parent
    files = sorted(file for source in SOURCES for file in (root / source).glob("*.py"))
    processor = ""
    with suppress(OSError):
        lines = Path("/proc/cpuinfo").read_text("utf-8", "replace").splitlines()
        processor = "\n".join(line for line in lines[:40] if line.startswith(("model name", "flags")))
    key = key_of(*files, version("numba"), sys.version, processor)
    return Path(os.environ["NUMBA_CACHE_DIR"]) / f"compiled-{key[:16]}"


def _first_session(place: Path) -> None:
    """A demo of a few images, every starting network trained for an epoch, an image explained, all images laid out."""
    from attentive_lens.core.jobs import finish
    from attentive_lens.desk.making import make_demo
    from attentive_lens.desk.requests.explaining import Explain
    from attentive_lens.desk.requests.mapping import MapData
    from attentive_lens.desk.requests.subjects import RunImage
    from attentive_lens.desk.tasks import carry_out
    from attentive_lens.desk.training.executing import execute
    from attentive_lens.plan.plan import Plan
    from attentive_lens.plan.starters import STARTERS

    workspace = finish(make_demo(place / "station", IMAGES, 0)).workspace
    folder = str(workspace.folder)
    for name in STARTERS:
        plan = Plan().changed({"network": name, "training.epochs": 1, "training.threads": 1, "training.batch_size": 8})
        run = workspace.claim_run(plan)
        finish(execute(workspace, run, lambda: False))
        if run.number == 1:
            finish(carry_out(Explain(RunImage(folder, run.number, 1))))
            finish(carry_out(MapData(folder, run.number)))


if __name__ == "__main__":
    os.nice(LOWEST)
    compile_all()
