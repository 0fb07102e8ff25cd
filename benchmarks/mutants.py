"""Small faults put into the program one at a time, drawn by lot: how many do the tests catch?

python benchmarks/mutants.py [--count 400] [--seed 0] [--jobs 2] [--rooms engine …] [--tests engine …] [--out FILE]

Rooms get faults in proportion to their lines. First all tests of the rooms that may use them are run once, noting which
test calls which function; then each fault is made in a copy of the project, and the tests that call the function it is
in are run, the quickest first, until one fails. What none of them catches is listed with its line, before and after.
"""

from __future__ import annotations

import argparse
import ast
import json
import os
import random
import shutil
import subprocess
import sys
import tempfile
import threading
import time
from collections import defaultdict
from collections.abc import Iterator
from concurrent.futures import ThreadPoolExecutor
from dataclasses import asdict, dataclass
from inspect import CO_OPTIMIZED
from pathlib import Path
from queue import Queue
from types import FrameType
from typing import Any

import pytest

ROOT = Path(__file__).parents[1]
ROOMS = ("engine", "scoring", "explaining", "training", "workspace", "images/faults", "predicting")
TESTS = ("core", "plan", "engine", "images", "formats", "predicting", "scoring", "explaining", "training", "workspace",
         "desk")  # fmt: skip
"""Folders of tests that may use these rooms."""
FIRST, ALL = 40.0, 150.0
"""Seconds of tests tried at once, and at most."""
PLACES = "functions.json"


class Noting:
    """Notes, while pytest runs, which test calls which function of the program, and how long each test takes."""

    def __init__(self) -> None:
        self.test = ""
        self.calls: dict[str, set[str]] = defaultdict(set)
        self.seconds: dict[str, float] = {}
        self.source = str(ROOT / "src" / "attentive_lens")

    def trace(self, frame: FrameType, event: str, value: Any) -> None:
        """For `sys.settrace`: calls of functions alone, no lines, and not what importing a file runs."""
        del event, value
        code = frame.f_code
        if code.co_filename.startswith(self.source) and code.co_flags & CO_OPTIMIZED:
            self.calls[f"{code.co_filename[len(self.source) + 1 :]}:{code.co_firstlineno}"].add(self.test)

    @pytest.hookimpl(hookwrapper=True)
    def pytest_runtest_protocol(self, item: pytest.Item) -> Iterator[None]:
        """Around each test, with what it sets up."""
        self.test, began = item.nodeid, time.monotonic()
        sys.settrace(self.trace)  # type: ignore[arg-type]
        threading.settrace(self.trace)  # type: ignore[arg-type]
        yield
        sys.settrace(None)
        threading.settrace(None)  # type: ignore[arg-type]
        self.seconds[item.nodeid] = time.monotonic() - began

    def write(self, file: Path) -> None:
        """For `Callers`."""
        calls = {place: sorted(tests) for place, tests in self.calls.items()}
        file.write_text(json.dumps({"calls": calls, "seconds": self.seconds}))


@dataclass(frozen=True)
class Mutant:
    """A fault: where, what stood there and what stands there now, and the first line of the function it is in."""

    file: str
    line: int
    before: str
    after: str
    function: int
    start: int
    end: int


COMPARED: dict[type[ast.cmpop], type[ast.cmpop]] = {
    ast.Lt: ast.LtE, ast.LtE: ast.Lt, ast.Gt: ast.GtE, ast.GtE: ast.Gt, ast.Eq: ast.NotEq, ast.NotEq: ast.Eq,
    ast.Is: ast.IsNot, ast.IsNot: ast.Is, ast.In: ast.NotIn, ast.NotIn: ast.In,
}  # fmt: skip
COMPUTED: dict[type[ast.operator], type[ast.operator]] = {
    ast.Add: ast.Sub, ast.Sub: ast.Add, ast.Mult: ast.Div, ast.Div: ast.Mult, ast.FloorDiv: ast.Mult,
    ast.Mod: ast.Mult, ast.Pow: ast.Mult, ast.BitAnd: ast.BitOr, ast.BitOr: ast.BitAnd, ast.MatMult: ast.Mult,
}  # fmt: skip
NAMED = {"min": "max", "max": "min", "any": "all", "all": "any", "minimum": "maximum", "maximum": "minimum",
         "argmax": "argmin", "argmin": "argmax", "floor": "ceil", "ceil": "floor"}  # fmt: skip


def changed(node: ast.AST) -> ast.AST | None:
    """The node with a fault; None where none is made."""
    match node:
        case ast.Compare(left, [operator], [right]) if type(operator) in COMPARED:
            return ast.Compare(left, [COMPARED[type(operator)]()], [right])
        case ast.BinOp(left, operator, right) if type(operator) in COMPUTED and not _is_text(left, right):
            return ast.BinOp(left, COMPUTED[type(operator)](), right)
        case ast.BoolOp(ast.And(), values):
            return ast.BoolOp(ast.Or(), values)
        case ast.BoolOp(ast.Or(), values):
            return ast.BoolOp(ast.And(), values)
        case ast.UnaryOp(ast.Not() | ast.USub(), operand):
            return operand
        case ast.Constant(bool(value)):
            return ast.Constant(not value)
        case ast.Constant(int(value)):
            return ast.Constant(value + 1)
        case ast.Constant(float(value)):
            return ast.Constant(value * 2 if value else 1.0)
        case ast.IfExp(test, body, other):
            return ast.IfExp(test, other, body)
        case ast.Call(ast.Name(name), arguments, keywords) if name in NAMED:
            return ast.Call(ast.Name(NAMED[name]), arguments, keywords)
        case ast.Call(ast.Attribute(value, name), arguments, keywords) if name in NAMED:
            return ast.Call(ast.Attribute(value, NAMED[name]), arguments, keywords)
        case ast.Break():
            return ast.Continue()
        case ast.Continue():
            return ast.Break()
        case ast.AugAssign() | ast.Expr(ast.Call()):
            return ast.Pass()
        case ast.Assign([ast.Attribute() | ast.Subscript()], _):
            return ast.Pass()
    return None


def _is_text(*nodes: ast.AST) -> bool:
    return any(isinstance(node, ast.JoinedStr | ast.List | ast.Tuple) or
               (isinstance(node, ast.Constant) and isinstance(node.value, str)) for node in nodes)  # fmt: skip


def mutants_of(file: Path, name: str) -> list[Mutant]:
    """All faults that can be made in the functions of a file."""
    text = file.read_text("utf-8")
    starts = [0]
    for line in text.splitlines(keepends=True):
        starts.append(starts[-1] + len(line.encode()))
    made: list[Mutant] = []

    def walk(node: ast.AST, function: int) -> None:
        if isinstance(node, ast.FunctionDef):
            function = min([node.lineno, *(decorator.lineno for decorator in node.decorator_list)])
            for part in node.body:
                walk(part, function)
            return
        if isinstance(node, ast.Raise | ast.JoinedStr | ast.Import | ast.ImportFrom | ast.Assert):
            return
        if isinstance(node, ast.Expr) and isinstance(node.value, ast.Constant):
            return
        other = changed(node) if function else None
        if other is not None and isinstance(node, ast.stmt | ast.expr):
            begin = starts[node.lineno - 1] + node.col_offset
            end = starts[(node.end_lineno or 1) - 1] + (node.end_col_offset or 0)
            after = ast.unparse(ast.fix_missing_locations(other))
            after = f"({after})" if isinstance(node, ast.expr) else after
            before = text.encode()[begin:end].decode()
            made.append(Mutant(name, node.lineno, before, after, function, begin, end))
        for field, value in ast.iter_fields(node):
            if field in ("annotation", "returns", "decorator_list"):
                continue
            for part in value if isinstance(value, list) else [value]:
                if isinstance(part, ast.AST):
                    walk(part, function)

    walk(ast.parse(text), 0)
    return made


def drawn(rooms: list[str], count: int, seed: int) -> list[Mutant]:
    """So many, shared out by the rooms' lines."""
    chance = random.Random(seed)
    source = ROOT / "src" / "attentive_lens"
    files = {room: sorted((source / room).rglob("*.py")) for room in rooms}
    lines = {room: sum(len(f.read_text("utf-8").splitlines()) for f in files[room]) for room in rooms}
    chosen: list[Mutant] = []
    for room in rooms:
        every = [mutant for file in files[room] for mutant in mutants_of(file, str(file.relative_to(source)))]
        share = round(count * lines[room] / sum(lines.values()))
        chosen += chance.sample(every, min(share, len(every)))
    chance.shuffle(chosen)  # so that those of a run that is stopped are drawn by lot as well
    return chosen


class Callers:
    """Which tests call a function, the quickest first."""

    def __init__(self, file: Path) -> None:
        noted = json.loads(file.read_text())
        self.seconds: dict[str, float] = noted["seconds"]
        self.calls: dict[str, list[str]] = noted["calls"]

    def of(self, mutant: Mutant) -> list[str]:
        """Of its function; of its file or its folder where it is called by compiled code alone, which is not seen."""
        near = [f"{mutant.file}:{mutant.function}", f"{mutant.file}:", f"{Path(mutant.file).parent}/"]
        if "numba" in (ROOT / "src" / "attentive_lens" / mutant.file).read_text("utf-8"):
            near = near[2:]  # a trace sees who had it compiled, not who calls it
        for begins in near:
            tests = {test for place in self.calls if place.startswith(begins) for test in self.calls[place]}
            if tests:
                return sorted(tests, key=lambda test: self.seconds.get(test, 1.0))
        return []


def copy_of_project(folder: Path) -> Path:
    """All that tests need."""
    ignored = shutil.ignore_patterns(".git", ".venv", "__pycache__", ".hypothesis", ".mypy_cache", ".ruff_cache")
    return Path(shutil.copytree(ROOT, folder, ignore=ignored))


def is_caught(mutant: Mutant, project: Path, tests: list[str], seconds: dict[str, float]) -> str:
    """The word for what became of it: caught, or survived."""
    file = project / "src" / "attentive_lens" / mutant.file
    whole = file.read_bytes()
    file.write_bytes(whole[: mutant.start] + mutant.after.encode() + whole[mutant.end :])
    environment = {**os.environ, "PYTHONPATH": str(project / "src"), "PYTHONDONTWRITEBYTECODE": "1"}
    try:
        done = 0
        for limit in (FIRST, ALL):
            spent, first = 0.0, done
            while done < len(tests) and spent < limit:
                spent += seconds.get(tests[done], 1.0)
                done += 1
            if first == done:
                continue
            words = [
                sys.executable,
                "-m",
                "pytest",
                "-x",
                "-q",
                "-n",
                "0",
                "-p",
                "no:cacheprovider",
                *tests[first:done],
            ]
            try:
                ended = subprocess.run(words, cwd=project, env=environment, capture_output=True, timeout=60 + 4 * spent)
            except subprocess.TimeoutExpired:
                return "caught"
            if ended.returncode != 0:
                return "caught"
    finally:
        file.write_bytes(whole)
    return "survived"


def main() -> None:
    """See the head of the file."""
    parser = argparse.ArgumentParser(description=__doc__.splitlines()[0])
    parser.add_argument("--count", type=int, default=400)
    parser.add_argument("--seed", type=int, default=0)
    parser.add_argument("--jobs", type=int, default=2)
    parser.add_argument("--rooms", nargs="+", default=list(ROOMS))
    parser.add_argument("--tests", nargs="+", default=list(TESTS), help="folders of tests")
    parser.add_argument("--notes", type=Path, help="what was noted before of which test calls which function")
    parser.add_argument("--out", type=Path, default=Path("mutants.json"))
    request = parser.parse_args()
    notes = request.notes or request.out.with_name(PLACES)
    if not notes.exists():
        noting = Noting()
        folders = [str(ROOT / "tests" / folder) for folder in request.tests]
        failed = pytest.main(["-q", "-n", "0", "-p", "no:cacheprovider", *folders], plugins=[noting])
        noting.write(notes)
        if failed:
            sys.exit(f"tests fail without any fault: mend them, or take them out of {notes}, and ask again")
    callers, chosen = Callers(notes), drawn(request.rooms, request.count, request.seed)
    result: list[dict[str, object]] = []
    with tempfile.TemporaryDirectory() as folder, ThreadPoolExecutor(request.jobs) as pool:
        free: Queue[Path] = Queue()
        for number in range(request.jobs):
            free.put(copy_of_project(Path(folder) / str(number)))

        def one(mutant: Mutant) -> None:
            project, tests = free.get(), callers.of(mutant)
            try:
                word = is_caught(mutant, project, tests, callers.seconds) if tests else "no test calls it"
            finally:
                free.put(project)
            result.append({"became": word, **asdict(mutant)})
            caught = sum(each["became"] == "caught" for each in result)
            change = f"{mutant.before!r:.60} → {mutant.after!r:.60}"
            print(f"{caught} of {len(result)}: {word}  {mutant.file}:{mutant.line}  {change}", flush=True)  # noqa: T201
            request.out.write_text(json.dumps(result, indent=1))

        list(pool.map(one, chosen))


if __name__ == "__main__":
    main()
