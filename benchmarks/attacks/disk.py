"""Commands on a disk that fills up: a sentence each time, nothing half done, and asking again with room completes them.

A small file system in memory is mounted for it, so it needs root.

    python benchmarks/attacks/disk.py [--sizes 12]
"""

from __future__ import annotations

import argparse
import contextlib
import os
import subprocess
import sys
import tempfile
import time
from collections.abc import Iterator
from pathlib import Path

sys.path.insert(0, str(Path(__file__).parent))

from kills import TINY, attempt, drawn

SMALLEST, LARGEST = 40, 6000
"""Kilobytes of the smallest and the largest disk."""


@contextlib.contextmanager
def disk(folder: Path, kilobytes: int) -> Iterator[Path]:
    """A file system of so many kilobytes."""
    folder.mkdir(exist_ok=True)
    subprocess.run(["mount", "-t", "tmpfs", "-o", f"size={kilobytes}k", "tmpfs", str(folder)], check=True)
    try:
        yield folder
    finally:
        subprocess.run(["umount", "-l", str(folder)], check=True)


def with_room(folder: Path) -> None:
    subprocess.run(["mount", "-o", "remount,size=64m", str(folder)], check=True)


def attack(sizes: int, folder: Path) -> tuple[int, int, list[str]]:
    """Commands given, those for which there was no room, and what must not be."""
    source = drawn(folder / "leaves")
    (folder / "l.csv").write_text("image,label,set\n1,narrow,\n3,,excluded\n")
    given = refused = 0
    faults = []
    log = folder / "log"
    for k in range(sizes):
        kilobytes = round(SMALLEST * (LARGEST / SMALLEST) ** (k / max(1, sizes - 1)))
        with disk(folder / "disk", kilobytes) as place:
            work = str(place / "work")
            steps = {
                "new": ["new", work, str(source)],
                "label": ["label", work, str(folder / "l.csv")],
                "train": ["train", work, *TINY],
                "score": ["score", work, "1"],
                "demo": ["demo", str(place / "p"), "--images", "24", "--json"],
            }
            for name, words in steps.items():
                code, _ = attempt(words, log=log)
                given += 1
                result = log.read_text("utf-8", errors="replace")
                if "Traceback" in result or "The program has a fault" in result or code not in (0, 1):
                    faults.append(f"{kilobytes} KB, {name}: exit code {code}: {result[-300:]}")
                if code == 0:
                    continue
                refused += 1
                with_room(place)
                again = words
                if name == "train" and (place / "work" / "runs" / "0001").exists():
                    again = ["train", work, "--resume", "1"]
                code, _ = attempt(again, log=log)
                if code:
                    faults.append(f"{kilobytes} KB, {name} again: {log.read_text('utf-8', errors='replace')[-300:]}")
                    break
    return given, refused, faults


def steered(folder: Path) -> list[str]:
    """What goes wrong where a disk fills up, or turns read-only, under a run that is paused and given another rate."""
    faults = []
    source = drawn(folder / "steered-leaves")
    long = ["train", *TINY, "--set", "training.epochs=60", "--set", "training.checkpoint_minutes=0.05"]
    for kind in ("full", "read-only"):
        with disk(folder / "disk", 64 << 10) as place:
            work, log = str(place / "work"), folder / "log"
            attempt(["new", work, str(source)], log=log)
            program = [sys.executable, "-m", "attentive_lens", long[0], work, *long[1:]]
            with log.open("w") as result:
                process = subprocess.Popen(program, stdout=result, stderr=result)
            checkpoint = place / "work" / "runs" / "0001" / "checkpoints" / "last.alens"
            until = time.monotonic() + 60
            while not checkpoint.exists() and time.monotonic() < until:
                time.sleep(0.05)
            attempt(["control", work, "pause", "1"], log=folder / "log2")
            time.sleep(1)
            filler = place / "filler"
            if kind == "full":
                with contextlib.suppress(OSError), filler.open("wb") as stream:
                    while True:
                        stream.write(bytes(1 << 16))
                        stream.flush()
            else:
                # A disk with open files cannot be made read-only; what is opened from now on is, on a mount above it.
                subprocess.run(["mount", "--bind", str(place), str(place)], check=True)
                subprocess.run(["mount", "-o", "remount,ro,bind", str(place)], check=True)
            for action in (["rate", "1", "--rate", "0.002"], ["continue", "1"], ["stop", "1"]):
                code, _ = attempt(["control", work, *action], log=folder / "log2")
                words = (folder / "log2").read_text("utf-8", errors="replace")
                if "Traceback" in words or "fault of the program" in words or code not in (0, 1):
                    faults.append(f"{kind}, {action[0]}: {words[-300:]}")
            # The word to pause may stand where it cannot be taken back: the process is told by a signal then.
            with contextlib.suppress(OSError):
                (place / "work" / "runs" / "0001" / "control").unlink()
            time.sleep(3)
            process.terminate()
            code = process.wait(60)
            words = log.read_text("utf-8", errors="replace")
            if "Traceback" in words or "fault of the program" in words or code not in (0, 1, 3):
                faults.append(f"{kind}: the run ended with {code}: {words[-300:]}")
            if kind == "read-only":
                subprocess.run(["umount", "-l", str(place)], check=True)
            subprocess.run(["mount", "-o", "remount,rw,size=128m", str(place)], check=True)
            filler.unlink(missing_ok=True)
            for rest in ("control", "rate"):
                (place / "work" / "runs" / "0001" / rest).unlink(missing_ok=True)
            code, _ = attempt(["train", work, "--resume", "1", "--json"], log=log)
            resumed = log.read_text("utf-8", errors="replace")
            rates = place / "work" / "runs" / "0001" / "rates.json"
            if code:
                faults.append(f"{kind}: it does not go on: {resumed[-300:]}")
            elif not rates.exists():
                attempt([long[0], work, *long[1:], "--json"], log=log)
                marks = [text.partition('"weights_sha256": "')[2][:64] for text in (resumed, log.read_text("utf-8"))]
                if marks[0] != marks[1]:
                    faults.append(f"{kind}: it came out different")
    return faults


def main() -> int:
    parser = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    parser.add_argument("--sizes", type=int, default=12)
    words = parser.parse_args()
    if os.geteuid():
        print("It mounts a file system, and only root may.")
        return 1
    with tempfile.TemporaryDirectory() as folder:
        given, refused, faults = attack(words.sizes, Path(folder))
        faults += steered(Path(folder))
    print(f"{given} commands, no room for {refused}: {len(faults)} went wrong")
    print("\n".join(faults[:12]))
    return 1 if faults else 0


if __name__ == "__main__":
    sys.exit(main())
