"""Small files written whole or not at all."""

from __future__ import annotations

import os
from pathlib import Path

from attentive_lens.errors import BadFile


def write_text(file: Path, text: str) -> None:
    """Write a text file: under another name, to disk, then in place of what stood there.

    Raises
    ------
    BadFile
        If the folder cannot be written or the disk is full; what stood there before stays.
    """
    own = file.with_name(f".{file.name}.{os.getpid()}")
    try:
        with own.open("w", encoding="utf-8") as stream:
            stream.write(text)
            stream.flush()
            os.fsync(stream.fileno())
        own.replace(file)
    except OSError as error:
        own.unlink(missing_ok=True)
        why = str(error.strerror or error).lower()
        raise BadFile(f"{file} could not be written", why, "Name a file in a folder you may write in") from None
