"""Commands misused at random: each ends with a documented exit code, one sentence, and JSON where it was asked for.

python benchmarks/attacks/commands.py [--count 300] [--seed 0]
"""

from __future__ import annotations

import argparse
import collections
import contextlib
import io
import json
import os
import random
import sys
import tempfile
from pathlib import Path

os.environ.setdefault("OPENBLAS_NUM_THREADS", "1")

from attentive_lens.__main__ import main as command
from attentive_lens.cli.entry import COMMANDS
from attentive_lens.core.jobs import finish
from attentive_lens.desk.making import make_demo
from attentive_lens.desk.training.executing import execute
from attentive_lens.explaining.saliency import METHODS
from attentive_lens.plan.plan import Plan
from attentive_lens.workspace import Workspace

OPTIONS = [
    *("--set", "--plan", "--out", "--on", "--method", "--for", "--change", "--layer", "--resume", "--read", "--fix"),
    *("--trust", "--smallest", "--new-classes", "--model", "--once", "--images", "--name", "--nothing", "-x"),
]
VALUES = [
    *(
        "training.epochs=1",
        "training.epochs=-1",
        "network={a=1}",
        "base.run=x",
        "augmentation=1.5",
        "=",
        "a=b=c",
        "1",
        "0",
    ),
    *("-1", "999999999999999999999", "two", "test", "tests", "relu 1", "relu 99", "turn degrees=inf", "cover", ""),
    *(" ", "../up", "/dev/null", "/dev/full", "spiny", "\x1b[31m", "\udcff", "'", '"', "[", "{}", "x" * 4000, "all"),
    *METHODS,
]
QUICK = ["--set", "training.epochs=1", "--set", "preprocessing.input_size=16", "--set", "network=two blocks"]


def station(folder: Path) -> Workspace:
    place = finish(make_demo(folder, 30, 1)).workspace
    plan = Plan().changed({"network": "two blocks", "preprocessing.input_size": 16, "training.epochs": 1})
    finish(execute(place, place.claim_run(plan), lambda: False))
    return place


RIGHT = [
    *("new NEW IMAGES", "rescan W", "source W IMAGES", "label W TABLE", "label W --out OUT", "faults W --fix leak"),
    *("plan new --out OUT --set seed=3", "plan check PLAN", "plan keys", "train W --plan PLAN", "watch W 1 --once"),
    *(
        "score W 1 --on test",
        "explain W 1 2 --method gradient --for spiny --out OUT",
        "explain --model M IMAGES --out OUT",
    ),
    *("causes W 1 --on training --out OUT", "layer W 1 CONV --images 9 --out OUT", "channel W 1 2 CONV 3"),
    *("neighbours W 1 2 --layer CONV --out OUT", "try W 1 2 --change CHANGE", "predict M IMAGES"),
]
"""Commands that work, in which one word is changed."""


def nearly_right(rng: random.Random, place: Workspace, spare: Path) -> list[str]:
    """A command of which one or two words are wrong, or that is right."""
    known = {"W": str(place.folder), "M": str(place.run(1).model), "IMAGES": str(place.folder / "images"),
             "TABLE": str(spare / "l.csv"), "PLAN": str(spare / "plan.toml"), "CONV": "convolution 1",
             "CHANGE": "cover row=0.5 column=0.5 side=0.5", "OUT": str(spare / f"out{rng.randrange(9)}"),
             "NEW": str(spare / f"new{rng.randrange(10**6)}")}  # fmt: skip
    words = [known.get(word, word) for word in rng.choice(RIGHT).split()]
    for _ in range(rng.choice([0, 1, 1, 2])):
        words[rng.randrange(1, len(words))] = rng.choice([*VALUES, *known.values()])
    return [*words, *(QUICK if words[0] == "train" else []), "--json"]


def misused(rng: random.Random, place: Workspace, spare: Path) -> list[str]:
    """The words of a command that nobody should give."""
    if rng.random() < 0.75:
        return nearly_right(rng, place, spare)
    name = rng.choice([c for c in COMMANDS if c not in ("measure", "demo")])
    words = [name]
    places = [
        str(place.folder),
        str(place.run(1).model),
        str(spare / "l.csv"),
        str(spare),
        str(place.folder / "images"),
    ]
    for _ in range(rng.randrange(5)):
        words.append(rng.choice([*places, "1", "2", "new", "keys", "check", *VALUES]))
    if rng.random() < 0.6:
        words[1:1] = [str(place.folder)]
    for _ in range(rng.randrange(3)):
        words.append(rng.choice(OPTIONS))
        if rng.random() < 0.8:
            words.append(rng.choice([*VALUES, *places]))
    if name == "train":
        words += QUICK
    return [*words, "--json"]


def attack(count: int, seed: int, folder: Path) -> tuple[collections.Counter[int], list[str]]:
    """Exit codes, and what must not be."""
    rng = random.Random(seed)
    codes: collections.Counter[int] = collections.Counter()
    faults = []
    place, spare = station(folder / "p"), folder / "spare"
    spare.mkdir()
    (spare / "l.csv").write_text("image,label\n1,spiny\n2,winged\n")
    (spare / "plan.toml").write_text("network = 'two blocks'\n")
    before = Path.cwd()
    os.chdir(spare)
    try:
        for _ in range(count):
            words = misused(rng, place, spare)
            out, err = io.StringIO(), io.StringIO()
            sys.argv = ["attentive-lens", *words]
            result = " ".join(words)[:200].encode("ascii", "backslashreplace").decode()
            try:
                with contextlib.redirect_stdout(out), contextlib.redirect_stderr(err):
                    code = command()
            except BaseException as error:  # noqa: BLE001
                faults.append(f"{result}: {type(error).__name__}: {error}")
                continue
            codes[code] += 1
            lines = out.getvalue().splitlines()
            try:
                objects = [json.loads(line, parse_constant=lambda word: 1 / 0) for line in lines]
            except (ValueError, ZeroDivisionError):
                faults.append(f"{result}: no JSON: {out.getvalue()[:200]}")
                continue
            if code not in (0, 1, 2, 3) or "Traceback" in err.getvalue() or (code in (1, 2) and not objects):
                faults.append(f"{result}: {code} {err.getvalue()[:300]}")
            last = objects[-1].get("error") if objects else None
            if isinstance(last, dict) and last["what"] == "The program has a fault":
                faults.append(f"{result}: {last['why'][:200]}")
    finally:
        os.chdir(before)
    return codes, faults


def main() -> int:
    parser = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    parser.add_argument("--count", type=int, default=300)
    parser.add_argument("--seed", type=int, default=0)
    words = parser.parse_args()
    with tempfile.TemporaryDirectory() as folder:
        codes, faults = attack(words.count, words.seed, Path(folder))
    print(f"{words.count} commands, exit codes {dict(sorted(codes.items()))}: {len(faults)} went wrong")
    print("\n".join(faults[:30]))
    return 1 if faults else 0


if __name__ == "__main__":
    sys.exit(main())
