"""Saving what is drawn as a picture: SVG, whose lines and words stay such, or PNG at twice the size."""

from __future__ import annotations

from collections.abc import Callable
from functools import partial
from pathlib import Path

import numpy as np
from numpy.typing import NDArray
from PyQt6.QtCore import QPoint, QRect, QSize, Qt
from PyQt6.QtGui import QImage, QPainter
from PyQt6.QtSvg import QSvgGenerator
from PyQt6.QtWidgets import QFileDialog, QMenu, QWidget

from attentive_lens.errors import BadFile, BadUsage, LensError

SCALE = 2
KINDS = (".svg", ".png")


def save_picture(widget: QWidget, file: Path) -> None:
    """Write a widget as it is drawn now.

    Raises
    ------
    BadUsage
        If the file's ending is none of `KINDS`.
    BadFile
        If it cannot be written.
    """
    kind = file.suffix.lower()
    if kind not in KINDS:
        raise BadUsage(f"{file} was not written", "its ending is neither .svg nor .png", "Name it so")
    written = True
    if kind == ".svg":
        made = QSvgGenerator()
        made.setFileName(str(file))
        made.setSize(widget.size())
        made.setViewBox(QRect(QPoint(0, 0), widget.size()))
        made.setTitle(widget.accessibleName())
        painter = QPainter()
        written = painter.begin(made)
        if written:
            widget.render(painter)
            painter.end()
    else:
        size = widget.size() * SCALE
        picture = QImage(QSize(size.width(), size.height()), QImage.Format.Format_RGB32)
        picture.setDevicePixelRatio(SCALE)
        painter = QPainter(picture)
        widget.render(painter)
        painter.end()
        written = picture.save(str(file))
    if not written:
        raise BadFile(f"{file} could not be written", "nothing can be written there", "Name another file")


def can_be_saved(widget: QWidget, name: str, values: Callable[[], NDArray[np.float32] | None] | None = None) -> None:
    """A right click on a widget offers to save it, under this name unless another is chosen.

    ``values`` gives what is drawn as an array, which is then offered as a NumPy file.
    """
    widget.setContextMenuPolicy(Qt.ContextMenuPolicy.CustomContextMenu)
    widget.customContextMenuRequested.connect(partial(_offer, widget, name, values))


def _offer(widget: QWidget, name: str, values: Callable[[], NDArray[np.float32] | None] | None, at: QPoint) -> None:
    menu = QMenu(widget)
    menu.setObjectName("picture menu")
    action = menu.addAction("Save as a picture …")
    if action is not None:
        action.triggered.connect(lambda _=False: ask_for_file(widget, name))
    array = values() if values is not None else None
    if array is not None:
        saves = menu.addAction("Save its values …")
        if saves is not None:
            saves.triggered.connect(lambda _=False: ask_for_values(widget, name, array))
    menu.popup(widget.mapToGlobal(at))


def ask_for_values(widget: QWidget, name: str, array: NDArray[np.float32]) -> None:
    """Save an array where somebody wants it, as a NumPy file."""
    chosen, _ = QFileDialog.getSaveFileName(widget, "Save its values", f"{name}.npy", "NumPy (*.npy)")
    if not chosen:
        return
    file = Path(chosen)
    file = file if file.suffix.lower() == ".npy" else file.with_name(f"{file.name}.npy")
    try:
        with file.open("wb") as stream:
            np.save(stream, array)
    except OSError as error:
        widget.setToolTip(f"{file} could not be written: {str(error.strerror or error).lower()}. Name another file.")


def ask_for_file(widget: QWidget, name: str, say: Callable[[str, bool], None] | None = None) -> None:
    """Save a widget where somebody wants it; ``say`` gets a sentence, and whether it is bad news."""
    chosen, _ = QFileDialog.getSaveFileName(widget, "Save as a picture", f"{name}.svg", "SVG (*.svg);;PNG (*.png)")
    if not chosen:
        return
    try:
        save_picture(widget, Path(chosen))
    except LensError as error:
        (say or (lambda sentence, _: widget.setToolTip(sentence)))(str(error), True)
    else:
        if say is not None:
            say(f"Saved to {chosen}.", False)
