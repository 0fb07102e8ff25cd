"""Figures for reports and files, as SVG, PNG or PDF, drawn without a window: curves, calibration, confusion matrix."""

from __future__ import annotations

import logging
import os
from collections.abc import Sequence
from dataclasses import dataclass
from io import StringIO
from pathlib import Path
from typing import TYPE_CHECKING

import numpy as np

from attentive_lens.core.values import unknown_word
from attentive_lens.errors import BadFile, NotHere
from attentive_lens.scoring.drift import FEWEST, Drift, Shift
from attentive_lens.scoring.measures import Bin
from attentive_lens.scoring.scores import Scores

if TYPE_CHECKING:
    from matplotlib.axes import Axes
    from matplotlib.figure import Figure

INK, LINE, FAINT, SHEET = "#23292E", "#D9D3C7", "#5E6260", "#FCFAF5"
PETROL, VERMILION = "#0F6B72", "#B53A20"
KINDS = (".svg", ".png", ".pdf")
DOTS = 192
"""Dots an inch of a PNG."""
MOST_DAYS = 60
"""Days that a chart shows, the last ones."""
FEWEST_DAYS = 6
"""Days for which a chart has room."""
LONGEST = 28
"""Characters of a day's name."""
MOST_COUNTS, MOST_NAMES = 30, 120
"""Classes up to which the cells of a matrix have their counts, and its edges their names."""
STYLE = {
    "font.size": 9.0,
    "axes.edgecolor": LINE,
    "axes.facecolor": "none",
    "axes.labelcolor": FAINT,
    "axes.titlesize": 10.0,
    "axes.titleweight": "bold",
    "axes.titlelocation": "left",
    "axes.spines.top": False,
    "axes.spines.right": False,
    "text.color": INK,
    "xtick.color": FAINT,
    "ytick.color": FAINT,
    "xtick.major.size": 0.0,
    "ytick.major.size": 0.0,
    "grid.color": LINE,
    "axes.axisbelow": True,
    "legend.frameon": False,
    "text.parse_math": False,
    "svg.fonttype": "none",
    "svg.hashsalt": "attentive lens",
}


@dataclass(frozen=True)
class Curve:
    """A named line of points x, y, in a colour, dashed or not."""

    name: str
    points: Sequence[tuple[float, float]]
    colour: str
    dashed: bool = False


def _axes(wide: float, high: float, title: str) -> tuple[Figure, Axes]:
    """An empty figure of so many inches."""
    logging.getLogger("matplotlib").setLevel(logging.ERROR)  # a home it cannot write to is no news of ours
    from matplotlib import style
    from matplotlib.figure import Figure

    style.use(STYLE)
    figure = Figure((wide, high), layout="constrained")
    axes = figure.subplots()
    axes.set_title(title)
    return figure, axes


def by_epoch(title: str, curves: Sequence[Curve], as_percent: bool = False) -> Figure | None:
    """Curves over epochs; None where there is nothing to draw."""
    from matplotlib.ticker import MaxNLocator

    curves = [curve for curve in curves if len(curve.points)]
    if not curves:
        return None
    figure, axes = _axes(5.4, 2.2, title)
    for curve in curves:
        x, y = np.array(curve.points, np.float64).T
        axes.plot(x, y, color=curve.colour, linestyle="--" if curve.dashed else "-", label=curve.name)
        if len(x) == 1:
            axes.plot(x, y, "o", color=curve.colour, markersize=3)
    axes.set_ylim(0.0, 1.0 if as_percent else None)
    axes.xaxis.set_major_locator(MaxNLocator(integer=True))
    axes.set_xlabel("epoch")
    axes.grid(axis="y")
    axes.legend(loc="center left", bbox_to_anchor=(1.0, 0.5), labelcolor="linecolor")
    if as_percent:
        axes.yaxis.set_major_formatter(lambda value, _: f"{value:.0%}")
    return figure


def by_confidence(bins: Sequence[Bin], title: str = "Calibration") -> Figure | None:
    """How often answers are right by how sure they are, beside the line of as sure as right; None without any."""
    met = [(each.confidence, each.right / each.images) for each in bins if each.images and each.confidence is not None]
    if not met:
        return None
    figure, axes = _axes(3.4, 3.2, title)
    axes.plot([0, 1], [0, 1], "--", color=FAINT, linewidth=1)
    x, y = np.array(met, np.float64).T
    axes.plot(x, y, "o-", color=PETROL, markersize=5)
    axes.set(xlim=(0, 1), ylim=(0, 1), aspect="equal", xlabel="how sure", ylabel="right")
    axes.grid()
    for axis in (axes.xaxis, axes.yaxis):
        axis.set_major_formatter(lambda value, _: f"{value:.0%}")
    return figure


def counts_by_confidence(bins: Sequence[Bin]) -> Figure:
    """How many answers are how sure: right ones above, wrong ones below."""
    figure, axes = _axes(4.0, 3.2, "Answers by how sure")
    left, wide = [each.low for each in bins], [0.9 * (each.high - each.low) for each in bins]
    wrong = [each.images - each.right for each in bins]
    axes.bar(left, wrong, wide, align="edge", color=VERMILION, label="wrong")
    axes.bar(left, [each.right for each in bins], wide, bottom=wrong, align="edge", color=PETROL, label="right")
    axes.set(xlim=(0, 1), xlabel="how sure", ylabel="images")
    axes.xaxis.set_major_formatter(lambda value, _: f"{value:.0%}")
    axes.legend(loc="upper left", reverse=True)
    return figure


def confusion_matrix(scores: Scores) -> Figure:
    """Counts by true and predicted class, shaded by their part of the true class; right ones petrol."""
    counts, number = np.asarray(scores.confusion, np.float64), len(scores.classes)
    side = min(14.0, max(4.0, 1.5 + 0.45 * number))
    figure, axes = _axes(side, side, f"Confusion matrix, {scores.images} images")
    share = counts / np.maximum(1.0, counts.sum(axis=1, keepdims=True))
    full = np.where(np.eye(number, dtype=bool)[:, :, None], _rgb(PETROL), _rgb(VERMILION))
    axes.imshow(_rgb(SHEET) + (full - _rgb(SHEET)) * share[:, :, None], interpolation="nearest")
    axes.set(xlabel="said", ylabel="true")
    if number <= MOST_NAMES:
        size = min(9.0, 480.0 / number)
        axes.set_xticks(range(number), scores.classes, rotation=90, fontsize=size)
        axes.set_yticks(range(number), scores.classes, fontsize=size)
    for true, predicted in np.argwhere(counts > 0) if number <= MOST_COUNTS else ():
        ink = SHEET if share[true, predicted] > 0.5 else INK
        axes.text(predicted, true, f"{counts[true, predicted]:.0f}", ha="center", va="center", color=ink, fontsize=8)
    return figure


def drift_by_day(days: Sequence[Drift]) -> Figure | None:
    """How far each measure of each day's images is from that of held-out ones; None without a day of images enough.

    Vermilion is above the usual, petrol below; framed is what is more than chance. The network's features stand in one
    line, by the one that is farthest.
    """
    from matplotlib.patches import Rectangle

    days = [day for day in days if day.images >= FEWEST][-MOST_DAYS:]
    if not days:
        return None
    names = sorted(dict.fromkeys(_line_of(shift) for shift in days[0].shifts))
    figure, axes = _axes(max(5.0, 1.9 + 0.42 * len(days)), 1.9 + 0.26 * len(names), "Images beside held-out ones")
    for column, day in enumerate(days):
        for shift in reversed(day.shifts):  # the farthest of those in one line is drawn last
            row, high = names.index(_line_of(shift)), shift.deviations > 0
            colour = _rgb(SHEET) + (_rgb(VERMILION if high else PETROL) - _rgb(SHEET)) * min(1.0, shift.distance)
            edge = INK if shift.differs else SHEET
            axes.add_patch(Rectangle((column - 0.46, row - 0.42), 0.92, 0.84, facecolor=colour, edgecolor=edge))
        far = f"{day.unlike:.0%}"
        axes.text(column, len(names) + 0.1, far, ha="center", va="center", fontsize=7)
    axes.set(xlim=(-0.6, max(len(days), FEWEST_DAYS) - 0.4), ylim=(len(names) + 0.6, -0.6))
    size = 8.0 if len(days) < 20 else 7.0
    labels = [f"{name} ({day.images})" for name, day in zip(_own_parts([day.name for day in days]), days, strict=True)]
    axes.set_xticks(range(len(days)), labels, rotation=90, fontsize=size)
    axes.set_xlabel("vermilion above the usual · petrol below · framed: more than chance", fontsize=7)
    axes.set_yticks([*range(len(names)), len(names) + 0.1], [*names, "unlike training"], fontsize=8)
    for side in ("left", "bottom"):
        axes.spines[side].set_visible(False)
    return figure


def _own_parts(names: Sequence[str]) -> list[str]:
    """Names without the folders that all of them are in, the last `LONGEST` characters of each."""
    folders = {os.path.dirname(name) for name in names}  # noqa: PTH120  # of names, be they files' or not
    shared = len(folders.pop()) if len(folders) == 1 else 0
    own = [name[shared:].lstrip("/") for name in names]
    return [name if len(name) <= LONGEST else f"…{name[-LONGEST:]}" for name in own]


def _line_of(shift: Shift) -> str:
    return "features" if shift.is_feature else shift.measure


def _rgb(colour: str) -> np.ndarray[tuple[int], np.dtype[np.float64]]:
    return np.array([int(colour[k : k + 2], 16) / 255 for k in (1, 3, 5)])


def as_svg(figure: Figure | None, name: str) -> str:
    """A figure as SVG that can stand in a page, with a name for those who cannot see it; empty for none."""
    if figure is None:
        return ""
    written = StringIO()
    figure.savefig(written, format="svg", transparent=True, metadata={"Date": None, "Creator": None})
    words = written.getvalue()
    return words[words.index("<svg") :].replace("<svg ", f'<svg role="img" aria-label="{name}" ', 1)


def write_figures(folder: Path, scores: Scores) -> list[Path]:
    """Confusion matrix, calibration and confidence of a set, each as SVG, PNG and PDF, into a folder that is there.

    Raises
    ------
    BadFile
        If they cannot be written.
    """
    drawn = {"confusion-matrix": confusion_matrix(scores)}
    if scores.output != "none":
        bins = scores.measures.calibration
        drawn["confidence"] = counts_by_confidence(bins)
        calibrated = by_confidence(bins)
        drawn |= {"calibration": calibrated} if calibrated is not None else {}
    files = []
    for name, figure in drawn.items():
        for kind in KINDS:
            write_figure(folder / f"{name}{kind}", figure)
            files.append(folder / f"{name}{kind}")
    return files


def check_kind(file: Path) -> None:
    """Refuse a file whose ending is none of `KINDS`, with `BadUsage`."""
    if file.suffix.lower() not in KINDS:
        raise unknown_word("ending of --out", file.suffix or file.name, frozenset(KINDS))


def write_figure(file: Path, figure: Figure | None) -> None:
    """Write a figure as the file's ending says.

    Raises
    ------
    BadUsage
        If that is none of `KINDS`.
    NotHere
        If there is nothing to draw.
    BadFile
        If it cannot be written.
    """
    check_kind(file)
    if figure is None:
        raise NotHere(f"{file} was not written", "there are too few images to draw anything of", "Name more images")
    dated = {".svg": {"Date": None}, ".pdf": {"CreationDate": None}}.get(file.suffix.lower())
    try:
        figure.savefig(file, dpi=DOTS, facecolor=SHEET, metadata=dated)
    except OSError as error:
        why = str(error.strerror or error).lower()
        raise BadFile(f"{file} could not be written", why, "Name another folder") from None
