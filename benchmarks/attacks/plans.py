"""Plans changed at random: every one is either taken or refused in a sentence, within a second.

python benchmarks/attacks/plans.py [--count 20000] [--seed 0]
"""

from __future__ import annotations

import argparse
import collections
import copy
import random
import sys
import time
import tomllib
from pathlib import Path
from typing import Any

import tomlkit

from attentive_lens.desk.network.design import facts_of
from attentive_lens.errors import LensError
from attentive_lens.plan.blocks import BLOCKS
from attentive_lens.plan.layers import LAYERS
from attentive_lens.plan.plan import Plan
from attentive_lens.plan.starters import STARTERS
from attentive_lens.workspace.plan_files import read_plan

ODD: list[Any] = [
    *(None, True, False, 0, -1, 1, 2**31, 2**63, -(2**64), 10**400, 1.5, -0.0, float("inf"), float("nan"), 1e308),
    *("", " ", "image", "three blocks", "a/b", "..", "\x1b[31m", "\0", "x" * 5000, "‮", "residual", "output"),
    *([], [[]], {}, [{}], {"a": 1}, ["image"], ["image", "image"], [1, 2], [None], list(range(500))),
]


def nested(depth: int) -> Any:
    value: Any = 1
    for level in range(depth):
        value = [value] if level % 2 else {"a": value}
    return value


def starts() -> list[dict[str, Any]]:
    plans = [Plan().changed({"network": name}).write() for name in STARTERS]
    every = copy.deepcopy(plans[0])
    every["network"] = [{"layer": kind, **LAYERS[kind]().write()} for kind in LAYERS]
    blocks = copy.deepcopy(plans[0])
    blocks["network"] = [{"layer": "convolution"}, *({"block": kind} for kind in BLOCKS), {"layer": "output"}]
    return [*plans, every, blocks]


def mutated(table: Any, rng: random.Random) -> Any:
    """One thing changed, somewhere."""
    places: list[tuple[Any, Any]] = []

    def walk(value: Any) -> None:
        pairs = value.items() if isinstance(value, dict) else enumerate(value) if isinstance(value, list) else ()
        for key, inner in pairs:
            places.append((value, key))
            walk(inner)

    walk(table)
    holder, key = rng.choice(places)
    what = rng.randrange(8)
    if what == 0:
        del holder[key]
    elif what == 1 and isinstance(holder, dict):
        holder[rng.choice(["", "x", str(key) + "s", "after", "layer", "block", "name", "pad"])] = holder.pop(key)
    elif what == 2 and isinstance(holder, list):
        holder.insert(rng.randrange(len(holder) + 1), copy.deepcopy(holder[key]))
    elif what == 3 and isinstance(holder, list):
        rng.shuffle(holder)
    elif what == 4:
        other = rng.choice(places)
        holder[key] = copy.deepcopy(other[0][other[1]])
    elif what == 5:
        holder[key] = nested(rng.choice([3, 40, 400]))
    elif what == 6 and isinstance(holder[key], int | float) and not isinstance(holder[key], bool):
        holder[key] = holder[key] * rng.choice([-1, 0, 10, 1000, 0.5, 10**9])
    else:
        holder[key] = copy.deepcopy(rng.choice(ODD))
    return table


def attack(count: int, seed: int) -> tuple[collections.Counter[str], float, list[str]]:
    """How it went, the longest time, and what must not be."""
    rng = random.Random(seed)
    bases = starts()
    result: collections.Counter[str] = collections.Counter()
    longest, faults = 0.0, []
    for number in range(count):
        table = copy.deepcopy(rng.choice(bases))
        for _ in range(rng.choice([1, 1, 1, 2, 5])):
            if table:
                mutated(table, rng)
        began = time.perf_counter()
        try:
            facts_of(Plan.read(table), 6)
            result["taken"] += 1
        except LensError:
            result["refused"] += 1
        except Exception as error:  # noqa: BLE001
            result["faults"] += 1
            faults.append(f"plan {number}: {type(error).__name__}: {error}")
        longest = max(longest, time.perf_counter() - began)
    return result, longest, faults


FILES = {
    "digits": "seed = " + "9" * 5000,
    "deep": "name = " + "[" * 5000,
    "deep keys": ".".join(["a"] * 3000) + " = 1",
    "not text": b"\xff\xfe\x00",
    "empty": "",
    "many layers": "\n".join('[[network]]\nlayer = "relu"' for _ in range(20_000)) + '\n[[network]]\nlayer = "output"',
    "large": "# " + "x" * (5 << 20),
}


def attack_files(folder: Path) -> tuple[float, list[str]]:
    """Plan files that are no plans."""
    longest, faults = 0.0, []
    for name, content in FILES.items():
        file = folder / "plan.toml"
        file.write_bytes(content if isinstance(content, bytes) else str(content).encode())
        began = time.perf_counter()
        try:
            read_plan(file)
            faults.append(f"{name}: taken")
        except LensError:
            pass
        except Exception as error:  # noqa: BLE001
            faults.append(f"{name}: {type(error).__name__}: {error}")
        longest = max(longest, time.perf_counter() - began)
    whole = folder / "whole.toml"
    whole.write_text(tomlkit.dumps(Plan().write()), "utf-8")
    tomllib.loads(whole.read_text("utf-8"))
    return longest, faults


def main() -> int:
    parser = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    parser.add_argument("--count", type=int, default=20_000)
    parser.add_argument("--seed", type=int, default=0)
    words = parser.parse_args()
    result, longest, faults = attack(words.count, words.seed)
    print(f"{words.count} plans: {dict(result)}, the longest {longest:.2f} s")
    print("\n".join(faults[:20]))
    return 1 if faults or longest > 1 else 0


if __name__ == "__main__":
    sys.exit(main())
