"""The list of all commands says what they say of themselves, and neither it nor the version loads them."""

from __future__ import annotations

import contextlib
import io
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
