"""Whether the maps in view can be believed: one figure at once, the whole measurement when asked for."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

from PyQt6.QtWidgets import QVBoxLayout, QWidget

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
            "Measure it",
            "measure trust",
            "Deletion and insertion against random maps and edges, small noise, weights drawn anew, other methods.",
            measure,
        )
        inside.addWidget(self.measure)
        self.measured = label(role="faint", size=look.SMALL, name="measured trust")
        self.measured.setWordWrap(True)
        self.measured.hide()
        inside.addWidget(self.measured)

    def show_first(self, values: dict[str, Any]) -> None:
        """The figures that come with a map."""
        self.measured.hide()
        self.measure.setEnabled(True)
        self.measure.show()
        for key, line in self.lines.items():
            found, name = values["trust"][key], values[key]
            if found["empty"]:
                set_role(line, "warn")
                line.setText(f"{key}, {name}: the map is zero everywhere; nothing small changes this answer.")
            elif found["passed"] is None:
                set_role(line, "faint")
                line.setText(f"{key}, {name}: cannot be told; {found['before']:.3f} leaves nothing to lose.")
            else:
                set_role(line, "good" if found["passed"] else "warn")
                verdict = "yes" if found["passed"] else "no"
                line.setText(
                    f"{key}, {name}: {verdict}. Deleting what it marks leaves {found['marked_deleted']:.3f} of"
                    f" {found['before']:.3f}; deleting at random leaves {found['random_deleted']:.3f}."
                )
            if "sum" in found:
                line.setText(f"{line.text()} {_adding_up(found)}")

    def show_waiting(self) -> None:
        """The measurement is under way."""
        self.measure.setEnabled(False)
        self.measured.setText("Measuring …")
        self.measured.show()

    def show_measured(self, told: dict[str, Any]) -> None:
        """Every figure with its limit."""
        lines = []
        for key in ("said", "true"):
            own = told[key + "_map"]
            bend = own["curves"]
            verdict = {True: "passed", False: "not passed", None: "cannot be told"}[bend["passed"]]
            lines.append(
                f"{key}: {verdict}. Deletion {bend['deletion']:.2f}, must be below {bend['deletion_limit']:.2f};"
                f" insertion {bend['insertion']:.2f}, above {bend['insertion_limit']:.2f}. Under small noise alike to"
                f" {own['stability']:.2f}."
            )
            if "sum" in own:
                lines.append(_adding_up(own))
        anew = told["redrawn"]
        kept = "not passed" if not anew["passed"] else "passed"
        lines.append(
            f"All weights drawn anew: alike to {anew['everything']:.2f}, must be below {anew['limit']:.2f}: {kept}"
            f" ({anew['images']} images)."
        )
        most = sorted(told["agreement"].items(), key=lambda pair: -pair[1])
        lines.append("Like " + ", ".join(f"{key.replace('_', ' ')} {value:.2f}" for key, value in most[:4]) + ".")
        self.measured.setText("\n".join(lines))
        self.measure.hide()


def _adding_up(found: dict[str, Any]) -> str:
    """Whether a map's parts add up to what they should."""
    error = percent(found["completeness_error"])
    return f"Its parts add up to {found['sum']:.2f} of {found['should_sum_to']:.2f}, {error} off.".replace(
        "-", "\u2212"
    )
