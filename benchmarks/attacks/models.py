"""Hostile model files: every one is refused in a sentence, soon, and within the memory that opening may cost.

python benchmarks/attacks/models.py [--count 1000] [--seed 0] [--starter NAME]
"""

from __future__ import annotations

import argparse
import collections
import io
import json
import random
import struct
import subprocess
import sys
import tempfile
import time
import warnings
import zipfile
from collections.abc import Callable
from pathlib import Path
from typing import Any

import numpy as np
from safetensors.numpy import save

from attentive_lens.engine.network import Network, fingerprint
from attentive_lens.errors import LensError
from attentive_lens.formats.bundle import ModelFile
from attentive_lens.formats.reading import read_model
from attentive_lens.images.preprocessing import Preprocessor
from attentive_lens.plan.encoders import ENCODERS
from attentive_lens.plan.preprocessing import Preprocessing
from attentive_lens.plan.starters import STARTERS
from attentive_lens.plan.tasks import IMAGES

Parts = dict[str, bytes]


def good(file: Path, starter: str = "two blocks") -> Path:
    preprocessing = Preprocessing(input_size=32)
    beginning = ENCODERS[starter].network_for(32) if starter in ENCODERS else STARTERS[starter].network
    network = Network.start(beginning.with_outputs(3), preprocessing.shape, 4)
    preprocessor = Preprocessor(preprocessing, (0.1, 0.2, 0.3), (0.5, 0.6, 0.7))
    output = IMAGES if network.plan.draws else "softmax"
    ModelFile(network.plan, network.weights, preprocessor, ("a", "b", "c"), output, card={"run": 3}).write(file)
    return file


def parts_of(file: Path) -> Parts:
    with zipfile.ZipFile(file) as archive:
        return {name: archive.read(name) for name in archive.namelist()}


def packed(parts: Parts, how: int = zipfile.ZIP_STORED, twice: str = "") -> bytes:
    out = io.BytesIO()
    with warnings.catch_warnings(), zipfile.ZipFile(out, "w", how) as archive:
        warnings.simplefilter("ignore")
        for name, data in parts.items():
            archive.writestr(name, data)
        if twice:
            archive.writestr(twice, parts[twice])
    return out.getvalue()


def with_json(parts: Parts, name: str, change: Callable[[Any], Any]) -> Parts:
    table = json.loads(parts[name])
    return {**parts, name: json.dumps(change(table)).encode()}


def with_weights(parts: Parts, change: Callable[[dict[str, Any]], Any]) -> Parts:
    from safetensors.numpy import load

    arrays = load(parts["weights.safetensors"])
    change(arrays)
    return {**parts, "weights.safetensors": save(arrays)}


def node(k: int, **changes: Any) -> Callable[[Any], Any]:
    def change(table: Any) -> Any:
        table["nodes"][k].update(changes)
        return table

    return change


def first(name: str, make: Callable[[np.ndarray], np.ndarray]) -> Callable[[dict[str, Any]], None]:
    def change(arrays: dict[str, Any]) -> None:
        arrays[name] = make(arrays[name])

    return change


def spoilt(value: float) -> Callable[[np.ndarray], np.ndarray]:
    def make(array: np.ndarray) -> np.ndarray:
        out = array.copy()
        out.reshape(-1)[0] = value
        return out

    return make


KERNEL = "convolution 1/kernel"


def forged(parts: Parts) -> dict[str, bytes]:
    """By what is wrong with it."""
    giant = with_json(parts, "preprocessing.json", lambda t: {**t, "input_size": 1024})
    deep = b"[" * 3000 + b"]" * 3000
    more = {"output": "softmax", "kernels": {}}
    wide = {"format": 1, **more, "nodes": [{"layer": "relu"}] * 50_000 + [{"layer": "output"}]}
    large = {"layer": "fully connected", "units": 65_536}
    dense = {"format": 1, **more, "nodes": [{"layer": "flatten"}, large, large, {"layer": "output", "units": 3}]}
    nested = json.loads("[" * 900 + "]" * 900)
    infinite = parts["preprocessing.json"].replace(b"0.1,", b"1e999,")
    weights = parts["weights.safetensors"]
    lying = struct.pack("<Q", 1 << 60) + weights[8:]
    many = json.dumps({f"a{k}": {"dtype": "F32", "shape": [0], "data_offsets": [0, 0]} for k in range(60_000)}).encode()
    return {
        "a member twice": packed(parts, twice="card.json"),
        "an unknown member": packed({**parts, "run.py": b"print()"}),
        "a path out of it": packed({**parts, "../x": b""}),
        "packed by bzip2": packed(parts, zipfile.ZIP_BZIP2),
        "packed by lzma": packed(parts, zipfile.ZIP_LZMA),
        **{f"without {name}": packed({k: v for k, v in parts.items() if k != name}) for name in parts},
        "a bomb of a card": packed({**parts, "card.json": b" " * (200 << 20)}, zipfile.ZIP_DEFLATED),
        "a bomb of weights": packed({**parts, "weights.safetensors": weights + bytes(300 << 20)}, zipfile.ZIP_DEFLATED),
        "deep JSON": packed({**parts, "card.json": deep}),
        "deep nodes": packed(with_json(parts, "network.json", lambda t: {**t, "nodes": nested})),
        "lists without end": packed({**parts, "classes.json": b"[" + b"[]," * 600_000 + b"[]]"}),
        "a long number": packed({**parts, "card.json": b'{"a": ' + b"9" * 6000 + b"}"}),
        "NaN in JSON": packed({**parts, "card.json": b'{"a": NaN}'}),
        "not text": packed({**parts, "classes.json": b"\xff\xfe"}),
        "a list for a table": packed({**parts, "card.json": b"[]"}),
        "many layers": packed({**parts, "network.json": json.dumps(wide).encode()}),
        "weights of 40 GB": packed({**parts, "network.json": json.dumps(dense).encode()}),
        "giant maps": packed(with_json(giant, "network.json", node(0, filters=4096))),
        "a layer called ..": packed(with_json(parts, "network.json", node(0, name=".."))),
        "a layer with a slash": packed(with_json(parts, "network.json", node(0, name="a/../../b"))),
        "a layer with an escape": packed(with_json(parts, "network.json", node(0, name="\x1b[2J"))),
        "a circle": packed(with_json(parts, "network.json", node(0, after="relu 2"))),
        "no classes": packed({**parts, "classes.json": b"[]"}),
        "a class twice": packed({**parts, "classes.json": b'["a", "a", "b"]'}),
        "an empty class": packed({**parts, "classes.json": b'["a", " ", "b"]'}),
        "an escape for a class": packed({**parts, "classes.json": b'["a", "\\u001b[31m", "b"]'}),
        "a number for a class": packed({**parts, "classes.json": b'["a", 3, "b"]'}),
        "too few classes": packed({**parts, "classes.json": b'["a", "b"]'}),
        "a standard deviation of zero": packed(with_json(parts, "preprocessing.json",
                                              lambda t: {**t, "mean": [0, 0, 0], "std": [1, 0, 1]})),
        "a mean of texts": packed(with_json(parts, "preprocessing.json",
                                            lambda t: {**t, "mean": ["0"] * 3, "std": [1] * 3})),
        "an infinite mean": packed({**parts, "preprocessing.json": infinite}),
        "no mean": packed(with_json(parts, "preprocessing.json", lambda t: t.pop("mean") and t)),
        "an unknown output function": packed(with_json(parts, "network.json", lambda t: {**t, "output": "guess"})),
        "an output of other scores": packed(with_json(parts, "network.json", lambda t: {**t, "output": "one sigmoid"})),
        "kernels of no layer": packed(with_json(parts, "network.json", lambda t: {**t, "kernels": {"x": "tiles"}})),
        "half precision": packed(with_weights(parts, first(KERNEL, lambda a: a.astype(np.float16)))),
        "two precisions": packed(with_weights(parts, first(KERNEL, lambda a: a.astype(np.float64)))),
        "whole numbers": packed(with_weights(parts, first(KERNEL, lambda a: a.astype(np.int32)))),
        "NaN in weights": packed(with_weights(parts, first(KERNEL, spoilt(np.nan)))),
        "infinity in weights": packed(with_weights(parts, first(KERNEL, spoilt(np.inf)))),
        "another shape": packed(with_weights(parts, first(KERNEL, lambda a: a[:, :2].copy()))),
        "an array too many": packed(with_weights(parts, lambda a: a.update({"x/y": np.zeros(1, np.float32)}))),
        "an array too few": packed(with_weights(parts, lambda a: a.pop(KERNEL))),
        "a lying header": packed({**parts, "weights.safetensors": lying}),
        "arrays without end": packed({**parts, "weights.safetensors": struct.pack("<Q", len(many)) + many}),
        "nothing": b"",
        "a text": b"not a model",
        "only an end": b"PK\x05\x06" + bytes(18),
    }  # fmt: skip


def damaged(whole: bytes, rng: random.Random) -> bytes:
    """Bytes changed, cut off or put in."""
    data = bytearray(whole)
    what = rng.randrange(4)
    if what == 0:
        return bytes(data[: rng.randrange(len(data))])
    if what == 1:
        for _ in range(rng.choice([1, 3, 40])):
            data[rng.randrange(len(data))] = rng.randrange(256)
    elif what == 2:
        at = rng.randrange(len(data))
        data[at:at] = bytes(rng.randrange(256) for _ in range(rng.choice([1, 100])))
    else:
        at = rng.randrange(max(1, len(data) - 400), len(data))
        data[at] = rng.randrange(256)
    return bytes(data)


def cases(count: int, seed: int, folder: Path, starter: str = "two blocks") -> Path:
    """Hostile files, by what is wrong with them, and ``good.alens``; the folder."""
    rng = random.Random(seed)
    base = good(folder / "good.alens", starter)
    whole = base.read_bytes()
    made = forged(parts_of(base))
    if starter in ENCODERS:  # whose drawings go by no class
        made.pop("too few classes")
    for number in range(max(0, count - len(made))):
        made[f"damaged {number}"] = damaged(whole, rng)
    for name, data in made.items():
        (folder / f"{name.replace('/', ' ')}.hostile").write_bytes(data)
    return folder


def highest(anew: bool = False) -> float:
    """The most memory this process held, in MB; anew: since now."""
    if anew:
        Path("/proc/self/clear_refs").write_text("5")
    (line,) = (own for own in Path("/proc/self/status").read_text().splitlines() if own.startswith("VmHWM"))
    return int(line.split()[1]) / 1024


def opened(folder: Path) -> dict[str, Any]:
    """How opening them went, the longest time in seconds, and what must not be; this process does nothing else."""
    base = read_model(folder / "good.alens")
    result: collections.Counter[str] = collections.Counter()
    longest, faults, greedy = 0.0, [], 0.0
    for file in sorted(folder.glob("*.hostile")):
        before = highest(anew=True)
        began = time.perf_counter()
        try:
            model = read_model(file)
        except LensError as error:
            result["refused"] += 1
            if not str(error).isprintable() or len(str(error)) > 600:
                faults.append(f"{file.stem}: no plain sentence: {error!r:.300}")
        except Exception as error:  # noqa: BLE001
            result["faults"] += 1
            faults.append(f"{file.stem}: {type(error).__name__}: {error}")
        else:
            result["taken"] += 1
            if fingerprint(model.weights) != fingerprint(base.weights) or model.classes != base.classes:
                faults.append(f"{file.stem}: taken")
        longest = max(longest, time.perf_counter() - began)
        grown = highest() - before
        allowed = 3 * file.stat().st_size / 2**20 + 64
        greedy = max(greedy, grown / allowed)
    return {"found": dict(result), "longest": longest, "memory": greedy, "faults": faults}


def main() -> int:
    parser = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    parser.add_argument("--count", type=int, default=1000)
    parser.add_argument("--seed", type=int, default=0)
    parser.add_argument("--starter", default="two blocks")
    parser.add_argument("--open", type=Path, help="only open what stands in this folder")
    words = parser.parse_args()
    if words.open is not None:
        print(json.dumps(opened(words.open)))
        return 0
    with tempfile.TemporaryDirectory() as folder:
        cases(words.count, words.seed, Path(folder), words.starter)
        command = [sys.executable, __file__, "--open", folder]
        summary = json.loads(subprocess.run(command, capture_output=True, text=True, check=True).stdout)
    print(f"{sum(summary['found'].values())} files: {summary['found']}, the longest {summary['longest']:.2f} s,"
          f" memory at most {summary['memory']:.2f} of what opening may cost")  # fmt: skip
    print("\n".join(summary["faults"][:30]))
    return 1 if summary["faults"] or summary["longest"] > 5 or summary["memory"] > 1 else 0


if __name__ == "__main__":
    sys.exit(main())
