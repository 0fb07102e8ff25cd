"""Files of pictures, opened: once where pages of one are read one after the other."""

from __future__ import annotations

import threading
import warnings
from collections.abc import Callable, Iterator
from contextlib import AbstractContextManager, ExitStack, contextmanager
from pathlib import Path
from typing import Any, TypeAlias

from PIL import Image

_Opener: TypeAlias = Callable[[Path], AbstractContextManager[Any]]


class _Open(threading.local):
    """What this thread holds open: for each way to open a file, which file it is, and the file itself."""

    def __init__(self) -> None:
        self.wanted = 0
        self.files: dict[_Opener, tuple[tuple[int, ...], Any, ExitStack]] = {}

    def close(self, opener: _Opener) -> None:
        _, _, stack = self.files.pop(opener, ((), None, ExitStack()))
        stack.close()


_open = _Open()


@contextmanager
def keeping_open() -> Iterator[None]:
    """Within it a file with several pages stays open until the next one, so that it is looked through once.

    To come to its last page some formats have to be read from the beginning.
    """
    _open.wanted += 1
    try:
        yield
    finally:
        _open.wanted -= 1
        if not _open.wanted:
            for opener in list(_open.files):
                _open.close(opener)


@contextmanager
def opened_picture(file: Path) -> Iterator[Image.Image]:
    """A picture as Pillow opens it, at any of its frames."""
    with warnings.catch_warnings():
        warnings.simplefilter("ignore")
        with _opened(file, Image.open, _has_more) as picture:
            yield picture


def _has_more(picture: Image.Image) -> bool:
    """Whether it has several frames, and can be gone back in: in an animated PNG that fails the second time."""
    return picture.format != "PNG" and getattr(picture, "n_frames", 1) > 1


@contextmanager
def opened_tiff(file: Path) -> Iterator[Any]:
    """A TIFF as tifffile opens it."""
    with _opened(file, _tiff, lambda tiff: len(tiff.pages) > 1) as tiff:
        yield tiff


@contextmanager
def _tiff(file: Path) -> Iterator[Any]:
    import tifffile  # only here: nothing else needs it

    with file.open("rb") as stream, tifffile.TiffFile(stream, name=file.name) as tiff:  # a path would be resolved first
        yield tiff


@contextmanager
def _opened(file: Path, opener: _Opener, has_more: Callable[[Any], bool]) -> Iterator[Any]:
    if not _open.wanted:
        with opener(file) as opened:
            yield opened
        return
    status = file.stat()
    key = (status.st_dev, status.st_ino, status.st_size, status.st_mtime_ns)
    if opener not in _open.files or _open.files[opener][0] != key:
        _open.close(opener)
        stack = ExitStack()
        _open.files[opener] = (key, stack.enter_context(opener(file)), stack)
    opened = _open.files[opener][1]
    try:
        yield opened
        more = has_more(opened)
    except BaseException:
        _open.close(opener)
        raise
    if not more:
        _open.close(opener)
