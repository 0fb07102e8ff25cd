"""Whether the maps in view can be believed: one figure at once, the whole measurement when asked for."""

from __future__ import annotations

from collections.abc import Callable

from PyQt6.QtWidgets import QVBoxLayout, QWidget

from attentive_lens.desk.requests.explaining import Completeness, Curve, Explanation, TrustChecks
from attentive_lens.window import look
from attentive_lens.window.parts.basics import button, label, set_role
from attentive_lens.window.words import percent


class TrustPanel(QWidget):
    """Lines for *said* and *true*, and what was measured.

    Parameters
    ----------
    measure : callable
        Asks for the whole measurement.
    """

    def __init__(self, measure: Callable[[], None]) -> None:
        super().__init__()
        inside = QVBoxLayout(self)
        inside.setContentsMargins(0, 0, 0, 0)
        inside.setSpacing(6)
        inside.addWidget(label("Can these maps be trusted?", strong=True))
        self.lines = {}
        for key in ("said", "true"):
            line = label(name=f"trust {key}")
            line.setWordWrap(True)
            inside.addWidget(line)
            self.lines[key] = line
        self.measure = button(
            "Run all trust checks",
            "measure trust",
            "Deletion and insertion against random maps and edges, small noise, randomised weights, other methods.",
            measure,
        )
        inside.addWidget(self.measure)
        self.measured = label(role="faint", size=look.SMALL, name="measured trust")
        self.measured.setWordWrap(True)
        self.measured.hide()
        inside.addWidget(self.measured)

    def show_first(self, explanation: Explanation) -> None:
        """The figures that come with a map."""
        self.measured.hide()
        self.measure.setEnabled(True)
        self.measure.setVisible(explanation.image is not None)
        for each in self.lines.values():
            each.setText("")
        for map_ in explanation.maps:
            line, trust = self.lines.get(map_.key), map_.trust
            if line is None:
                continue
            name, lost, gained = f"{map_.key}, {map_.target}", trust.deletion, trust.insertion
            if trust.empty:
                set_role(line, "warn")
                line.setText(f"{name}: the map is zero everywhere: this method finds nothing that speaks for it.")
            elif trust.passed is None:
                set_role(line, "faint")
                line.setText(f"{name}: cannot be told; {trust.answer:.3f} leaves nothing to lose.")
            else:
                set_role(line, "good" if trust.passed else "warn")
                line.setText(f"{name}: {'passes' if trust.passed else 'fails'}. {_both(lost, gained)}.")
            if trust.completeness is not None:
                line.setText(f"{line.text()} {_adding_up(trust.completeness)}")

    def show_waiting(self) -> None:
        """The measurement is under way."""
        self.measure.setEnabled(False)
        self.measured.setText("Measuring …")
        self.measured.show()

    def show_measured(self, checks: TrustChecks) -> None:
        """Every figure with its limit."""
        words = {True: "passes", False: "fails", None: "cannot be told"}
        lines = []
        for check in checks.maps:
            lines.append(
                f"{check.key}: {words[check.passed]}. {_both(check.deletion, check.insertion)}."
                f" Rank correlation under small noise {check.stability:.2f}."
            )
            if check.completeness is not None:
                lines.append(_adding_up(check.completeness))
        anew = checks.weight_randomisation
        lines.append(
            f"All weights randomised: rank correlation {anew.all_layers:.2f}, must be below {anew.limit:.2f}:"
            f" {words[anew.passed]} ({anew.images} images)."
        )
        most = sorted(checks.agreement.items(), key=lambda pair: -pair[1])
        alike = ", ".join(f"{key.replace('_', ' ')} {value:.2f}" for key, value in most[:4])
        lines.append(f"Most like {alike}.")
        self.measured.setText("\n".join(lines))
        self.measure.hide()


def _both(lost: Curve, gained: Curve) -> str:
    """Both areas beside their limits."""
    (deleted, most), (restored, least) = lost.figures, gained.figures
    return f"Deletion {deleted}, must be below {most}; insertion {restored}, above {least}"


def _adding_up(sums: Completeness) -> str:
    """Whether a map's parts add up to what they should."""
    words = f"Its parts add up to {sums.sum:.2f} of {sums.expected:.2f}, {percent(sums.error)} off."
    return words.replace("-", "\u2212")
