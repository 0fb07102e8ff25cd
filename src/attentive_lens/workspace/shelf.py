"""The Shelf of a workspace: model files kept by name, and those that come with the program."""

from __future__ import annotations

import json
from collections.abc import Callable
from dataclasses import asdict, dataclass, field, replace
from pathlib import Path
from typing import Any

from attentive_lens.core.files import make_folder, write_text
from attentive_lens.errors import BadFile, BadValue, NotHere
from attentive_lens.motifs import MODELS

ENDING = ".alens"
DELETED = ".deleted-"
"""What the name of a model begins with that was taken off."""
LONGEST = 80
"""Letters of a name, at most."""
MOST_FACTS = 1 << 20
"""Bytes of what is said of a model, at most."""


@dataclass(frozen=True)
class Figures:
    """How a model did when it was put on the shelf.

    Attributes
    ----------
    on : str
        The set.
    images : int
        In it.
    accuracy, loss : float
    """

    on: str
    images: int
    accuracy: float
    loss: float


@dataclass(frozen=True)
class Said:
    """What is known of a model besides its file.

    Attributes
    ----------
    origin : str
        Where it comes from, in words.
    note : str
        What a person says of it.
    earlier : tuple of str
        Names it had before: plans that ran go on naming it by them.
    figures : Figures or None
        None where it was never scored.
    """

    origin: str = ""
    note: str = ""
    earlier: tuple[str, ...] = ()
    figures: Figures | None = None


@dataclass(frozen=True)
class OnShelf:
    """A model on the shelf: its name, its file, whether it comes with the program, and what is said of it."""

    name: str
    file: Path
    ships: bool
    said: Said = field(default_factory=Said)


class Shelf:
    """The shelf in the folder of a workspace.

    Parameters
    ----------
    folder : Path
        Of the workspace; the models lie in ``shelf``, each as one file, with one of what is said of it.
    """

    def __init__(self, folder: Path) -> None:
        self.folder = folder / "shelf"

    def models(self) -> list[OnShelf]:
        """All of them by name, then those that come with the program."""
        own = sorted(self.folder.glob(f"*{ENDING}"), key=lambda file: file.stem) if self.folder.is_dir() else []
        shipped = sorted(MODELS.glob(f"*{ENDING}"))
        names = {file.stem for file in own}
        return [
            *(OnShelf(file.stem, file, False, self._said(file.stem)) for file in own if file.stem[:1] != "."),
            *(OnShelf(file.stem, file, True) for file in shipped if file.stem not in names),
        ]

    def model(self, name: str) -> OnShelf:
        """The model of a name, or of one that it had before.

        Raises
        ------
        NotHere
            With the names there are.
        """
        models = self.models()
        for of_now in (True, False):
            for model in models:
                if model.name == name if of_now else name in model.said.earlier:
                    return model
        names = ", ".join(model.name for model in models)
        why = f"there are {names}" if names else "it is empty"
        if self._file(DELETED + name).exists():
            raise NotHere(f"«{name}» was taken off the Shelf", why, "Put it back, or choose another")
        raise NotHere(f"The Shelf has no «{name}»", why, "Choose one of these" if names else "Put a model there first")

    def put(self, name: str, write: Callable[[Path], None], said: Said) -> OnShelf:
        """A new model, whose file is written by a function that is handed its place.

        Raises
        ------
        BadValue
            If the name is none, or there is one.
        BadFile
            If the folder cannot be written.
        """
        self.check_free(name)
        make_folder(self.folder)
        file = self._file(name)
        self._say(name, said)  # first: a model of which nothing is known does not tell where it comes from
        try:
            write(file)
        except BaseException:
            self._facts(name).unlink(missing_ok=True)
            raise
        return OnShelf(name, file, False, said)

    def say(self, name: str, said: Said) -> None:
        """Keep what is said of a model; `BadValue` for one that comes with the program."""
        self._own(name)
        self._say(name, said)

    def rename(self, name: str, to: str) -> None:
        """Give a model another name; plans that name the old one still find it.

        Raises
        ------
        BadValue
            If the name is none, or there is one, or the model comes with the program.
        BadFile
            If it cannot be written.
        """
        model = self._own(name)
        if to == name:
            return
        self.check_free(to, name)
        earlier = tuple(known for known in model.said.earlier if known != to)
        self._say(to, replace(model.said, earlier=(*earlier, name)))
        _move(model.file, self._file(to), f"«{name}» was not renamed")
        self._facts(name).unlink(missing_ok=True)

    def delete(self, name: str) -> None:
        """Take a model off; `restore` brings it back. `BadValue` for one that comes with the program."""
        model = self._own(name)
        _move(model.file, self._file(DELETED + name), f"«{name}» was not taken off")

    def restore(self, name: str) -> None:
        """Put a model back that was taken off.

        Raises
        ------
        NotHere
            If it is gone.
        BadValue
            If another has its name now.
        """
        file = self._file(DELETED + name)
        if not file.exists():
            raise NotHere(f"«{name}» cannot be put back", "it is gone for good", "Put it on the Shelf anew")
        if self._file(name).exists():
            raise BadValue(f"«{name}» cannot be put back", "another model has its name now", "Rename that one first")
        _move(file, self._file(name), f"«{name}» was not put back")

    def free_name(self, wish: str) -> str:
        """The wished name, or with the first number that makes it free; what no name may hold is left out."""
        letters = "".join(sign if sign.isprintable() and sign not in "/\\:" else " " for sign in wish)
        base = " ".join(letters.split()).strip(". ")[: LONGEST - 4] or "model"
        known = {model.name for model in self.models()} | {each for m in self.models() for each in m.said.earlier}
        known |= {file.stem.removeprefix(DELETED) for file in self.folder.glob(f"{DELETED}*")}
        return next(name for k in range(1, len(known) + 2) if (name := base if k == 1 else f"{base} {k}") not in known)

    def _own(self, name: str) -> OnShelf:
        model = self.model(name)
        if model.ships:
            why = "it comes with the program, for every workspace"
            raise BadValue(f"«{name}» cannot be changed", why, "Put a copy of it on the Shelf under another name")
        return model

    def check_free(self, name: str, but: str = "") -> None:
        """Refuse what is no name, or the name of a model now or earlier, unless that is called ``but``; `BadValue`."""
        bad = not name or name != name.strip() or not name.isprintable() or any(sign in name for sign in "/\\:")
        if bad or name.startswith(".") or len(name) > LONGEST:
            why = f"a name has up to {LONGEST} printable letters, no slash or colon, and no dot before it"
            raise BadValue(f"«{name[:LONGEST]}» is no name on the Shelf", why, "Choose another")
        for model in self.models():
            if model.name != but and name in (model.name, *model.said.earlier):
                why = "there is one of that name" if name == model.name else f"«{model.name}» was called so before"
                raise BadValue(f"«{name}» is taken", why, "Choose another name")

    def _file(self, name: str) -> Path:
        return self.folder / f"{name}{ENDING}"

    def _facts(self, name: str) -> Path:
        return self.folder / f"{name}.json"

    def _say(self, name: str, said: Said) -> None:
        write_text(self._facts(name), json.dumps(asdict(said), ensure_ascii=False, indent=1) + "\n")

    def _said(self, name: str) -> Said:
        """What is said of a model; nothing where that cannot be read."""
        try:
            with self._facts(name).open(encoding="utf-8") as stream:
                return _read(json.loads(stream.read(MOST_FACTS)))
        except (OSError, ValueError, TypeError, KeyError, RecursionError):
            return Said()


def _read(table: dict[str, Any]) -> Said:
    figures = table.get("figures")
    known = None
    if isinstance(figures, dict):
        accuracy, loss = float(figures["accuracy"]), float(figures["loss"])
        known = Figures(str(figures["on"]), int(figures["images"]), accuracy, loss)
    earlier = tuple(str(name) for name in table.get("earlier", ()))
    return Said(str(table.get("origin", "")), str(table.get("note", "")), earlier, known)


def _move(file: Path, to: Path, what: str) -> None:
    try:
        file.rename(to)
    except OSError as error:
        raise BadFile(what, str(error.strerror or error).lower(), "Check the workspace's folder") from None
