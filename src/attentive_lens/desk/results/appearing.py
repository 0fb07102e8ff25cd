"""Images that appear in a folder, answered as they come, each answer being written beside its image.

The folder is looked through again and again: what instruments write into shared folders of other machines announces
itself to nobody.
"""

from __future__ import annotations

import io
import json
import os
import time
from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass, field
from datetime import date
from pathlib import Path

import numpy as np
from numpy.typing import NDArray
from PIL import Image

from attentive_lens.core.files import replacing, shown
from attentive_lens.core.records import without_arrays
from attentive_lens.desk.map_colours import over_image
from attentive_lens.desk.requests.models import Prediction, Unreadable
from attentive_lens.desk.results.answering import Answering
from attentive_lens.errors import BadFile, LensError
from attentive_lens.images.ahead import Read, read_ahead
from attentive_lens.images.decoding import suffixes
from attentive_lens.images.pages import SIGN, each_page, page_name
from attentive_lens.images.pixel_format import PixelArray

ANSWER, MAP = ".answer.json", ".map.png"
"""Endings that are added to an image's name for what is written beside it."""
SETTLED = 1.0
"""Seconds for which a file must not have changed to be whole."""

Told = Prediction | Unreadable
Growing = dict[str, tuple[int, int]]
"""Files that are still being written, with their sizes and times of change."""


@dataclass
class Appearing:
    """Image files of a folder, and of those in it, that are whole and have no answer yet.

    Attributes
    ----------
    folder : Path
    is_done : callable, optional
        Whether a file has its answer. Without it an answer is looked for beside the image, and one that is older than
        its image counts for nothing.
    changed : dict
        When each file of the last scan was written, in nanoseconds.
    """

    folder: Path
    is_done: Callable[[str], bool] | None = None
    changed: dict[str, int] = field(default_factory=dict)
    _growing: Growing = field(default_factory=dict)

    def scan(self) -> list[str]:
        """Those that are there now, by folder and name; what is still being written is left for the next time.

        Raises
        ------
        BadFile
            If the folder cannot be looked through.
        """
        whole: list[str] = []
        growing: Growing = {}
        self.changed = {}
        try:
            self._look_into(str(self.folder), whole, growing)
        except OSError as error:
            why = str(error.strerror or error).lower()
            raise BadFile(f"{self.folder} could not be looked through", why, "Check the folder") from None
        self._growing = growing
        return whole

    @property
    def waits(self) -> bool:
        """Whether files were seen that are still being written."""
        return bool(self._growing)

    def _look_into(self, folder: str, whole: list[str], growing: Growing) -> None:
        with os.scandir(folder) as entries:
            known = {entry.name: entry for entry in entries}
        inner = []
        for name in sorted(known):
            entry = known[name]
            if entry.is_dir(follow_symlinks=False):
                inner.append(entry.path)
            elif _is_image(name, known) and entry.is_file():
                answer = known.get(name + ANSWER) or known.get(page_name(name, 1) + ANSWER)
                self._look_at(entry, answer, whole, growing)
        for each in inner:
            try:
                self._look_into(each, whole, growing)
            except OSError:  # it went, or is nobody's business here: the others are looked through all the same
                continue

    def _look_at(
        self,
        entry: os.DirEntry[str],
        answer: os.DirEntry[str] | None,
        whole: list[str],
        growing: Growing,
    ) -> None:
        if self.is_done is not None and (self.is_done(entry.path) or self.is_done(page_name(entry.path, 1))):
            return
        try:
            status = entry.stat()
            if self.is_done is None and answer is not None and answer.stat().st_mtime_ns >= status.st_mtime_ns:
                return
        except OSError:  # it went meanwhile
            return
        now = (status.st_size, status.st_mtime_ns)
        if self._growing.get(entry.path) == now or time.time() - status.st_mtime > SETTLED:
            whole.append(entry.path)
            self.changed[entry.path] = status.st_mtime_ns
        else:
            growing[entry.path] = now


def _is_image(name: str, known: dict[str, os.DirEntry[str]]) -> bool:
    """Whether it ends as an image does, is not hidden, as files that are being copied are, and no map beside one."""
    beside = name.removesuffix(MAP)
    if name.startswith(".") or (beside != name and (beside in known or beside.rpartition(SIGN)[0] in known)):
        return False
    return os.path.splitext(name)[1].lower() in suffixes()  # noqa: PTH122  # fast


def answers_as_they_come(
    answering: Answering, appearing: Appearing, seconds: float, once: bool = False
) -> Iterator[list[Told]]:
    """Answers to what is there and what appears, a batch at a time; an empty one where nothing new was seen.

    Parameters
    ----------
    answering : Answering
        Who answers; images are counted under today's name where it counts them.
    appearing : Appearing
        Where images appear.
    seconds : float
        Between two looks, at least; a look that takes long is waited for four times as long.
    once : bool
        Whether it ends when all that is there has been answered.

    Raises
    ------
    BadFile
        If the folder cannot be looked through the first time; later it is waited for.
    """
    began = False
    while True:
        at = time.monotonic()
        try:
            files = appearing.scan()
            began = True
        except BadFile:
            if not began or once:
                raise
            files = []
        took = time.monotonic() - at
        for read in read_ahead(answering.model.preprocessor, _pages(answering, files)):
            yield _answered(answering, read)
        if not files:
            if once and not appearing.waits:
                return
            yield []
            time.sleep(max(seconds, 4 * took))


def _pages(answering: Answering, files: Sequence[str]) -> Iterator[str]:
    """The images in files; of those with several pages the first comes last, and its answer says that all have one."""
    for file in files:
        yield from reversed(list(each_page([file], answering.model.preprocessor.pixel_format)))


def _answered(answering: Answering, read: Read) -> list[Told]:
    """Answers to a batch; where the model gives none to one of its images, that one has the reason."""
    day = date.today().isoformat() if answering.days is not None else ""  # noqa: DTZ011  # the day here
    try:
        return answering.answer(read, day)
    except LensError as error:
        if len(read) == 1:
            return [Unreadable(read[0].name, error.why)]
        return [answer for each in read for answer in _answered(answering, [each])]


def write_beside(answer: Told, model: str, changed: int) -> None:
    """Write an answer beside its image, whole or not at all: what `predict --json` says, and the model's name.

    It is dated as its image was when that was looked at, whatever the clocks of the machines say: an image that is
    written anew later is later than its answer.

    Raises
    ------
    BadFile
        If it cannot be written.
    """
    entry = {**without_arrays(answer), "file": shown(Path(answer.file).name), "model": model}
    line = json.dumps(entry, ensure_ascii=False, allow_nan=False) + "\n"
    _write(Path(answer.file + ANSWER), line.encode(), changed)


def draw_beside(file: str, pixels: PixelArray, map_: NDArray[np.float32]) -> None:
    """Write a map H×W beside its image: the image H×W×C, and the map over it; `BadFile` if that cannot be done."""
    stream = io.BytesIO()
    Image.fromarray(over_image(pixels, map_)).save(stream, "PNG")
    _write(Path(file + MAP), stream.getvalue())


def _write(file: Path, data: bytes, changed: int | None = None) -> None:
    try:
        with replacing(file) as part:
            part.write_bytes(data)
            if changed is not None:
                os.utime(part, ns=(changed, changed))
    except OSError as error:
        why = str(error.strerror or error).lower()
        raise BadFile(f"{file} could not be written", why, "Name a file for all answers with --out") from None
