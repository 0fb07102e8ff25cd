"""The request that puts the program on a desktop, or takes it off."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from typing import ClassVar

from attentive_lens.core.telling import Rows, counted
from attentive_lens.core.values import spec
from attentive_lens.desk.requests.base import Request


@dataclass(frozen=True)
class OnDesktop:
    """What is on the desktop.

    Attributes
    ----------
    done : str
        «installed», «removed», or nothing where it was only looked.
    folder : str
        Of shared data, where all of it stands.
    files : tuple of str
        That were put there or removed, or stand there, under the folder.
    command : str
        What the entry starts.
    """

    done: str
    folder: str
    files: tuple[str, ...]
    command: str

    def words(self) -> Iterator[str | Rows]:
        """What was done, and each file."""
        many = counted(len(self.files), "file", "files")
        if self.done == "removed":
            yield f"{many} removed from {self.folder}; nothing of the program is left there."
        elif not self.files:
            yield f"Nothing is installed under {self.folder}: --install puts the program on the desktop."
        else:
            yield f"{many} under {self.folder}; the entry starts {self.command}."
            yield Rows(("file",), tuple((file,) for file in self.files))


@dataclass(frozen=True)
class PutOnDesktop(Request[OnDesktop]):
    """Put the program on the desktop: entry, icon, file type of models, description, manual page, completion."""

    result: ClassVar[type[object]] = OnDesktop
    task: ClassVar[str] = "desktop.put_on_desktop"
    install: bool = spec(False, meaning="Put it there; what stands there from an earlier version is replaced.")
    remove: bool = spec(False, meaning="Take it off again, without a trace.")
    for_all: bool = spec(False, meaning="For all users of this machine, not only for you: needs their rights.")
    pictures_at: str = spec(
        "", meaning="Web address under which the pictures of docs/screenshots are, for lists of programs to show."
    )
