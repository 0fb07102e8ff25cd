"""What the standard's own evaluator makes of a model file, asked in a process of its own: a second opinion.

It is slow and takes what it is given: a sample, of a file that was just written, for as long as somebody waits.
"""

from __future__ import annotations

import subprocess
import sys
import tempfile
import time
from collections.abc import Mapping, Sequence
from pathlib import Path
from typing import Any, TypeAlias

import numpy as np
from numpy.typing import NDArray

from attentive_lens.core.jobs import Job, Progress
from attentive_lens.errors import BadFile

LONGEST, STEP = 600.0, 0.05
"""Seconds that a check may take, and between two looks at whether it has ended."""
READ = "read"
"""What the process says of every image that was answered."""


Feed: TypeAlias = Mapping[str, NDArray[Any]]
"""What is fed for one image, by the names of the inputs, each 1×…"""


def answers_of(file: Path, feeds: Sequence[Feed]) -> Job[NDArray[np.float32]]:
    """The answers N×K, or images N×H×W×C, of a model file to what it is fed, by the standard's evaluator.

    Raises
    ------
    BadFile
        If it cannot read the file, or takes longer than `LONGEST`.
    """
    with tempfile.TemporaryDirectory(prefix="attentive-lens-") as folder:
        sample, result = Path(folder) / "sample.npz", Path(folder) / "answers.npy"
        arrays: Any = {f"{k}/{name}": array for k, feed in enumerate(feeds) for name, array in feed.items()}
        np.savez(sample, **arrays)
        words = [sys.executable, "-m", "attentive_lens.formats.onnx.checking", str(file), str(sample), str(result)]
        with (Path(folder) / "said").open("w+b") as said, (Path(folder) / "trouble").open("w+b") as trouble:
            process = subprocess.Popen(words, stdout=said, stderr=trouble, stdin=subprocess.DEVNULL)
            try:
                yield from _watched(process, Path(said.name), len(feeds), file)
            finally:
                process.kill()
                process.wait()
            if process.returncode:
                lines = Path(trouble.name).read_text("utf-8", "replace").strip().splitlines() or ["it ended at once"]
                raise BadFile(f"{file} could not be checked", f"the evaluator ended: {lines[-1]}", "Tell its makers")
        answers: NDArray[np.float32] = np.load(result)
        return answers


def _watched(process: subprocess.Popen[bytes], said: Path, count: int, file: Path) -> Job[None]:
    """Until it has ended; how many images were answered is told meanwhile."""
    begun = time.monotonic()
    while process.poll() is None:
        yield Progress(said.read_text("utf-8").count(READ), count, "checking the file")
        if time.monotonic() - begun > LONGEST:
            raise BadFile(f"{file} could not be checked", f"it took longer than {LONGEST:.0f} s", "Check it elsewhere")
        time.sleep(STEP)


def main(file: str, sample: str, result: str) -> None:
    """Check the file against the standard, ask the evaluator about every image, and write its answers."""
    import onnx
    from onnx.reference import ReferenceEvaluator

    onnx.checker.check_model(file, full_check=True)
    evaluator = ReferenceEvaluator(file)
    answers: list[NDArray[np.float32]] = []
    feeds: dict[str, dict[str, Any]] = {}
    with np.load(sample) as stored:
        for key in stored.files:
            number, _, name = key.partition("/")
            feeds.setdefault(number, {})[name] = stored[key]
        for given in feeds.values():
            answers.append(np.asarray(evaluator.run(None, given)[0]))  # type: ignore[index]  # it has one output
            sys.stdout.write(f"{READ}\n")
            sys.stdout.flush()
    np.save(result, np.concatenate(answers).astype(np.float32))


if __name__ == "__main__":
    main(*sys.argv[1:])
