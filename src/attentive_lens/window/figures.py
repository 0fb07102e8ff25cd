"""The figures of a set's scores as files, drawn as the Results stage draws them."""

from __future__ import annotations

from pathlib import Path

import numpy as np
from PyQt6.QtWidgets import QWidget

from attentive_lens.scoring.measures import calibration
from attentive_lens.scoring.scores import Scores
from attentive_lens.window.application import make_application
from attentive_lens.window.parts.matrix import ConfusionMatrix
from attentive_lens.window.parts.saving import KINDS, save_picture
from attentive_lens.window.parts.unit_square import UnitSquare
from attentive_lens.window.results.confidence import BinBars, calibration_lines

LEAST, CELL, MOST = 480, 64, 1400
"""Pixels of a matrix, and of one of its cells."""


def write_figures(folder: Path, scores: Scores) -> list[Path]:
    """Confusion matrix, calibration and confidence of a set, each as SVG and PNG, into a folder that is there.

    Raises
    ------
    BadFile
        If they cannot be written.
    """
    application = make_application()
    drawn: dict[str, QWidget] = {"confusion-matrix": _matrix(scores)}
    if scores.output != "none":
        square = UnitSquare("Calibration", "how sure", "right", "calibration figure")
        square.show_lines(calibration_lines(scores), "dashed: as sure as right")
        bars = BinBars()
        bars.show_bins(calibration(scores))
        square.resize(LEAST, LEAST - 60)
        bars.resize(LEAST, LEAST - 60)
        drawn |= {"calibration": square, "confidence": bars}
    files = []
    for name, widget in drawn.items():
        for kind in KINDS:
            files.append(folder / f"{name}{kind}")
            save_picture(widget, files[-1])
    application.processEvents()
    return files


def _matrix(scores: Scores) -> ConfusionMatrix:
    matrix = ConfusionMatrix()
    side = min(MOST, max(LEAST, CELL * len(scores.classes)))
    matrix.resize(side + 160, side + 60)
    matrix.show_counts(scores.classes, np.asarray(scores.confusion))
    return matrix
