"""The request that lists what other packages bring."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from typing import ClassVar

from attentive_lens.core.extensions import Extension
from attentive_lens.core.telling import Rows
from attentive_lens.desk.requests.base import Request


@dataclass(frozen=True)
class ExtensionsListed:
    """What other packages bring; what is left out has its reason."""

    extensions: tuple[Extension, ...]

    def words(self) -> Iterator[str | Rows]:
        """A line each, and the reasons."""
        if not self.extensions:
            yield "No package brings anything: see docs/developing/extending.md."
            return
        rows = [
            (each.group, each.name, f"{each.package} {each.version}", each.problem and "left out")
            for each in self.extensions
        ]
        yield Rows(("table", "kind", "package", ""), tuple(rows))
        for each in self.extensions:
            if each.problem:
                yield each.sentence


@dataclass(frozen=True)
class ListExtensions(Request[ExtensionsListed]):
    """List the layers, augmentation steps, losses and others that installed packages bring, and what was left out."""

    result: ClassVar[type[object]] = ExtensionsListed
    task: ClassVar[str] = "extensions.list_extensions"
