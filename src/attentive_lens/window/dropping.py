"""What somebody drops on a window."""

from __future__ import annotations

from pathlib import Path

from PyQt6.QtCore import QMimeData
from PyQt6.QtGui import QDropEvent


def dropped_place(event: QDropEvent) -> Path | None:
    """The first file or folder of this machine that is dropped, if any."""
    return next(iter(places_in(event.mimeData())), None)


def places_in(data: QMimeData | None) -> list[Path]:
    """Files and folders of this machine that are dropped or pasted."""
    return [Path(url.toLocalFile()) for url in data.urls() if url.isLocalFile()] if data is not None else []
