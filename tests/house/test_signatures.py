"""Public signatures of the rooms that answer say what they take and give."""

from __future__ import annotations

import ast
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
