"""Saving what is drawn as a picture: SVG, whose lines and words stay such, or PNG at twice the size."""

from __future__ import annotations

from collections.abc import Callable
from functools import partial
from pathlib import Path
from typing import TypeAlias

import numpy as np
from numpy.typing import NDArray
from PyQt6.QtCore import QPoint, QRect, QSize, Qt
from PyQt6.QtGui import QImage, QPainter, QPalette
from PyQt6.QtSvg import QSvgGenerator
from PyQt6.QtWidgets import QFileDialog, QMenu, QWidget

from attentive_lens.errors import BadFile, BadUsage, LensError

SCALE, GAP = 2, 4
"""Times the size of a PNG, and pixels above what stands below."""
KINDS = (".svg", ".png")
Say: TypeAlias = Callable[[str, bool], None]
"""Gets a sentence, and whether it is bad news."""


def save_picture(widget: QWidget, file: Path, below: QWidget | None = None) -> None:
    """Write a widget as it is drawn now, and another one under it, as its scale.

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
    size = widget.size() + (QSize(0, below.height() + GAP) if below is not None else QSize(0, 0))
    if kind == ".svg":
        made = QSvgGenerator()
        made.setFileName(str(file))
        made.setSize(size)
        made.setViewBox(QRect(QPoint(0, 0), size))
        made.setTitle(widget.accessibleName())
        painter = QPainter()
        written = painter.begin(made)
        if written:
            _render(painter, widget, below)
            painter.end()
    else:
        picture = QImage(size * SCALE, QImage.Format.Format_RGB32)
        picture.setDevicePixelRatio(SCALE)
        picture.fill(widget.palette().color(QPalette.ColorRole.Window))
        painter = QPainter(picture)
        _render(painter, widget, below)
        painter.end()
        written = picture.save(str(file))
    if not written:
        raise BadFile(f"{file} could not be written", "nothing can be written there", "Name another file")


def _render(painter: QPainter, widget: QWidget, below: QWidget | None) -> None:
    widget.render(painter)
    if below is not None:
        below.render(painter, QPoint(0, widget.height() + GAP))


def save_values(array: NDArray[np.float32], file: Path) -> None:
    """Write an array as a NumPy file; `BadFile` if it cannot be written."""
    try:
        with file.open("wb") as stream:
            np.save(stream, array)
    except OSError as error:
        why = str(error.strerror or error).lower()
        raise BadFile(f"{file} could not be written", why, "Name another file") from None


def can_be_saved(
    widget: QWidget,
    name: str,
    say: Say,
    values: Callable[[], NDArray[np.float32] | None] | None = None,
    below: Callable[[], QWidget | None] = lambda: None,
) -> None:
    """A right click on a widget offers to save it, under this name unless another is chosen.

    ``say`` gets a sentence, and whether it is bad news; ``values`` gives what is drawn as an array, which is then
    offered as a NumPy file; ``below`` what stands under it in a picture, as its scale.
    """
    widget.setContextMenuPolicy(Qt.ContextMenuPolicy.CustomContextMenu)
    widget.customContextMenuRequested.connect(partial(_offer, widget, name, say, values, below))


def _offer(
    widget: QWidget,
    name: str,
    say: Say,
    values: Callable[[], NDArray[np.float32] | None] | None,
    below: Callable[[], QWidget | None],
    at: QPoint,
) -> None:
    menu = QMenu(widget)
    menu.setObjectName("picture menu")
    action = menu.addAction("Save as a picture …")
    if action is not None:
        action.triggered.connect(lambda _=False: ask_for_file(widget, name, say, below()))
    array = values() if values is not None else None
    if array is not None:
        saves = menu.addAction("Save its values …")
        if saves is not None:
            saves.triggered.connect(lambda _=False: ask_for_values(widget, name, say, array))
    menu.popup(widget.mapToGlobal(at))


def ask_for_values(widget: QWidget, name: str, say: Say, array: NDArray[np.float32]) -> None:
    """Save an array where somebody wants it, as a NumPy file."""
    chosen, _ = QFileDialog.getSaveFileName(widget, "Save its values", f"{name}.npy", "NumPy (*.npy)")
    if chosen:
        file = Path(chosen)
        file = file if file.suffix.lower() == ".npy" else file.with_name(f"{file.name}.npy")
        _saved(partial(save_values, array, file), file, say)


def ask_for_file(widget: QWidget, name: str, say: Say, below: QWidget | None = None) -> None:
    """Save a widget as a picture where somebody wants it."""
    chosen, _ = QFileDialog.getSaveFileName(widget, "Save as a picture", f"{name}.svg", "SVG (*.svg);;PNG (*.png)")
    if chosen:
        _saved(partial(save_picture, widget, Path(chosen), below), Path(chosen), say)


def _saved(save: Callable[[], None], file: Path, say: Say) -> None:
    """Save, and tell what became of it."""
    try:
        save()
    except LensError as error:
        say(str(error), True)
    else:
        say(f"Saved to {file}.", False)
