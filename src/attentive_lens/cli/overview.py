"""The list of all commands, without loading them: what each says of itself is read in its source."""

from __future__ import annotations

import ast
from collections.abc import Mapping
from functools import lru_cache
from pathlib import Path
from typing import Annotated

import typer

HERE = Path(__file__).parent
TITLE = "Train convolutional image classifiers and find out why they get an image wrong."


AskVersion = Annotated[bool, typer.Option("--version", help="Print the version.")]


def empty() -> typer.Typer:
    """The application without commands."""
    return typer.Typer(help=TITLE, no_args_is_help=True, rich_markup_mode=None, pretty_exceptions_enable=False)


def overview(commands: Mapping[str, str]) -> typer.Typer:
    """The application with commands that can be listed, and do nothing."""
    app = empty()
    app.callback(invoke_without_command=True)(_options)
    for name, home in commands.items():
        app.command(name, help=_said(name, home))(_nothing)
    return app


def _options(version: AskVersion = False) -> None:
    """What stands before a command."""


def _nothing() -> None:
    """No command is carried out."""


def _said(name: str, home: str) -> str:
    """What a command says of itself: its request's or function's docstring, or its group's help."""
    module, _, request = home.partition(".")
    tree = _tree(HERE.parent / "desk" / "requests" / f"{module}.py" if request else HERE / f"{module}.py")
    for node in tree.body:
        if isinstance(node, ast.ClassDef) and node.name == request:
            return ast.get_docstring(node) or ""
        if isinstance(node, ast.FunctionDef) and name in _names(node):
            return ast.get_docstring(node) or ""
        if isinstance(node, ast.Assign) and isinstance(node.value, ast.Call):
            for word in node.value.keywords:
                if word.arg == "help" and isinstance(word.value, ast.Constant):
                    return str(word.value.value)
    return ""


def _names(function: ast.FunctionDef) -> list[str]:
    """The commands that a function is."""
    names = []
    for call in function.decorator_list:
        if isinstance(call, ast.Call) and isinstance(call.func, ast.Attribute) and call.func.attr == "command":
            (own,) = call.args or [ast.Constant(function.name.replace("_", "-"))]
            names += [str(own.value)] if isinstance(own, ast.Constant) else []
    return names


@lru_cache
def _tree(file: Path) -> ast.Module:
    return ast.parse(file.read_text("utf-8"))
