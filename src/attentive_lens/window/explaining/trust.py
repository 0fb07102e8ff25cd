"""Whether a map can be believed: small figures on its face, each with its limit and its sentence on demand."""

from __future__ import annotations

from dataclasses import dataclass, replace
from functools import partial

import numpy as np
from numpy.typing import NDArray
from PyQt6.QtCore import QRectF, pyqtSignal
from PyQt6.QtGui import QPainter, QPaintEvent
from PyQt6.QtWidgets import QPushButton, QWidget

from attentive_lens.desk.requests.explaining import Completeness, Gain, MapOfClass, TrustChecks
from attentive_lens.window import look
from attentive_lens.window.parts.basics import button, label, retire, set_role
from attentive_lens.window.parts.flow import Flow
from attentive_lens.window.words import percent

BAR = 64
"""Pixels."""
OFF = 0.05
"""Part of its sum by which a map may be off without a figure of its own; its sentence stands with the gain's."""


@dataclass(frozen=True)
class Figure:
    """A measured figure: its words on the chip, whether it passes (None where that cannot be told), its sentence.

    A ``plain`` one is no chip: its words say all but what the mouse brings.
    """

    name: str
    words: str
    passed: bool | None
    sentence: str
    gain: Gain | None = None
    plain: bool = False


class GainBar(QWidget):
    """What a map gains as a part of what could be reached, with a mark for each thing it must gain more than."""

    def __init__(self, gain: Gain, sentence: str) -> None:
        super().__init__()
        self.gain = gain
        self.setObjectName("gain bar")
        self.setToolTip(sentence)
        self.setAccessibleName(sentence)
        self.setFixedSize(BAR, 14)

    def paintEvent(self, event: QPaintEvent | None) -> None:
        """Groove, gain, marks."""
        t, painter = look.theme, QPainter(self)
        painter.fillRect(QRectF(0, 4, self.width(), 6), t.colour("line"))
        role = "petrol" if self.gain.passed else "ochre"
        painter.fillRect(QRectF(0, 4, max(0.0, self.gain.share) * self.width(), 6), t.colour(role))
        for value in (self.gain.best_random, *self.gain.rivals.values()):
            x = max(0.0, self.gain.part(value)) * (self.width() - 2)
            painter.fillRect(QRectF(x, 1, 2, 12), t.colour("ink"))


class TrustChips(QWidget):
    """The figures of one map; a click on one tells its sentence.

    Parameters
    ----------
    key : str
        Which map's.
    last : QWidget or None
        Stands behind them.

    Signals
    -------
    sentence_chosen
        A sentence, or nothing when the chip is taken back.
    """

    sentence_chosen = pyqtSignal(str)

    def __init__(self, key: str, last: QWidget | None = None) -> None:
        super().__init__()
        self.key = key
        self.setObjectName(f"trust {key}")
        self.figures: tuple[Figure, ...] = ()
        self._chips: list[QWidget] = []
        self._last = last
        self._flow = Flow(self, spacing=3)

    def show_figures(self, first: tuple[Figure, ...], measured: tuple[Figure, ...] = ()) -> None:
        """Those that come with the map, and those that were measured when asked for."""
        self.figures = (*first, *measured)
        for chip in self._chips:
            retire(chip)
        self._chips = []
        for figure in self.figures:
            if figure.plain:
                words = label(figure.words, "faint", look.SMALL, name=f"{figure.name} {self.key}")
                words.setToolTip(figure.sentence)
                words.setAccessibleDescription(figure.sentence)
                self._chips.append(words)
                continue
            chip = button(figure.words, f"{figure.name} {self.key}", figure.sentence, lambda: None, True)
            chip.clicked.connect(partial(self._tell, chip, figure))
            set_role(chip, {True: "chip good", False: "chip warn", None: "chip"}[figure.passed])
            chip.setFont(look.font(look.SMALL))
            chip.setAccessibleDescription(figure.sentence)
            self._chips.append(chip)
            if figure.gain is not None:
                self._chips.append(GainBar(figure.gain, figure.sentence))
        for each in (*self._chips, *([self._last] if self._last is not None else [])):
            self._flow.removeWidget(each)
            self._flow.addWidget(each)

    def tall(self, width: int) -> int:
        """Pixels that they take at a width."""
        return self._flow.heightForWidth(width)

    def _tell(self, chip: QPushButton, figure: Figure) -> None:
        for other in self._chips:
            if isinstance(other, QPushButton):
                other.setChecked(other is chip and chip.isChecked())
        self.sentence_chosen.emit(figure.sentence if chip.isChecked() else "")


def first_figures(map_: MapOfClass) -> tuple[Figure, ...]:
    """What comes with a map at once."""
    trust = map_.trust
    if trust.empty:
        return (Figure("empty", "zero everywhere", None, f"This method finds nothing that speaks for {map_.target}."),)
    if trust.gain is None:
        sentence = "The pixels the map marks are deleted and restored: what it gains follows at once."
        return (Figure("measuring", "deleting …", None, sentence), *_sums(trust.completeness))
    gain, sums = _gain(trust.gain, map_), _sums(trust.completeness)
    if sums and trust.completeness is not None and trust.completeness.error <= OFF:
        return (replace(gain, sentence=f"{gain.sentence} {sums[0].sentence}"),)
    return (gain, *sums)


def inside_figures(map_: MapOfClass, covered: NDArray[np.float32] | None) -> tuple[Figure, ...]:
    """What of a map lies in the object, where that is known."""
    inside = map_.trust.inside
    if inside is None or covered is None:
        return ()
    area = float(covered.mean())
    sentence = (
        f"{percent(inside)} of what speaks for {map_.target} lies in the object, which is {percent(area)} of the image."
    )
    return (Figure("inside", f"object {inside:.0%}", None, sentence, plain=True),)


def _gain(gain: Gain, map_: MapOfClass) -> Figure:
    """What the map gains, beside what it must gain more than; or that this cannot be told."""
    pair = f"{map_.target} against {map_.against}"
    rivals = ", ".join(f"{name} {value:.2f}" for name, value in gain.rivals.items())
    others = f"random maps {gain.random:.2f} ± {gain.spread:.2f}, {rivals}".replace("-", "\u2212")
    if gain.passed is None:
        sentence = (
            f"Nothing in this image can be said to decide for {pair}: no order of its pixels gains much ({others})."
        )
        return Figure("gain", "cannot be told", None, sentence)
    sentence = (
        f"For {pair} the map's order of pixels gains {gain.value:.2f}, {percent(gain.share)} of what could be reached;"
        f" it must gain more than {gain.limit:.2f}: {others}."
    )
    digits = 1 if max(abs(gain.value), abs(gain.limit)) >= 10 else 2
    sign = ">" if gain.passed else "≤"
    words = f"gain {gain.value:.{digits}f}{sign}{gain.limit:.{digits}f}".replace("-", "\u2212")
    return Figure("gain", words, gain.passed, sentence, gain)


def measured_figures(map_: MapOfClass, checks: TrustChecks) -> tuple[Figure, ...]:
    """What was measured of a map when asked for."""
    own = next((check for check in checks.maps if check.key == map_.key), None)
    figures = []
    if own is not None:
        sentence = f"Under small noise the map keeps a rank correlation of {own.stability:.2f} with itself."
        figures.append(Figure("noise", f"noise {own.stability:.2f}", None, sentence))
    anew = checks.weight_randomisation
    sentence = (
        f"With all weights randomised the map's rank correlation with this one is {anew.all_layers:.2f}, must be below"
        f" {anew.limit:.2f} ({anew.images} images)."
    )
    words = f"randomised {anew.all_layers:.2f}{'<' if anew.passed else '≥'}{anew.limit:.2f}"
    figures.append(Figure("randomised", words.replace("-", "\u2212"), anew.passed, sentence))
    most = sorted(checks.agreement.items(), key=lambda pair: -pair[1])
    if most and map_.key == "predicted":
        alike = ", ".join(f"{key.replace('_', ' ')} {value:.2f}" for key, value in most[:4])
        sentence = f"Rank correlation with other methods' maps, the most alike: {alike}."
        figures.append(Figure("agreement", f"others {most[0][1]:.2f}", None, sentence))
    return tuple(figures)


def _sums(sums: Completeness | None) -> tuple[Figure, ...]:
    """Whether a map's parts add up to what they should."""
    if sums is None:
        return ()
    sentence = f"The map's parts add up to {sums.sum:.2f} of {sums.expected:.2f}, {percent(sums.error)} off."
    return (Figure("sum", f"sum {percent(sums.error)}", None, sentence.replace("-", "\u2212")),)
