"""Whether a map can be believed: small figures on its face, each with its limit and its sentence on demand."""

from __future__ import annotations

from dataclasses import dataclass
from functools import partial

from PyQt6.QtCore import pyqtSignal
from PyQt6.QtWidgets import QHBoxLayout, QPushButton, QSizePolicy, QWidget

from attentive_lens.desk.requests.explaining import Completeness, Curve, MapOfClass, TrustChecks
from attentive_lens.window import look
from attentive_lens.window.parts.basics import button, retire, set_role, vertical
from attentive_lens.window.words import percent


@dataclass(frozen=True)
class Figure:
    """A measured figure: its words on the chip, whether it passes (None where that cannot be told), its sentence."""

    name: str
    words: str
    passed: bool | None
    sentence: str


class TrustChips(QWidget):
    """The figures of one map; a click on one tells its sentence.

    Signals
    -------
    told
        A sentence, or nothing when the chip is taken back.
    """

    sentence_chosen = pyqtSignal(str)

    def __init__(self, key: str) -> None:
        super().__init__()
        self.key = key
        self.setObjectName(f"trust {key}")
        self.setSizePolicy(QSizePolicy.Policy.Ignored, QSizePolicy.Policy.Preferred)
        self.figures: tuple[Figure, ...] = ()
        self._chips: list[QPushButton] = []
        inside = vertical(self, spacing=4)
        self._rows = (QHBoxLayout(), QHBoxLayout())
        for row in self._rows:
            row.setSpacing(3)
            row.addStretch()
            inside.addLayout(row)

    def show_figures(self, first: tuple[Figure, ...], measured: tuple[Figure, ...] = ()) -> None:
        """Those that come with the map, and those that were measured when asked for."""
        self.figures = (*first, *measured)
        for chip in self._chips:
            retire(chip)
        self._chips = []
        for row, figures in zip(self._rows, (first, measured), strict=True):
            for place, figure in enumerate(figures):
                chip = button(figure.words, f"{figure.name} {self.key}", figure.sentence, lambda: None, True)
                chip.clicked.connect(partial(self._tell, chip, figure))
                set_role(chip, {True: "chip good", False: "chip warn", None: "chip"}[figure.passed])
                chip.setFont(look.font(look.SMALL))
                chip.setAccessibleDescription(figure.sentence)
                row.insertWidget(place, chip)
                self._chips.append(chip)

    def _tell(self, chip: QPushButton, figure: Figure) -> None:
        for other in self._chips:
            other.setChecked(other is chip and chip.isChecked())
        self.sentence_chosen.emit(figure.sentence if chip.isChecked() else "")


def first_figures(map_: MapOfClass) -> tuple[Figure, ...]:
    """What comes with a map at once."""
    trust = map_.trust
    if trust.empty:
        return (Figure("empty", "zero everywhere", None, f"This method finds nothing that speaks for {map_.target}."),)
    if trust.deletion is None or trust.insertion is None:
        sentence = "The pixels the map marks are deleted and restored: the figures follow at once."
        return (Figure("measuring", "deleting …", None, sentence), *_sums(trust.completeness))
    if trust.passed is None:
        sentence = f"The answer {trust.answer:.3f} for {map_.target} leaves nothing to lose: no map of it can be tried."
        return (Figure("untold", "cannot be tried", None, sentence), *_sums(trust.completeness))
    return (*_curves(trust.deletion, trust.insertion), *_sums(trust.completeness))


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


def _curves(lost: Curve, gained: Curve) -> tuple[Figure, ...]:
    """Both areas beside their limits."""
    (deleted, most), (restored, least) = lost.figures, gained.figures
    return (
        Figure(
            "deletion",
            f"deletion {deleted}{'<' if lost.passed else '≥'}{most}",
            lost.passed,
            f"The answer's area while the pixels the map marks are deleted is {deleted}, must be below {most}, the best"
            " of twenty random maps.",
        ),
        Figure(
            "insertion",
            f"insertion {restored}{'>' if gained.passed else '≤'}{least}",
            gained.passed,
            f"The answer's area while the pixels the map marks are restored is {restored}, must be above {least}, the"
            " best of twenty random maps.",
        ),
    )


def _sums(sums: Completeness | None) -> tuple[Figure, ...]:
    """Whether a map's parts add up to what they should."""
    if sums is None:
        return ()
    sentence = f"The map's parts add up to {sums.sum:.2f} of {sums.expected:.2f}, {percent(sums.error)} off."
    return (Figure("sum", f"sum {percent(sums.error)}", None, sentence.replace("-", "\u2212")),)
