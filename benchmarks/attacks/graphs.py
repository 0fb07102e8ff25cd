"""Model files of the open format, damaged at random: each must be read, or refused in a sentence; nothing else.

    python benchmarks/attacks/graphs.py [--files 20000] [--seed 0]

The files are those that the standard's package carries. Said at the end: how many were read and run, how many refused,
the longest time for one, and the most memory that the process took, beside what it took before.
"""

from __future__ import annotations

import argparse
import contextlib
import resource
import sys
import time
from pathlib import Path

import numpy as np
import onnx.backend.test

from attentive_lens.errors import LensError
from attentive_lens.formats.onnx.importing import take_in
from attentive_lens.formats.onnx.reading import OnnxModel, read

CASES = Path(onnx.backend.test.__file__).parent / "data"
LONGEST = 60_000
"""Bytes of a file that is damaged, at most: larger ones differ in weights only."""


def damaged(data: bytes, random: np.random.Generator) -> bytes:
    """Some bytes changed, taken out, put in twice, or cut off."""
    out = bytearray(data)
    for _ in range(random.integers(1, 6)):
        at, much = int(random.integers(0, len(out))), int(random.integers(1, 9))
        match random.integers(0, 5):
            case 0 | 1:
                out[at] = int(random.integers(0, 256))
            case 2:
                del out[at : at + much]
            case 3:
                out[at:at] = out[at : at + much]
            case 4 if random.random() < 0.2:
                del out[at:]
        if not out:
            return b""
    return bytes(out)


def tried(data: bytes) -> str:
    """What comes of a file."""
    try:
        model: OnnxModel = read(data)
        sides = {name: [side or 1 for side in each] for name, each in model.inputs.items()}
        if any(np.prod(each, dtype=float) > 2**20 for each in sides.values()):
            return "read"
        model.run({name: np.ones(each, np.float32) for name, each in sides.items()})
        with contextlib.suppress(LensError):
            take_in(model)
    except LensError:
        return "refused"
    return "run"


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    parser.add_argument("--files", type=int, default=20_000)
    parser.add_argument("--seed", type=int, default=0)
    asked = parser.parse_args()
    whole = [file.read_bytes() for file in sorted(CASES.glob("**/*.onnx")) if file.stat().st_size <= LONGEST]
    random, counts, longest = np.random.default_rng(asked.seed), dict.fromkeys(("run", "read", "refused"), 0), 0.0
    before = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss
    for number in range(asked.files):
        data = damaged(whole[random.integers(len(whole))], random)
        begun = time.perf_counter()
        try:
            counts[tried(data)] += 1
        except Exception:
            Path(f"damaged-{number}.onnx").write_bytes(data)
            print(f"file {number} of seed {asked.seed} is neither read nor refused", file=sys.stderr)
            raise
        longest = max(longest, time.perf_counter() - begun)
    after = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss
    print(f"{asked.files} files from {len(whole)}: {counts}; longest {longest:.2f} s")
    print(f"memory at most {after / 1024:.0f} MB, {before / 1024:.0f} MB before: {after / before:.1f} times")


if __name__ == "__main__":
    main()
