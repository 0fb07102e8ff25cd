"""The list of all commands says what they say of themselves, and neither it nor the version loads them."""

from __future__ import annotations

import contextlib
import io
import os
import subprocess
import sys

import pytest
from tests.cli.running import command

from attentive_lens.cli.entry import COMMANDS, PROGRAM, with_commands
from attentive_lens.core.version import VERSION


def test_the_list_of_commands_is_that_of_the_commands_themselves() -> None:
    whole = io.StringIO()
    with contextlib.redirect_stdout(whole):
        with_commands()(["--help"], standalone_mode=False, prog_name=PROGRAM)
    shown = command("--help").splitlines()
    assert sorted(shown) == sorted(whole.getvalue().splitlines())
    listed = [line.split()[0] for line in shown[shown.index("Commands:") + 1 :] if line.strip()]
    assert listed == list(COMMANDS), "in their own order"
    assert command("--version") == f"{VERSION}\n"


@pytest.mark.parametrize(("word", "heavy"), [("--version", ("typer", "numpy", "rich")), ("--help", ("numpy", "rich"))])
def test_what_only_tells_of_the_program_loads_nothing_else(word: str, heavy: tuple[str, ...]) -> None:
    code = f"""
import sys
sys.argv = ["attentive-lens", "{word}"]
from attentive_lens.__main__ import main
code = main()
assert code == 0
loaded = [name for name in {heavy!r} if name in sys.modules]
loaded += [name for name in sys.modules if name.startswith("attentive_lens.desk.") and "log" not in name]
assert not loaded, loaded
"""
    done = subprocess.run([sys.executable, "-c", code], capture_output=True, text=True, timeout=60)
    assert done.returncode == 0, done.stderr


def test_no_command_loads_arithmetic_or_the_table_of_all_results_before_it_works() -> None:
    code = """
import sys
from attentive_lens.cli.entry import with_commands
with_commands()
heavy = ("numba", "scipy", "attentive_lens.engine", "attentive_lens.cli.schemas", "attentive_lens.training.trainer")
loaded = [name for name in heavy if name in sys.modules]
assert not loaded, loaded
"""
    done = subprocess.run([sys.executable, "-c", code], capture_output=True, text=True, timeout=60)
    assert done.returncode == 0, done.stderr


def test_the_process_of_a_command_ends_with_its_code_and_says_all_it_has_to() -> None:
    code = """
import atexit, sys
from attentive_lens import __main__ as program
real = program.main
def main():
    atexit.register(lambda: sys.stdout.write("tidied up"))
    return real()
program.main = main
program.run()
"""
    environment = {name: value for name, value in os.environ.items() if name != "PYTHONUNBUFFERED"}
    for words, expected in ((["--version"], 0), (["score", "nowhere", "1"], 1), (["no-command"], 2)):
        started = [sys.executable, "-c", code, *words]
        done = subprocess.run(started, env=environment, capture_output=True, text=True, timeout=60)
        assert done.returncode == expected, done.stderr
        assert done.stdout.endswith("tidied up"), "whoever tidies up at the end has done so, and was heard"
