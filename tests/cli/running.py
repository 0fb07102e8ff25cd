"""What the tests of the command line share: running a command, its schema, drawn leaves."""

from __future__ import annotations

import contextlib
import functools
import io
import json
import sys
import unittest.mock
from collections.abc import Callable
from pathlib import Path

import fastjsonschema
import numpy as np
import pytest
from PIL import Image, ImageDraw

from attentive_lens.__main__ import main

TINY = ["--set", "network=two blocks", "--set", "preprocessing.input_size=24", "--set", "training.epochs=2"]


SCHEMA = json.loads((Path(__file__).parents[2] / "docs" / "reference" / "json-schema.json").read_text("utf-8"))


def command(*words: object, code: int = 0) -> str:
    """What a command prints; run in this process, as its own starts with two seconds of imports."""
    out, err = io.StringIO(), io.StringIO()
    with contextlib.redirect_stdout(out), contextlib.redirect_stderr(err):
        ended = run_words(*words)
    assert ended == code, out.getvalue() + err.getvalue()
    if "--json" in words:
        follow_the_schema(words, out.getvalue(), code)
    return out.getvalue()


def run_words(*words: object) -> int:
    with unittest.mock.patch.object(sys, "argv", ["attentive-lens", *map(str, words)]):
        return main()


def follow_the_schema(words: tuple[object, ...], text: str, code: int) -> None:
    """Every line is an object as the schema says, the last one of a command that failed being the error."""
    name = f"plan {words[1]}" if words[0] == "plan" else str(words[0])
    lines = text.splitlines()
    assert lines
    for number, line in enumerate(lines, 1):
        kind = "error" if code and number == len(lines) else name
        check_of(kind)(json.loads(line, parse_constant=lambda word: pytest.fail(f"{word} is not JSON")))


@functools.cache
def check_of(kind: str) -> Callable[[object], object]:
    """Refuses what is not as docs/reference/json-schema.json says."""
    check: Callable[[object], object] = fastjsonschema.compile({"$defs": SCHEMA["$defs"], "$ref": f"#/$defs/{kind}"})
    return check


def last_object(text: str) -> dict:  # type: ignore[type-arg]
    return json.loads(text.strip().splitlines()[-1])


def leaves(root: Path) -> Path:
    """Drawn leaves, round or long: other sizes, modes and shapes than the demo's."""
    random = np.random.default_rng(1)
    for name, squeeze in (("round leaf", 1.0), ("a long leaf with quite a long name to it", 0.35)):
        (root / name).mkdir(parents=True)
        for k in range(14):
            width, height = (int(n) for n in random.integers(40, 90, 2))
            picture = Image.new("RGB", (width, height), tuple(int(n) for n in random.integers(180, 250, 3)))
            half = min(width, height) * 0.4
            box = (width / 2 - half, height / 2 - half * squeeze, width / 2 + half, height / 2 + half * squeeze)
            ImageDraw.Draw(picture).ellipse(box, fill=(30, int(random.integers(90, 150)), 40))
            if k % 5 == 0:
                picture = picture.convert(("L", "P", "RGBA")[k // 5])
            picture.save(root / name / f"leaf {k}.png")
    return root
