"""The page of promises names tests that are there, and all attacks."""

from __future__ import annotations

import re
import subprocess
import sys
from pathlib import Path

ROOT = Path(__file__).parents[2]
PAGE = (ROOT / "docs" / "reference" / "promises.md").read_text("utf-8")


def test_every_promise_names_tests_that_exist() -> None:
    rows = [line for line in PAGE.splitlines() if re.match(r"\| (?!promise|code|\d)", line)]
    stored = [row for row in rows if "---" not in row]
    assert len(stored) > 15
    for row in stored:
        files = re.findall(r"`([\w/]+\.py)`", row.split("|")[2])
        assert files, row
        for file in files:
            assert (ROOT / "tests" / file).exists() or (ROOT / file).exists(), file


def test_the_attacks_are_there_and_can_be_asked_what_they_do() -> None:
    attacks = sorted(p.stem for p in (ROOT / "benchmarks" / "attacks").glob("*.py"))
    assert attacks == ["commands", "controls", "disk", "graphs", "kills", "models", "plans", "sources"]
    commands = [[sys.executable, str(ROOT / "benchmarks" / "attacks" / f"{name}.py"), "--help"] for name in attacks]
    request = [subprocess.Popen(command, stdout=subprocess.PIPE, text=True) for command in commands]
    for name, each in zip(attacks, request, strict=True):
        out, _ = each.communicate(timeout=60)
        assert each.returncode == 0
        assert f"python benchmarks/attacks/{name}.py" in out
