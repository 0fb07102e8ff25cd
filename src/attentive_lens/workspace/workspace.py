"""Opening a workspace."""

from __future__ import annotations

import errno
import fcntl
import os
import shutil
import tomllib
from dataclasses import dataclass, replace
from pathlib import Path

from attentive_lens.core.files import is_locked, part_of, remove_leftovers
from attentive_lens.core.numbering import label_of
from attentive_lens.errors import BadFile, BadValue, NotHere
from attentive_lens.images.sources.base import WORKSPACE_MARKER
from attentive_lens.plan.plan import Plan
from attentive_lens.workspace.catalogue import Catalogue
from attentive_lens.workspace.rows import ImageRow
from attentive_lens.workspace.runs import Run
from attentive_lens.workspace.shelf import Shelf

FORMAT = 1
MARKER = WORKSPACE_MARKER
DELETED = ".deleted-"
"""What the folder of a run that was taken away begins with."""


LOCK = "window.lock"
"""Held by the window that may change it."""


def is_workspace(place: Path) -> bool:
    """Whether a folder is one, whatever state it is in."""
    return (place / MARKER).is_file()


@dataclass(frozen=True)
class Workspace:
    """An open workspace.

    Attributes
    ----------
    folder : Path
        Where it is.
    name : str
        What it is called.
    writable : bool
        Whether runs can be made in it.
    held : bool
        Whether another window may change it meanwhile.
    """

    folder: Path
    name: str
    writable: bool
    held: bool = False

    @classmethod
    def open(cls, folder: Path) -> Workspace:
        """Open a workspace.

        Raises
        ------
        NotHere
            If the folder is none.
        BadFile
            If it is damaged or of a later format.
        """
        marker = folder / MARKER
        try:
            table = tomllib.loads(marker.read_text("utf-8"))
        except (FileNotFoundError, NotADirectoryError):
            raise NotHere(
                f"{folder} is not a workspace",
                f"there is no {MARKER} in it",
                "Make one with «attentive-lens new WORKSPACE IMAGES», or see one with «attentive-lens demo»",
            ) from None
        except OSError as error:
            raise BadFile(f"{marker} could not be read", str(error.strerror).lower(), "Check the path") from None
        except ValueError:
            why = "it is damaged"
            remedy = f'Write the two lines «format = {FORMAT}» and «name = "…"» into it'
            raise BadFile(f"{marker} could not be read", why, remedy) from None
        if table.get("format") != FORMAT:
            raise BadFile(
                f"{folder} has format {table.get('format')!r}",
                f"this version reads format {FORMAT}",
                "Use the version that made it",
            )
        return cls(folder, str(table.get("name", folder.name)), os.access(folder, os.W_OK))

    def for_window(self) -> tuple[Workspace, int | None]:
        """As a window has it: the first may change it, a further one only reads.

        Returns
        -------
        Workspace
            Not writable if another window has it.
        int or None
            An open file to be closed with the window; None for a window that only reads.
        """
        if not self.writable:
            return self, None
        held = os.open(self.folder / LOCK, os.O_RDWR | os.O_CREAT | os.O_CLOEXEC, 0o644)
        try:
            fcntl.flock(held, fcntl.LOCK_EX | fcntl.LOCK_NB)
        except BlockingIOError:
            os.close(held)
            return replace(self, writable=False, held=True), None
        except OSError:
            return self, held  # its disk knows no locks
        return self, held

    @property
    def has_window(self) -> bool:
        """Whether a window has it open, and may change it."""
        return is_locked(self.folder / LOCK)

    @property
    def catalogue(self) -> Catalogue:
        """Its images."""
        return Catalogue(self.folder / "catalogue.sqlite", immutable=not (self.writable or self.held))

    @property
    def cache(self) -> Path:
        """Folder of things that can be made again."""
        folder = self.folder / "cache"
        if self.writable:
            folder.mkdir(exist_ok=True)
        return folder

    @property
    def shelf(self) -> Shelf:
        """Its Shelf of models."""
        return Shelf(self.folder)

    def path_of(self, row: ImageRow) -> Path:
        """Where an image's file is."""
        return self.folder / row.file

    def runs(self) -> list[Run]:
        """All runs by number."""
        try:
            names = sorted(p.name for p in (self.folder / "runs").iterdir() if p.name.isdigit())
        except OSError:
            return []
        return [Run(self.folder / "runs" / name) for name in names]

    def run(self, number: int) -> Run:
        """One run, asked about the label that its number names, if it names one.

        Raises
        ------
        NotHere
            With the numbers there are.
        """
        for run in self.runs():
            if run.number == int(number):
                return run.about_label(label_of(number))
        numbers = ", ".join(str(run.number) for run in self.runs())
        raise NotHere(
            f"There is no run {number}",
            f"the workspace has {'runs ' + numbers if numbers else 'no runs yet'}",
            "Choose one of these" if numbers else "Train first",
        )

    def check_writable(self, what: str = "Nothing can be trained here") -> None:
        """Refuse to change anything where nothing may be written; `BadFile`, which begins with ``what``."""
        if not self.writable:
            why = "the workspace's folder cannot be written, or another window has it open"
            raise BadFile(what, why, "Use the other window, or a copy of the workspace")

    def delete_run(self, number: int) -> None:
        """Take a run away; `restore_run` brings it back until `forget_deleted`.

        Raises
        ------
        BadValue
            If it trains.
        BadFile
            If its folder cannot be moved.
        """
        self.check_writable(f"Run {number} was not deleted")
        run = self.run(number)
        if run.is_training():
            raise BadValue(f"Run {number} was not deleted", "it is training", "Stop it first")
        self._move(run.folder, run.folder.with_name(f"{DELETED}{run.folder.name}"), f"Run {number} was not deleted")

    def restore_run(self, number: int) -> None:
        """Bring a deleted run back; `NotHere` if it is gone for good, `BadFile` if nothing may be written."""
        self.check_writable(f"Run {number} was not brought back")
        folder = self.folder / "runs" / f"{DELETED}{number:04d}"
        if not folder.exists():
            raise NotHere(f"Run {number} cannot be brought back", "it was deleted for good", "Train its plan again")
        self._move(folder, self.folder / "runs" / f"{number:04d}", f"Run {number} was not brought back")

    def deleted_runs(self) -> tuple[int, ...]:
        """Numbers of the runs that `restore_run` can bring back."""
        names = (folder.name.removeprefix(DELETED) for folder in (self.folder / "runs").glob(f"{DELETED}*"))
        return tuple(sorted(int(name) for name in names if name.isdigit()))

    def forget_deleted(self) -> int:
        """Remove deleted runs for good, and say how many; what cannot be removed stays.

        Raises
        ------
        BadFile
            If the workspace cannot be written.
        """
        self.check_writable("The bin was not emptied")
        before = self.deleted_runs()
        for number in before:
            shutil.rmtree(self.folder / "runs" / f"{DELETED}{number:04d}", ignore_errors=True)
        return len(before) - len(self.deleted_runs())

    def _move(self, folder: Path, to: Path, what: str) -> None:
        try:
            folder.rename(to)
        except OSError as error:
            raise BadFile(what, str(error.strerror).lower(), "Check the workspace") from None

    def _numbers_taken(self) -> list[int]:
        """Of all runs, deleted ones too as long as they can be brought back."""
        return [run.number for run in self.runs()] + list(self.deleted_runs())

    def claim_run(self, plan: Plan) -> Run:
        """A new run's folder with its plan in it; two processes never get the same.

        Raises
        ------
        BadFile
            If the workspace cannot be written.
        """
        self.check_writable()
        runs = self.folder / "runs"
        making = Run(part_of(runs / "new"))
        try:
            runs.mkdir(exist_ok=True)
            remove_leftovers(runs)
            making.folder.mkdir()
            making.write_plan(plan)
            number = max(self._numbers_taken(), default=0) + 1
            while True:
                try:
                    making.folder.rename(runs / f"{number:04d}")  # refused where a run stands already
                    break
                except OSError as error:
                    if error.errno not in (errno.ENOTEMPTY, errno.EEXIST):
                        raise
                    number += 1
            run = Run(runs / f"{number:04d}")
        except OSError as error:
            raise BadFile(
                f"{self.folder} cannot take a run",
                str(error.strerror).lower(),
                "Copy the workspace to a folder you may write in",
            ) from None
        finally:
            shutil.rmtree(making.folder, ignore_errors=True)
        return run
