"""Write the pages made from the program itself: settings, commands, Python, JSON schema and manual page, in docs.

python scripts/reference.py          writes them
python scripts/reference.py --check  says which are not as they would be written, and exits with 1
"""

from __future__ import annotations

import dataclasses
import inspect
import json
import sys
from pathlib import Path
from typing import Any

import typer.main

import attentive_lens
from attentive_lens.cli.entry import with_commands
from attentive_lens.cli.schemas import json_schema
from attentive_lens.desk.requests import requests_by_name
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
    lines += [
        f"| `{s.key}` | `{s.default}` | {s.allowed} | {s.unit} | {s.meaning} {s.ends}".rstrip() + " |"
        for s in settings()
    ]
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


def commands_page() -> str:
    """Every command with its words and options."""
    group: Any = typer.main.get_command(with_commands())
    lines = [
        "# Commands",
        "",
        "`attentive-lens COMMAND --help` tells the same in the terminal, and the manual page too. Every command takes",
        "`--json`: [what is printed then](output.md).",
    ]
    for name, command in sorted(group.commands.items()):
        lines += _on_page(name, command)
    return "\n".join(lines) + "\n"


def _on_page(name: str, command: Any) -> list[str]:
    if hasattr(command, "commands"):
        return [line for inner, own in command.commands.items() for line in _on_page(f"{name} {inner}", own)]
    arguments = [each for each in command.params if each.param_type_name == "argument"]
    options = [each for each in command.params if each.param_type_name == "option" and not each.hidden]
    words = "".join(f" {each.metavar}" for each in arguments)
    lines = ["", f"## {name}", "", _cell(command.help), "", f"    attentive-lens {name}{words}", ""]
    if arguments or options:
        lines += ["| word | meaning |", "|---|---|"]
    lines += [f"| `{each.metavar}` | {_cell(each.help or '')} |" for each in arguments]
    for each in options:
        takes = f" {each.metavar}" if each.metavar else ""
        lines.append(f"| `{_bars(each.opts[0] + takes)}` | {_cell(each.help or '')} |")
    return lines


def _cell(words: str) -> str:
    """For a page: one line in which nothing ends a cell or is a tag."""
    return _bars(" ".join(words.split())).replace("<", "&lt;").replace("*", "\\*")


def _bars(words: str) -> str:
    return words.replace("|", "\\|")


def _text(words: str) -> str:
    """For a manual page: hyphens and backslashes as they are, and no line that begins like a request."""
    plain = " ".join(words.split()).replace("\\", "\\e").replace("-", "\\-")
    return f"\\&{plain}" if plain.startswith((".", "'")) else plain


def schema_page() -> str:
    return json.dumps(json_schema(), indent=1, ensure_ascii=False) + "\n"


def python_page() -> str:
    """All that `import attentive_lens` gives, and the requests that `ask` takes, from their docstrings."""
    lines = [
        "# Python",
        "",
        "What `import attentive_lens as al` gives; [Work from Python](../how-to/from-python.md) has examples that are",
        "run by the tests; [Bringing your own](../developing/extending.md) says how to add layers, losses and others.",
    ]
    for name in attentive_lens.__all__:
        thing = getattr(attentive_lens, name)
        if isinstance(thing, str):
            continue
        lines += ["", f"## {name}", "", *_described(f"al.{name}", thing)]
        for own, member in sorted(vars(thing).items()) if isinstance(thing, type) else ():
            if not own.startswith("_") and (callable(member) or isinstance(member, property)):
                lines += ["", f"### {name}.{own}", "", *_described(f"{name.lower()}.{own}", member)]
    lines += ["", "## Requests", "", "What `al.ask` takes, from the modules of `attentive_lens.desk.requests`.", ""]
    lines += ["| request | fields | what it does |", "|---|---|---|"]
    for name, request in sorted(requests_by_name().items()):
        own = ", ".join(each.name for each in dataclasses.fields(request))
        lines.append(f"| `{request.__module__.rpartition('.')[2]}.{name}` | {own} | {_first_sentence(request)} |")
    return "\n".join(lines) + "\n"


def _first_sentence(thing: object) -> str:
    return " ".join((inspect.getdoc(thing) or "").split("\n\n")[0].split()).replace("|", "\\|")


def _described(shown: str, thing: Any) -> list[str]:
    """How it is called, and its docstring as it stands."""
    made: Any = thing.fget if isinstance(thing, property) else thing
    if isinstance(thing, property):
        call = shown
    elif isinstance(thing, type):
        call = ""
    else:
        own = inspect.signature(made)
        given = [each.replace(annotation=each.empty) for name, each in own.parameters.items() if name != "self"]
        call = f"{shown}{own.replace(parameters=given, return_annotation=own.empty)}"
    text = inspect.getdoc(made) or ""
    return [*([f"    {call}", ""] if call else []), "```text", *text.splitlines(), "```"]


PAGES = {
    "docs/reference/settings.md": settings_page,
    "src/attentive_lens/desktop/data/attentive-lens.1": manual,
    "docs/reference/commands.md": commands_page,
    "docs/reference/json-schema.json": schema_page,
    "docs/reference/python.md": python_page,
}


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
