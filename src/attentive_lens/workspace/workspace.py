"""Opening a workspace, and making one from a source of images."""

from __future__ import annotations

import os
import tomllib
from collections import Counter
from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass
from pathlib import Path

import tomlkit

from attentive_lens.errors import BadFile, BadValue, LensError, NotHere
from attentive_lens.images.sources.base import Found, Skipped, Source
from attentive_lens.plan.plan import Plan
from attentive_lens.plan.progress import Job, Progress
from attentive_lens.workspace.catalogue import Catalogue, ImageRow
from attentive_lens.workspace.runs import Run

FORMAT = 1
MARKER = "workspace.toml"


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
    """

    folder: Path
    name: str
    writable: bool

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
        except (OSError, ValueError):
            raise BadFile(f"{marker} could not be read", "it is damaged or not permitted", "Restore it") from None
        if table.get("format") != FORMAT:
            raise BadFile(
                f"{folder} has format {table.get('format')!r}",
                f"this version reads format {FORMAT}",
                "Use the version that made it",
            )
        return cls(folder, str(table.get("name", folder.name)), os.access(folder, os.W_OK))

    @property
    def catalogue(self) -> Catalogue:
        """Its images."""
        return Catalogue(self.folder / "catalogue.sqlite", immutable=not self.writable)

    @property
    def cache(self) -> Path:
        """Folder of things that can be made again."""
        folder = self.folder / "cache"
        if self.writable:
            folder.mkdir(exist_ok=True)
        return folder

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
        """One run.

        Raises
        ------
        NotHere
            With the numbers there are.
        """
        for run in self.runs():
            if run.number == number:
                return run
        numbers = ", ".join(str(run.number) for run in self.runs())
        raise NotHere(
            f"There is no run {number}",
            f"the workspace has {'runs ' + numbers if numbers else 'no runs yet'}",
            "Choose one of these" if numbers else "Train first",
        )

    def claim_run(self, plan: Plan) -> Run:
        """A new run's folder with its plan in it; two processes never get the same.

        Raises
        ------
        BadFile
            If the workspace cannot be written.
        """
        runs = self.folder / "runs"
        try:
            runs.mkdir(exist_ok=True)
            number = max((run.number for run in self.runs()), default=0) + 1
            while True:
                try:
                    (runs / f"{number:04d}").mkdir()
                    break
                except FileExistsError:
                    number += 1
            run = Run(runs / f"{number:04d}")
            run.write_plan(plan)
        except OSError as error:
            raise BadFile(
                f"{self.folder} cannot take a run",
                str(error.strerror).lower(),
                "Copy the workspace to a folder you may write in",
            ) from None
        return run


def create(
    folder: Path, source: Source, decoded: Callable[[Path], tuple[int, int, str]], name: str = ""
) -> Job[Workspace]:
    """Make a workspace from a source; every file is opened once, and those that give no image are reported.

    Parameters
    ----------
    folder : Path
        Made if missing; must not be a workspace already. Until the end nothing in it says that it is one.
    source : Source
        Where the images are.
    decoded : callable
        Opens an image file: width, height and mode, or `BadFile`.
    name : str
        What to call it; the folder's name if empty.

    Raises
    ------
    BadFile, BadValue
        If the folder cannot be written, or there are no images of at least two classes.
    """
    if (folder / MARKER).exists():
        raise BadFile(f"{folder} is a workspace already", f"it holds a {MARKER}", "Open it, or name another folder")
    files = list(source.find())
    found = [item for item in files if isinstance(item, Found)]
    skipped = [(str(item.file), item.reason) for item in files if isinstance(item, Skipped)]
    rows: list[tuple[Found, int, int, str]] = []

    def look(item: Found) -> tuple[int, int, str] | str:
        try:
            return decoded(item.file)
        except LensError as error:
            return error.why

    with ThreadPoolExecutor(2) as pool:
        for first in range(0, len(found), 128):
            yield Progress(first, len(found), "reading images")
            part = found[first : first + 128]
            for item, seen in zip(part, pool.map(look, part), strict=True):
                if isinstance(seen, str):
                    skipped.append((str(item.file), seen))
                else:
                    rows.append((item, *seen))
    counts = Counter(item.label for item, *_ in rows)
    _check_classes(source.place, counts, len(skipped))
    classes = sorted(counts)
    images = [
        ImageRow(
            n,
            _relative(item.file, folder),
            classes.index(item.label),
            item.set_name,
            w,
            h,
            mode,
            item.file.stat().st_size,
        )
        for n, (item, w, h, mode) in enumerate(rows, 1)
    ]
    _write(
        folder,
        name or folder.absolute().name,
        classes,
        images,
        [(_relative(Path(f), folder), why) for f, why in skipped],
    )
    return Workspace.open(folder)


def _check_classes(place: Path, counts: Counter[str], skipped: int) -> None:
    lost = f" ({skipped} files could not be read)" if skipped else ""
    if not counts:
        raise BadValue(
            f"{place} gave no images",
            f"no file in its class folders is a readable image{lost}",
            "Name another folder",
        )
    if len(counts) == 1:
        (only,) = counts
        raise BadValue(
            f"{place} has one class only",
            f"all {counts[only]} images are of «{only}», and a classifier tells at least two apart{lost}",
            "Put images of another class in a folder beside it",
        )


def _relative(file: Path, folder: Path) -> str:
    file, folder = file.absolute(), folder.absolute()
    return str(file.relative_to(folder)) if file.is_relative_to(folder) else str(file)


def _write(folder: Path, name: str, classes: list[str], images: list[ImageRow], skipped: list[tuple[str, str]]) -> None:
    """The catalogue under a temporary name, then the marker: a half-made workspace is none."""
    own = folder / f".catalogue.{os.getpid()}.sqlite"
    try:
        folder.mkdir(parents=True, exist_ok=True)
        Catalogue.create(own, classes, images, skipped)
        own.replace(folder / "catalogue.sqlite")
        (folder / MARKER).write_text(tomlkit.dumps({"format": FORMAT, "name": name}), "utf-8")
    except OSError as error:
        raise BadFile(
            f"{folder} could not be made a workspace",
            str(error.strerror).lower(),
            "Name a folder you may write in",
        ) from None
    finally:
        for left in (own, own.with_name(own.name + "-wal"), own.with_name(own.name + "-shm")):
            left.unlink(missing_ok=True) if left.parent.exists() else None
