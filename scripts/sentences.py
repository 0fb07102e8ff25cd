"""Every sentence of the window, one a line with its module: to be read whole, as a stranger would.

python scripts/sentences.py
"""

from __future__ import annotations

import ast
import sys
from collections.abc import Iterator
from pathlib import Path

WINDOW = Path(__file__).parents[1] / "src" / "attentive_lens" / "window"
LEAST = 4
"""Words of a text that is more than a name."""
QUIET = ("setObjectName", "findChild", "partial", "getattr", "setProperty", "colour")
"""Calls whose words nobody sees."""


def words_of(node: ast.expr) -> str:
    """A text as it is written, with «…» for what is put in."""
    if isinstance(node, ast.Constant):
        return str(node.value)
    if isinstance(node, ast.JoinedStr):
        return "".join(words_of(part) if isinstance(part, ast.Constant) else "«…»" for part in node.values)
    return ""


def sentences(file: Path) -> Iterator[str]:
    """The texts of a module that are more than a name, docstrings left out."""
    tree = ast.parse(file.read_text("utf-8"))
    silent: set[int] = set()
    for node in ast.walk(tree):
        if isinstance(node, ast.Expr) and isinstance(node.value, ast.Constant):
            silent.add(id(node.value))
        if isinstance(node, ast.JoinedStr):
            silent |= {id(part) for part in ast.walk(node)} - {id(node)}
        if isinstance(node, ast.Call):
            name = node.func.attr if isinstance(node.func, ast.Attribute) else getattr(node.func, "id", "")
            if name in QUIET:
                silent |= {id(each) for argument in node.args for each in ast.walk(argument)}
    for node in ast.walk(tree):
        if isinstance(node, ast.Constant | ast.JoinedStr) and id(node) not in silent:
            words = words_of(node) if isinstance(node, ast.JoinedStr) or isinstance(node.value, str) else ""
            if len(words.split()) >= LEAST and "{" not in words:
                yield words.replace("\n", " / ")


def main() -> None:
    """Print them."""
    for file in sorted(WINDOW.rglob("*.py")):
        for words in sentences(file):
            sys.stdout.write(f"{file.relative_to(WINDOW).with_suffix('')}: {words}\n")


if __name__ == "__main__":
    main()
