"""Loops compiled for this processor before somebody waits for them, each by being used once in small.

They are compiled when they are first called and kept from then on, by their source, the compiler and the processor. On
a new machine that is most of a first run's first minute, so it is done beforehand: `python -m
attentive_lens.desk.compiling`, which the set-up and the window start in the background, with the lowest priority. A run
that begins before all is done takes its share, and says how far it is. Several processes share them: each takes what no
other is at.
"""

from __future__ import annotations

import fcntl
import os
import subprocess
import sys
import time
from collections.abc import Callable, Iterator
from contextlib import contextmanager, suppress
from functools import cache
from pathlib import Path
from typing import Any

import attentive_lens
from attentive_lens.core.jobs import Job, Progress, finish
from attentive_lens.core.keeping import key_of

SOURCES = ("engine", "images/augmentation", "explaining")
"""Where loops stand that are compiled, and what calls them."""
LOWEST = 19
DOING = "compiling for this processor, once"
LOOK_SECONDS = 0.1
"""Between two looks at what others are at."""


def _convolve(tiles: bool = False, groups: int = 1) -> None:
    """Forward, and back to filters and images."""
    from attentive_lens.plan.layers import Convolution

    channels = 64 if tiles else 4
    settings = Convolution(filters=channels, kernel_size=3, groups=channels if groups > 1 else 1)
    _use("convolution", settings, (16, 16, channels), kernels="tiles" if tiles else "direct")


def _normalise() -> None:
    from attentive_lens.plan.layers import BatchNormalisation

    _use("batch normalisation", BatchNormalisation(), (8, 8, 4))


def _activate() -> None:
    from attentive_lens.plan.layers import LeakyRelu, Relu

    _use("relu", Relu(), (8, 8, 4))
    _use("leaky relu", LeakyRelu(), (8, 8, 4))


def _pool() -> None:
    """Windows of two by two, and others; in training, and where an answer is explained."""
    from attentive_lens.plan.layers import MaxPooling

    for settings in (MaxPooling(kernel_size=2, stride=2), MaxPooling(kernel_size=3, stride=2)):
        _use("max pooling", settings, (8, 8, 4))
        _use("max pooling", settings, (8, 8, 4), training=False)


def _augment() -> None:
    import numpy as np

    from attentive_lens.images.augmentation.compiled import displace, stretch, warp

    image = np.zeros((4, 4, 3), np.float32)
    warp(image, np.eye(3, dtype=np.float32), image.copy())
    displace(image, image[:, :, 0].copy(), image[:, :, 0].copy(), image.copy())
    stretch(image, 0.5, 1.5)


def _lay_out() -> None:
    import numpy as np

    from attentive_lens.explaining.embedding import embedded

    finish(embedded(np.random.default_rng(0).standard_normal((20, 4)).astype(np.float32)))


def _use(kind: str, settings: Any, shape: tuple[int, ...], kernels: str = "auto", training: bool = True) -> None:
    """Run a layer forward and back on two images."""
    import numpy as np

    from attentive_lens.engine.layers import LAYERS, Call, StepContext
    from attentive_lens.plan.initialisations import He

    random = np.random.default_rng(0)
    layer = LAYERS[kind]("layer", settings)
    layer.kernels = kernels
    images = random.standard_normal((2, *shape)).astype(np.float32)
    weights = layer.start(shape, random, np.dtype(np.float32), He())
    context = StepContext(0, 0, 0, 0) if training else None
    sums = layer.sums(images) if layer.settings.whole_batch else None
    for activate in {False, layer.can_activate}:
        ready = layer.prepare(weights, shape)
        out, saved = layer.forward(images.copy(), weights, Call(context, activate=activate, ready=ready, sums=sums))
        layer.backward(np.ones_like(out), saved, weights, True, True)


STEPS: dict[str, Callable[[], None]] = {
    "convolution": _convolve,
    "augmentation": _augment,
    "pooling": _pool,
    "activations": _activate,
    "convolution by tiles": lambda: _convolve(tiles=True),
    "normalisation": _normalise,
    "depthwise convolution": lambda: _convolve(groups=2),
    "map of images": _lay_out,
}
"""What is compiled, in the order in which a first session needs it; each once on two images."""


def progress() -> tuple[int, int]:
    """How many of `STEPS` are done by this version, compiler and processor, and how many there are."""
    folder = _folder()
    return sum((folder / name).exists() for name in STEPS), len(STEPS)


def is_needed() -> bool:
    """Whether not all are done, as far as is known."""
    done, total = progress()
    return done < total


def begin() -> subprocess.Popen[bytes] | None:
    """Have them done by a process of its own, which outlives this one; None where that is not needed."""
    if not is_needed():
        return None
    nothing = subprocess.DEVNULL
    words = [sys.executable, "-m", "attentive_lens.desk.compiling"]
    return subprocess.Popen(words, stdin=nothing, stdout=nothing, stderr=nothing, start_new_session=True)


def compiled() -> Job[None]:
    """Do what no other process is at, and wait for what others do; where nothing can be written, nothing is done.

    Loops are then compiled when they are called, every time anew.
    """
    with suppress(OSError):
        yield from _compiled(_folder())


def _compiled(folder: Path) -> Job[None]:
    while is_needed():
        folder.mkdir(parents=True, exist_ok=True)
        taken = False
        for name, work in STEPS.items():
            yield Progress(*progress(), DOING)
            with _alone(folder / f"{name}.lock") as mine:
                if mine and not (folder / name).exists():
                    work()
                    (folder / name).touch()
                    taken = True
        if not taken:
            time.sleep(LOOK_SECONDS)


@contextmanager
def _alone(file: Path) -> Iterator[bool]:
    """Whether no other process holds the lock; it is this one's then."""
    with file.open("w") as lock:
        try:
            fcntl.flock(lock, fcntl.LOCK_EX | fcntl.LOCK_NB)
        except OSError:
            yield False
        else:
            yield True


def _folder() -> Path:
    """Where is noted what was done, beside what was compiled."""
    return Path(os.environ["NUMBA_CACHE_DIR"]) / f"compiled-{_key(Path(attentive_lens.__file__).parent)}"


@cache
def _key(root: Path) -> str:
    from importlib.metadata import version  # only here: the window is painted sooner without

    files = sorted(file for source in SOURCES for file in (root / source).rglob("*.py"))
    processor = ""
    with suppress(OSError):
        lines = Path("/proc/cpuinfo").read_text("utf-8", "replace").splitlines()
        processor = "\n".join(line for line in lines[:40] if line.startswith(("model name", "flags")))
    # by the folder too: the compiler keeps what it made by the path of its source
    return key_of(str(root), *files, version("numba"), sys.version, processor)[:16]


if __name__ == "__main__":
    os.nice(LOWEST)
    finish(compiled())
