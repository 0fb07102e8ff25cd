"""A run's folder: its plan, its journal, whether it lives, and how to stop it."""

from __future__ import annotations

import contextlib
import fcntl
import hashlib
import json
import math
import os
import time
import zipfile
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass, replace
from functools import lru_cache
from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray

from attentive_lens.core.files import is_locked, write_text
from attentive_lens.core.numbering import RunNumber
from attentive_lens.errors import BadFile, BadValue, NotHere
from attentive_lens.plan.plan import Plan
from attentive_lens.workspace.about import About, read_about, write_about
from attentive_lens.workspace.plan_files import plan_of, read_plan, write_plan
from attentive_lens.workspace.rows import ImageRow

LOCK_TRIES, LOCK_SECONDS = 20, 0.01
"""How often, and how far apart, the lock is asked for: who only looks holds it for a moment."""
UNREADABLE = (OSError, EOFError, TypeError, ValueError, KeyError, IndexError, zipfile.BadZipFile)
"""What reading a note of arrays raises that is damaged."""


@dataclass(frozen=True)
class Run:
    """One execution of a plan, living in ``runs/0007``.

    Attributes
    ----------
    folder : Path
        Where it is.
    label : str
        Of a run that answers several labels, the one that is asked about: then it is a run of two classes, images
        without the label and those with it. Empty otherwise.
    """

    folder: Path
    label: str = ""

    @property
    def number(self) -> int:
        """From 1; with its label, where one is asked about."""
        number = int(self.folder.name)
        return RunNumber(number, self.label) if self.label else number

    def about_label(self, label: str) -> Run:
        """The same run, asked about one of its labels.

        Raises
        ------
        NotHere
            If it has no such label.
        """
        if not label:
            return self
        several = self.plan().task.several
        if not several or label not in self.classes():
            why = f"its labels are: {', '.join(self.classes()[:12])}" if several else "it answers one class an image"
            raise NotHere(
                f"Run {int(self.number)} has no label «{label}»",
                why,
                "Choose one of these" if several else "Leave it out",
            )
        return replace(self, label=label)

    @property
    def whole(self) -> Run:
        """The same run, asked about no label alone."""
        return Run(self.folder)

    @property
    def journal(self) -> Path:
        """File of its events."""
        return self.folder / "journal.jsonl"

    @property
    def journal_size(self) -> int:
        """Bytes of the journal; 0 before there is one."""
        try:
            return self.journal.stat().st_size
        except OSError:
            return 0

    @property
    def checkpoints(self) -> Path:
        """Folder of ``best.alens`` and ``last.alens``."""
        return self.folder / "checkpoints"

    @property
    def last_batch(self) -> Path:
        """File of some images of the last batch, with what was said of them."""
        return self.folder / "last-batch.npz"

    @property
    def film(self) -> Path:
        """Folder of what a run that draws drew after its epochs."""
        return self.folder / "film"

    @property
    def model(self) -> Path:
        """Its best model's file.

        Raises
        ------
        NotHere
            If no epoch was finished yet.
        """
        best = self.checkpoints / "best.alens"
        if not best.exists():
            raise NotHere(
                f"Run {self.number} has no model yet",
                "it did not finish an epoch",
                "Let it train longer, or choose another run",
            )
        return best

    def plan(self) -> Plan:
        """The plan it executes.

        Raises
        ------
        BadFile
            If the file is missing or damaged.
        """
        file = self.folder / "plan.toml"
        try:
            state = file.stat()
        except OSError:
            return read_plan(file)
        return plan_of(file, state.st_mtime_ns, state.st_size, state.st_ino)

    def write_plan(self, plan: Plan) -> None:
        """Once, at its beginning."""
        write_plan(self.folder / "plan.toml", plan)

    def hold(self) -> int:
        """Become its one writer, by a lock of the operating system that ends with this process.

        Returns
        -------
        int
            An open file; closing it, or handing it to a child and ending, gives the run free.

        Raises
        ------
        BadValue
            If another process holds it.
        BadFile
            If its folder cannot be written.
        """
        try:
            held = os.open(self.folder / "lock", os.O_RDWR | os.O_CREAT | os.O_CLOEXEC, 0o644)
        except OSError as error:
            why = str(error.strerror).lower()
            raise BadFile(f"Run {self.number} cannot be written", why, "Check its folder") from None
        for attempt in range(LOCK_TRIES):
            try:
                fcntl.flock(held, fcntl.LOCK_EX | fcntl.LOCK_NB)
            except BlockingIOError:
                time.sleep(LOCK_SECONDS * (attempt + 1 < LOCK_TRIES))  # somebody may just be looking
            except OSError as error:
                os.close(held)
                why = f"its disk knows no locks ({str(error.strerror).lower()})"
                raise BadFile(
                    f"Run {self.number} cannot be written", why, "Copy the workspace to a local disk"
                ) from None
            else:
                return held
        os.close(held)
        why = "another process is training it"
        raise BadValue(f"Run {self.number} cannot be written", why, "Wait for its end, or stop it")

    def is_training(self) -> bool:
        """Whether a process holds it as its writer."""
        return is_locked(self.folder / "lock")

    def trained(self) -> int:
        """Whole epochs that its last checkpoint holds; 0 without one."""
        try:
            with zipfile.ZipFile(self.checkpoints / "last.alens") as archive:
                return int(json.loads(archive.read("card.json"))["position"]["epoch"])
        except (OSError, ValueError, KeyError, TypeError, zipfile.BadZipFile):
            return 0

    def keep_images(
        self, rows: Sequence[ImageRow], sets: Sequence[str], classes: Sequence[str], regions: NDArray[np.int64]
    ) -> None:
        """Note the labels, sets and pixels it is trained with, by the images' numbers, and the classes' names.

        ``regions``, N×4, are what is seen of each image, see `Reference.region`; zeros where that is all of it.
        """
        words = sorted(set(sets))
        codes = np.array([words.index(name) for name in words], np.uint8)[np.searchsorted(words, sets)]
        partial_file = self.folder / f".images.{os.getpid()}.npz"
        with partial_file.open("wb") as file:
            numbers, digests = np.array([r.label for r in rows], np.int32), np.array([r.digest for r in rows], np.int64)
            names, of_sets = np.array(classes), np.array(words)
            np.savez_compressed(
                file, labels=numbers, sets=codes, words=of_sets, classes=names, digests=digests, regions=regions
            )
        partial_file.replace(self.folder / "images.npz")

    @contextlib.contextmanager
    def noted(self) -> Iterator[Mapping[str, NDArray[Any]]]:
        """The arrays of what was noted of its images; one of `UNREADABLE` if they are not there or damaged."""
        with (self.folder / "images.npz").open("rb") as stream, np.load(stream, allow_pickle=False) as noted:
            yield noted

    def images(self) -> tuple[NDArray[np.int32], list[str]] | None:
        """The labels and sets it was trained with, by place; None if that was not noted."""
        try:
            with self.noted() as noted:
                words = [str(word) for word in noted["words"]]
                return noted["labels"], [words[code] for code in noted["sets"].tolist()]
        except UNREADABLE:
            return None

    def digests(self) -> NDArray[np.int64]:
        """Of the pixels it was trained with, by place, as `ImageRow.digest`; none if that was not noted."""
        try:
            with self.noted() as noted:
                return np.asarray(noted["digests"], np.int64)
        except UNREADABLE:
            return np.zeros(0, np.int64)

    def regions(self) -> NDArray[np.int64]:
        """What it saw of each image, N×4 by place, as `keep_images` has it; none if that was not noted."""
        try:
            with self.noted() as noted:
                return np.asarray(noted["regions"], np.int64)
        except UNREADABLE:
            return np.zeros((0, 4), np.int64)

    def classes(self) -> tuple[str, ...]:
        """The classes it was trained with, by number, whatever the workspace has now; none before it began."""
        return _classes_of(self, self.images_stamp())

    def keep_price(self, epoch_seconds: float) -> None:
        """Note what an epoch was said to take; a saving of memory, no more: where it cannot be written it is not."""
        with contextlib.suppress(BadFile):
            write_text(self.folder / "price.json", json.dumps({"epoch_seconds": epoch_seconds}))

    def price(self) -> float | None:
        """Seconds that an epoch was said to take; None if it was not priced."""
        try:
            seconds = json.loads((self.folder / "price.json").read_text("utf-8"))["epoch_seconds"]
        except (OSError, ValueError, LookupError, TypeError):
            return None
        return float(seconds) if isinstance(seconds, int | float) else None

    def images_stamp(self) -> tuple[str, int] | None:
        """Another one whenever `images` gives something else."""
        file = self.folder / "images.npz"
        return (str(file.absolute()), file.stat().st_mtime_ns) if file.exists() else None

    def wait(self) -> None:
        """Stand in the queue until `begin`."""
        write_text(self.folder / "waiting", "")

    def is_waiting(self) -> bool:
        """Whether it stands in the queue."""
        return (self.folder / "waiting").exists() and not self.journal.exists()

    def begin(self) -> None:
        """Leave the queue."""
        (self.folder / "waiting").unlink(missing_ok=True)

    def about(self) -> About:
        """What a person said of it."""
        return read_about(self.folder / "about.json")

    def keep_about(self, about: About) -> None:
        """Keep what a person says of it; `BadFile` if it cannot be written."""
        write_about(self.folder / "about.json", about)

    def ask(self, word: str) -> None:
        """Leave word for the process that trains it, which heeds it after the step it is in.

        Parameters
        ----------
        word : str
            To stop, to stop after the epoch, or to pause, until the word is taken back; see `training.control`.
        """
        try:
            write_text(self.folder / "control", word + "\n")
        except BadFile as error:
            raise BadFile(f"Run {self.number} was not told to {word}", error.why, "Check its folder") from None

    def command(self) -> str:
        """The word that was left; nothing without one."""
        file = str(self.folder / "control")
        if not os.path.exists(file):  # noqa: PTH110  # asked after every step; half the time of Path
            return ""
        try:
            return Path(file).read_text("utf-8").strip()
        except (OSError, UnicodeDecodeError):
            return ""

    def forget_word(self) -> None:
        """Take back the word that was left."""
        (self.folder / "control").unlink(missing_ok=True)

    def ask_rate(self, rate: float) -> None:
        """Leave a learning rate for the process that trains it, to hold from its next step on."""
        try:
            write_text(self.folder / "rate", repr(float(rate)))
        except BadFile as error:
            raise BadFile(
                f"The learning rate of run {self.number} was not changed", error.why, "Check its folder"
            ) from None

    def commanded_rate(self) -> float | None:
        """The learning rate that was left; None without one, or if it is none."""
        file = str(self.folder / "rate")
        if not os.path.exists(file):  # noqa: PTH110  # asked before every step
            return None
        try:
            rate = float(Path(file).read_text("utf-8"))
        except (OSError, ValueError):
            return None
        return rate if 0 < rate < math.inf else None

    def forget_rate(self) -> None:
        """Take back the learning rate that was left."""
        (self.folder / "rate").unlink(missing_ok=True)

    def keep_rates(self, rates: Sequence[tuple[int, float]]) -> None:
        """Write down the learning rates that were set while it trained, by the step from which each holds."""
        write_text(self.folder / "rates.json", json.dumps([list(pair) for pair in rates]))

    def rates(self) -> tuple[tuple[int, float], ...]:
        """From `keep_rates`; none if the learning rate was never changed."""
        try:
            pairs = json.loads((self.folder / "rates.json").read_text("utf-8"))
            return tuple((int(step), float(rate)) for step, rate in pairs)
        except FileNotFoundError:
            return ()
        except (OSError, ValueError, TypeError):
            raise BadFile(
                f"Run {self.number} cannot be read",
                "the file of the learning rates that were set while it trained is damaged",
                "Train its plan as a new run",
            ) from None

    def scores_file(self, on: str) -> Path:
        """Where the scores on a set are kept."""
        return self.folder / f"scores-{on}{self.of_label}.npz"

    @property
    def of_label(self) -> str:
        """What the names of files are told apart by that are about one label; empty without one."""
        return f"-{hashlib.sha256(self.label.encode()).hexdigest()[:12]}" if self.label else ""

    def thresholds_stamp(self) -> int:
        """Another one whenever thresholds were chosen anew."""
        return self.thresholds.stat().st_mtime_ns if self.thresholds.exists() else 0

    @property
    def thresholds(self) -> Path:
        """File of the probabilities from which it says each label, see `workspace.thresholds`."""
        return self.folder / "thresholds.json"


@lru_cache(256)
def _classes_of(run: Run, stamp: tuple[str, int] | None) -> tuple[str, ...]:
    """As `Run.classes`, once for each state of its note."""
    if stamp is None:
        return ()
    try:
        with run.noted() as noted:
            return tuple(str(name) for name in noted["classes"])
    except UNREADABLE:
        return ()
