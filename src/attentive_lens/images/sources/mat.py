"""MAT files, versions 4 to 7.2."""

from __future__ import annotations

from functools import lru_cache
from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray

from attentive_lens.errors import BadFile
from attentive_lens.images.sources.arrays import ArraySource, Entry

_KINDS = {
    "int8": "i1",
    "uint8": "u1",
    "int16": "i2",
    "uint16": "u2",
    "int32": "i4",
    "uint32": "u4",
    "int64": "i8",
    "uint64": "u8",
    "single": "f4",
    "double": "f8",
    "logical": "?",
    "char": "U1",
    "cell": "O",
}


class MatFile(ArraySource):
    """Variables of a MAT file: images one a row or column, or stacked along the last axis.

    Its arrays are stored column by column, so an image kept in one line is usually turned; both ways are offered.
    The variables are read into memory whole.
    """

    title = "MAT file"
    turned = True

    @classmethod
    def recognises(cls, place: Path) -> bool:
        """By its ending."""
        return place.is_file() and place.suffix.lower() == ".mat"

    @classmethod
    def entries(cls, place: Path) -> list[Entry]:
        """Variables with numbers, texts or cells of texts."""
        from scipy.io import whosmat

        with _explained(place):
            return [
                Entry(name, place, tuple(int(n) for n in shape), np.dtype(_KINDS[kind]))
                for name, shape, kind in whosmat(str(place))
                if kind in _KINDS
            ]

    @classmethod
    def load(cls, entry: Entry) -> NDArray[Any]:
        """One variable; kept, for it is read whole."""
        return _loaded(entry.file, entry.name, entry.file.stat().st_mtime_ns)


@lru_cache(maxsize=4)
def _loaded(file: Path, name: str, changed: int) -> NDArray[Any]:
    from scipy.io import loadmat

    del changed
    with _explained(file):
        array = np.asarray(loadmat(str(file), variable_names=[name])[name])
    return np.char.strip(array) if array.dtype.kind == "U" else array


class _explained:  # noqa: N801  # used like a function
    """Turns whatever a damaged file raises into one sentence."""

    def __init__(self, file: Path) -> None:
        self.file = file

    def __enter__(self) -> None:
        return None

    def __exit__(self, kind: type[BaseException] | None, error: BaseException | None, trace: Any) -> None:
        del trace
        if isinstance(error, NotImplementedError):
            raise BadFile(
                f"{self.file} could not be read",
                "it is of version 7.3, which is another format",
                "Save it as version 7, or export NPZ",
            ) from None
        if isinstance(error, Exception):
            raise BadFile(
                f"{self.file} could not be read", f"it is damaged or no MAT file ({error})", "Replace it"
            ) from None
        del kind
