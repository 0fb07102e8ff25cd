"""Loops are compiled once, beforehand, by whoever is free; what was changed since is compiled again."""

from __future__ import annotations

import fcntl
import os
import subprocess
import sys
from collections.abc import Callable
from pathlib import Path

import pytest

from attentive_lens.core.jobs import Progress, finish
from attentive_lens.desk import compiling

SESSION = """
import sys
from pathlib import Path
from numba.core.dispatcher import Dispatcher
from attentive_lens.core.jobs import finish
from attentive_lens.desk.compiling import compiled, is_needed, progress
from attentive_lens.desk.making import make_demo
from attentive_lens.desk.requests.explaining import Explain
from attentive_lens.desk.requests.mapping import MapData
from attentive_lens.desk.requests.subjects import RunImage
from attentive_lens.desk.tasks import carry_out
from attentive_lens.desk.training.executing import execute
from attentive_lens.plan.plan import Plan
from attentive_lens.plan.starters import STARTERS

cache, place = Path(sys.argv[1]), Path(sys.argv[2])
finish(compiled())
assert not is_needed(), progress()
loops = [
    thing
    for name, module in list(sys.modules.items())
    for thing in vars(module).values()
    if name.startswith("attentive_lens.") and isinstance(thing, Dispatcher) and thing._cache.cache_path
]
left = sorted({loop.__name__ for loop in loops if not loop.overloads})
assert len(loops) > 10 and not left, left
before = {file.relative_to(cache): file.stat().st_mtime_ns for file in cache.rglob("*.nb*")}
assert before
workspace = finish(make_demo(place, 24, 0)).workspace
for name in STARTERS:
    plan = Plan().changed({"network": name, "training.epochs": 1, "training.threads": 2, "training.batch_size": 8})
    run = workspace.claim_run(plan)
    finish(execute(workspace, run, lambda: False))
    if run.number == 1:
        finish(carry_out(Explain(RunImage(str(place), 1, 1))))
        finish(carry_out(MapData(str(place), 1)))
after = {file.relative_to(cache): file.stat().st_mtime_ns for file in cache.rglob("*.nb*")}
assert after == before, [str(file) for file in after if after[file] != before.get(file)]
"""


@pytest.fixture
def done(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> list[str]:
    """Steps that were gone through, which compile nothing here."""
    names: list[str] = []

    def step(name: str) -> Callable[[], None]:
        return lambda: names.append(name)

    monkeypatch.setenv("NUMBA_CACHE_DIR", str(tmp_path / "kernels"))
    monkeypatch.setattr(compiling, "STEPS", {name: step(name) for name in ("one", "two", "three")})
    return names


def test_a_first_session_compiles_nothing_once_all_steps_are_done(tmp_path: Path) -> None:
    cache = tmp_path / "kernels"
    words = [sys.executable, "-c", SESSION, str(cache), str(tmp_path / "station")]
    ended = subprocess.run(
        words, env={**os.environ, "NUMBA_CACHE_DIR": str(cache)}, capture_output=True, text=True, timeout=300
    )
    assert ended.returncode == 0, ended.stderr[-2000:]


def test_all_is_done_once_in_order_and_said(done: list[str], monkeypatch: pytest.MonkeyPatch) -> None:
    assert compiling.is_needed()
    said = [step for step in compiling.compiled() if isinstance(step, Progress)]
    assert [(step.done, step.total) for step in said] == [(0, 3), (1, 3), (2, 3)]
    assert {step.doing for step in said} == {compiling.DOING}
    assert done == ["one", "two", "three"]
    assert not compiling.is_needed()
    assert list(compiling.compiled()) == []
    monkeypatch.setattr(sys, "version", "another interpreter")
    compiling._key.cache_clear()
    assert compiling.is_needed()
    monkeypatch.undo()
    compiling._key.cache_clear()


def test_changed_loops_are_compiled_again(done: list[str], tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    package = tmp_path / "attentive_lens"
    loops = package / "engine" / "kernels" / "loops.py"
    loops.parent.mkdir(parents=True)
    loops.write_text("x = 1\n")
    monkeypatch.setattr("attentive_lens.__file__", str(package / "__init__.py"))
    finish(compiling.compiled())
    assert not compiling.is_needed()
    loops.write_text("x = 12\n")
    compiling._key.cache_clear()
    assert compiling.is_needed()


def test_what_another_process_is_at_is_waited_for_and_the_rest_done(
    done: list[str], monkeypatch: pytest.MonkeyPatch
) -> None:
    folder = compiling._folder()
    folder.mkdir(parents=True)
    with (folder / "two.lock").open("w") as lock:
        fcntl.flock(lock, fcntl.LOCK_EX)
        job = compiling.compiled()
        steps = [next(job) for _ in range(7)]
        assert done == ["one", "three"]
        assert steps[-1].done == 2
        (folder / "two").touch()  # the other ends
        with pytest.raises(StopIteration):
            while True:
                next(job)
    assert done == ["one", "three"]
    (folder / "two").unlink()
    finish(compiling.compiled())
    assert done == ["one", "three", "two"], "one that ended without it leaves it to others"


def test_what_cannot_be_written_is_left_to_be_done_and_stops_nobody(
    done: list[str], monkeypatch: pytest.MonkeyPatch
) -> None:
    def fail() -> None:
        raise OSError("no room")

    monkeypatch.setitem(compiling.STEPS, "two", fail)
    finish(compiling.compiled())
    assert done == ["one"]
    assert compiling.progress() == (1, 3)


def test_a_process_of_its_own_is_begun_only_where_it_is_needed(
    done: list[str], monkeypatch: pytest.MonkeyPatch
) -> None:
    begun: list[list[str]] = []
    monkeypatch.setattr(subprocess, "Popen", lambda words, **_: begun.append(words))
    compiling.begin()
    assert begun[0][1:] == ["-m", "attentive_lens.desk.compiling"]
    finish(compiling.compiled())
    assert compiling.begin() is None
    assert len(begun) == 1
