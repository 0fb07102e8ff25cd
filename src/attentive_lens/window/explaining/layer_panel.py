"""What the panels about one layer share: the plate that is chosen on the bench above them."""

from __future__ import annotations

from PyQt6.QtCore import pyqtSignal

from attentive_lens.window.bench.plates import Plate
from attentive_lens.window.explaining.panel import Panel
from attentive_lens.window.session import Session


class LayerPanel(Panel):
    """Base of the panels under the bench.

    Attributes
    ----------
    plate : Plate or None
        The one chosen.

    Signals
    -------
    layer_asked
        The node whose plate is to be chosen.
    """

    layer_asked = pyqtSignal(str)

    def __init__(self, session: Session) -> None:
        super().__init__(session)
        self.plate: Plate | None = None

    @property
    def layer(self) -> str:
        """The node whose output the plate shows; empty without one."""
        return self.plate.output if self.plate is not None else ""

    def show_plate(self, plate: Plate) -> None:
        """Another one is chosen."""
        if plate != self.plate:
            self.plate = plate
            self.plate_changed()

    def plate_changed(self) -> None:
        """Show what is known of it."""
