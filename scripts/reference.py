"""Write the pages made from the program itself: docs/settings.md, docs/json-schema.json and docs/attentive-lens.1.

python scripts/reference.py          writes them
python scripts/reference.py --check  says which are not as they would be written, and exits with 1
"""

from __future__ import annotations

import json
import sys
from pathlib import Path
from typing import Any

import typer.main

import attentive_lens
from attentive_lens.cli.entry import with_commands
from attentive_lens.cli.schemas import json_schema
from attentive_lens.plan.outline import settings

ROOT = Path(__file__).parents[1]


def settings_page() -> str:
    lines = [
        "# Settings",
        "",
        "Every key that `--set` takes and a plan file has; `attentive-lens plan keys` prints the same, and",
        "`attentive-lens plan new` a whole plan with all of it as comments, and every layer, block and step.",
        "",
        "| key | default | may be | unit | meaning |",
        "|---|---|---|---|---|",
    ]
    lines += [f"| `{s.key}` | `{s.default}` | {s.allowed} | {s.unit} | {s.meaning} |" for s in settings()]
    return "\n".join(lines) + "\n"


def manual() -> str:
    group = typer.main.get_command(with_commands())
    lines = [
        f'.TH ATTENTIVE-LENS 1 "" "Attentive Lens {attentive_lens.__version__}" "User commands"',
        ".SH NAME",
        "attentive\\-lens \\- train convolutional image classifiers and find out why they get an image wrong",
        ".SH SYNOPSIS",
        ".B attentive\\-lens",
        "[\\fIWORKSPACE\\fR]",
        ".br",
        ".B attentive\\-lens",
        "\\fICOMMAND\\fR [\\fIWORDS\\fR]",
        ".SH DESCRIPTION",
        "Without a command the window is opened, on a workspace if one is named.",
        ".SH COMMANDS",
    ]
    for name, command in group.commands.items():  # type: ignore[attr-defined]
        lines += _command(name, command)
    lines += [
        ".SH EXIT STATUS",
        *(".TP", "0", "Done."),
        *(".TP", "1", "Failed; a sentence on standard error says what, why, and what to do."),
        *(".TP", "2", "Wrong usage: a word, key or setting that is not known or does not fit."),
        *(".TP", "3", "A run that somebody stopped; everything is kept."),
        ".SH OUTPUT FOR PROGRAMS",
        "With \\fB\\-\\-json\\fR the last line on standard output is one JSON object, also where a command fails;",
        "\\fBpredict\\fR and \\fBexplain\\fR print one a line for each image. Progress goes to standard error.",
    ]
    return "\n".join(lines) + "\n"


def _command(name: str, command: Any) -> list[str]:
    if hasattr(command, "commands"):
        lines = []
        for inner, own in command.commands.items():
            lines += _command(f"{name} {inner}", own)
        return lines
    arguments = [p for p in command.params if p.param_type_name == "argument"]
    options = [p for p in command.params if p.param_type_name == "option" and not p.hidden]
    words = " ".join(f"\\fI{_text(p.metavar)}\\fR" for p in arguments)
    lines = [f".SS {_text(name)} {words}".rstrip(), _text(command.help)]
    for parameter in arguments:
        lines += [".TP", f"\\fI{_text(parameter.metavar)}\\fR", _text(parameter.help or "")]
    for option in options:
        takes = f" \\fI{_text(option.metavar)}\\fR" if option.metavar else ""
        lines += [".TP", f"\\fB{_text(option.opts[0])}\\fR{takes}", _text(option.help or "")]
    return lines


def _text(words: str) -> str:
    """For a manual page: hyphens and backslashes as they are, and no line that begins like a request."""
    plain = " ".join(words.split()).replace("\\", "\\e").replace("-", "\\-")
    return f"\\&{plain}" if plain.startswith((".", "'")) else plain


def schema_page() -> str:
    return json.dumps(json_schema(), indent=1, ensure_ascii=False) + "\n"


PAGES = {"docs/settings.md": settings_page, "docs/attentive-lens.1": manual, "docs/json-schema.json": schema_page}


def main() -> int:
    late = []
    for name, make in PAGES.items():
        file, text = ROOT / name, make()
        if not file.exists() or file.read_text("utf-8") != text:
            late.append(name)
            if "--check" not in sys.argv:
                file.write_text(text, "utf-8")
    if late and "--check" in sys.argv:
        sys.stderr.write(f"Not as the program would write them now: {', '.join(late)}. Run scripts/reference.py.\n")
        return 1
    return 0


if __name__ == "__main__":
    sys.exit(main())
