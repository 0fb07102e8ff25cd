"""A few of the kills of the benchmark: at instants spread over each command."""

from __future__ import annotations

import subprocess
import sys
from pathlib import Path

import pytest

ATTACKS = Path(__file__).parents[2] / "benchmarks" / "attacks"


@pytest.mark.parametrize(("name", "every"), [("new", 23), ("label", 9), ("rescan", 7), ("train", 53)])
def test_a_command_killed_here_and_there_is_completed_by_asking_again(name: str, every: int) -> None:
    code = f"import kills; found = kills.attack({name!r}, 1, 3, {every}); print(found); assert not found[2]"
    done = subprocess.run([sys.executable, "-c", code], capture_output=True, text=True, timeout=100, cwd=ATTACKS)
    assert done.returncode == 0, done.stdout[-2000:] + done.stderr[-2000:]
    assert int(done.stdout[1:].split(",")[0]) >= 4
