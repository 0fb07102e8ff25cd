"""One folder per class, with or without folders for the sets above them."""

from __future__ import annotations

import os
from collections.abc import Iterator
from pathlib import Path

from attentive_lens.errors import BadFile
from attentive_lens.images.decoding import suffixes
from attentive_lens.images.sources.base import SET_WORDS, WORKSPACE_MARKER, Found, Skipped, Source, class_name, listed


class Folders(Source):
    """``class/…/image`` or ``set/class/…/image``.

    The folder has sets when every folder in it is called by a set's name and one of them is the training
    set. Folders within a class's are searched too; links to folders are not followed, hidden files are left
    alone, and every other file that gives no image is reported.
    """

    title = "folders, one for each class"

    @classmethod
    def recognises(cls, place: Path) -> bool:
        """Any folder."""
        return place.is_dir()

    def find(self) -> Iterator[Found | Skipped]:
        """Images in the order of set, class and file name.

        Raises
        ------
        BadFile
            If the folder cannot be listed, or holds no class folders.
        """
        folders = self._subfolders(self.place)
        words = [SET_WORDS.get(folder.name.lower()) for folder in folders]
        if folders and all(words) and "training" in words:
            for folder, set_name in zip(folders, words, strict=True):
                yield from self._classes(folder, self._subfolders(folder), set_name)
            return
        if not folders:
            raise BadFile(
                f"{self.place} has no classes",
                "there is no folder in it",
                "Put the images of each class in a folder",
            )
        yield from self._classes(self.place, folders, None)

    def _classes(self, parent: Path, folders: list[Path], set_name: str | None) -> Iterator[Found | Skipped]:
        for stray in sorted(parent.iterdir()):
            if not stray.is_dir() and not stray.name.startswith("."):
                yield Skipped(stray, "it stands outside the class folders, so its class is not known")
        refused: list[OSError] = []
        for folder in folders:
            label, some = class_name(folder.name), False
            for place, inner, names in os.walk(folder, onerror=refused.append):
                inner[:] = sorted(
                    name for name in inner if not name.startswith(".") and not _is_own(Path(place) / name)
                )
                for name in sorted(names):
                    if name.startswith("."):
                        continue
                    file = Path(place) / name
                    if file.suffix.lower() in suffixes():
                        some = True
                        yield from self.each_page(Found(file, label, set_name))
                    else:
                        yield Skipped(file, "its name does not end like an image's")
            if not some:
                yield Skipped(folder, "it is a class's folder and holds no image")
        for error in refused:
            yield Skipped(Path(os.fsdecode(error.filename)), f"it could not be listed: {str(error.strerror).lower()}")

    def _subfolders(self, place: Path) -> list[Path]:
        return [p for p in listed(place) if p.is_dir() and not _is_own(p)]


def _is_own(folder: Path) -> bool:
    """Whether a folder is a workspace: what is in one are its own pictures, not images to learn from."""
    return (folder / WORKSPACE_MARKER).exists()
