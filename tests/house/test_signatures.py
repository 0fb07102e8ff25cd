"""Public signatures of the rooms that answer say what they take and give."""

from __future__ import annotations

import ast
import re
from collections.abc import Iterator
from pathlib import Path

import attentive_lens

ROOMS = ("engine", "predicting", "explaining", "scoring", "desk")
PRECISION = "np.floating[Any]"
"""NumPy's own word for a precision left open."""


def vague(source: str) -> Iterator[str]:
    """Public functions, methods and fields whose annotations say «Any»."""
    tree = ast.parse(source)
    owners = [tree, *(node for node in ast.walk(tree) if isinstance(node, ast.ClassDef) and node.name[0] != "_")]
    for owner in owners:
        for node in owner.body:
            if isinstance(node, ast.FunctionDef) and (node.name == "__init__" or node.name[0] != "_"):
                every = [
                    *node.args.posonlyargs,
                    *node.args.args,
                    *node.args.kwonlyargs,
                    node.args.vararg,
                    node.args.kwarg,
                ]
                hints = [own.annotation for own in every if own is not None] + [node.returns]
                name = node.name
            elif isinstance(node, ast.AnnAssign) and isinstance(owner, ast.ClassDef):
                hints, name = [node.annotation], ast.unparse(node.target)
            else:
                continue
            words = " ".join(ast.unparse(hint).replace(PRECISION, "") for hint in hints if hint is not None)
            if "Any" in words.replace("AnyLayer", ""):
                yield name


def test_vague_signatures_are_seen() -> None:
    assert list(vague("def f(x: Any) -> int: ...\ndef _g(x: Any) -> int: ...")) == ["f"]
    assert list(vague("class A:\n    x: list[Any]\n    def f(self, *more: Any) -> None: ...")) == ["x", "f"]
    assert not list(vague("def f(x: NDArray[np.floating[Any]], layer: AnyLayer) -> int: ..."))


def test_no_public_signature_of_these_rooms_is_vague() -> None:
    root = Path(attentive_lens.__file__).parent
    result = {
        f"{file.relative_to(root)}: {name}"
        for room in ROOMS
        for file in sorted((root / room).rglob("*.py"))
        for name in vague(file.read_text("utf-8"))
    }
    assert result == {"engine/network.py: saved"}, "a trace holds what its layers keep, and gives it back to them"


LISTED = re.compile(r"\n(Parameters|Attributes|Signals)\n-+\n(.*?)(?=\n\n[A-Z]\w+\n-+\n|\Z)", re.DOTALL)


def listed(docstring: str) -> Iterator[str]:
    """Names that a docstring lists as parameters, attributes or signals."""
    for section in LISTED.finditer(docstring):
        for line in section[2].splitlines():
            if names := re.fullmatch(r"(\w[\w, *]*?)( :.*)?", line):
                yield from (name.strip().strip("*") for name in names[1].split(","))


def named_in(node: ast.AST) -> set[str]:
    """Every name that stands in a function or class."""
    inside = list(ast.walk(node))
    names = {each.id for each in inside if isinstance(each, ast.Name)}
    names |= {each.attr for each in inside if isinstance(each, ast.Attribute)}
    names |= {each.arg for each in inside if isinstance(each, ast.arg)}
    return names | {each.name for each in inside if isinstance(each, ast.FunctionDef)}


def test_docstrings_list_what_is_there() -> None:
    root = Path(attentive_lens.__file__).parent
    missing, seen = [], 0
    for file in root.rglob("*.py"):
        for node in ast.walk(ast.parse(file.read_text("utf-8"))):
            if isinstance(node, ast.FunctionDef | ast.ClassDef):
                names = list(listed(ast.get_docstring(node) or ""))
                seen += len(names)
                missing += [f"{file.name}: {node.name}: {name}" for name in set(names) - named_in(node)]
    assert seen > 1000
    assert missing == []
    assert list(listed("One.\n\nParameters\n----------\na, b : int\n    Two.\nc\n    Of it.")) == ["a", "b", "c"]
