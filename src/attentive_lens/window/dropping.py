"""What somebody drops on a window."""

from __future__ import annotations

from pathlib import Path

from PyQt6.QtGui import QDropEvent


def dropped_place(event: QDropEvent) -> Path | None:
    """The first file or folder of this machine that is dropped, if any."""
    data = event.mimeData()
    for url in data.urls() if data is not None else []:
        if url.isLocalFile():
            return Path(url.toLocalFile())
    return None
