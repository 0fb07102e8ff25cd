"""Which map is asked for: a method, and the settings of its kind."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from functools import partial
from typing import TypeAlias

from PyQt6.QtCore import pyqtSignal
from PyQt6.QtWidgets import QComboBox, QDoubleSpinBox, QInputDialog, QWidget

from attentive_lens.core.records import PlainTable
from attentive_lens.core.values import Spec, read_kind
from attentive_lens.desk.requests.explaining import CHANNEL, DEFAULT, MAP_METHODS, MapSettings
from attentive_lens.errors import LensError
from attentive_lens.plan.examination import Facts
from attentive_lens.plan.network import NetworkPlan
from attentive_lens.window import look
from attentive_lens.window.parts.basics import chooser, horizontal

NetworkFacts: TypeAlias = tuple[NetworkPlan, tuple[Facts, ...]]
ANOTHER = "another image …"


def settings_of(table: PlainTable) -> MapSettings:
    """As pinned evidence holds them; what is no method here, or no setting of one, is the usual one."""
    try:
        return read_kind("method", MAP_METHODS, {name: value for name, value in table.items() if name != "for"})
    except LensError:
        return DEFAULT


class MapChooser(QWidget):
    """A list of methods, and a list for each setting of the one chosen.

    Parameters
    ----------
    facts : callable
        The network that is asked, and its facts, as far as they are known.
    images : callable
        Count of images that one may be taken of as a baseline.
    channels : callable
        Names of the image's channels, where they have any of their own.

    Signals
    -------
    changed
        Another map is asked for.
    """

    changed = pyqtSignal()

    def __init__(
        self,
        facts: Callable[[], NetworkFacts | None],
        images: Callable[[], int],
        channels: Callable[[], Sequence[str]],
    ) -> None:
        super().__init__()
        self._facts, self._images, self._channels = facts, images, channels
        self.choice: MapSettings = DEFAULT
        self.row = horizontal(self, spacing=8)
        self.methods = self._box("method", "map method")
        for kind, method in MAP_METHODS.items():
            self.methods.addItem(method.label, kind)
        self.methods.activated.connect(lambda _: self._choose(MAP_METHODS[str(self.methods.currentData())]()))
        self.settings: dict[str, QComboBox | QDoubleSpinBox] = {}
        self.take(self.choice)

    def _box(self, name: str, words: str) -> QComboBox:
        box = chooser(name, words)
        self.row.addWidget(box)
        return box

    def take(self, choice: MapSettings) -> None:
        """Show a choice that was made elsewhere."""
        self.choice = choice
        self.methods.setCurrentIndex(self.methods.findData(choice.kind))
        self.methods.setToolTip(choice.tip)
        specs = choice.specs()
        for name in (*self.settings, *specs):
            if name not in self.settings:
                self.settings[name] = self._editor(name, choice.types()[name])
            is_idle = name in specs and specs[name].names == CHANNEL and not self._channels()
            self.settings[name].setVisible(name in specs and not (is_idle and not getattr(choice, name)))
        for name, known in specs.items():
            editor, value = self.settings[name], getattr(choice, name)
            if isinstance(editor, QComboBox):
                self._fill(editor, known, value)
            else:
                self._set(editor, known, float(value))

    def _editor(self, name: str, kind: type) -> QComboBox | QDoubleSpinBox:
        """A list for a word, a field for a number."""
        if kind is str:
            box = self._box(f"map {name}", f"{name} of the map method")
            box.activated.connect(partial(self._choose_setting, name))
            return box
        field = QDoubleSpinBox()
        field.setObjectName(f"map {name}")
        field.setAccessibleName(f"{name} of the map method")
        field.setFont(look.font())
        field.setDecimals(0 if kind is int else 3)
        field.setKeyboardTracking(False)
        field.valueChanged.connect(lambda value: self._choose(self.choice.with_(**{name: kind(value)})))
        self.row.addWidget(field)
        return field

    def _set(self, field: QDoubleSpinBox, known: Spec, value: float) -> None:
        """Show a number without telling that it changed."""
        field.blockSignals(True)
        field.setToolTip(known.meaning)
        field.setPrefix(f"{known.label} ")
        field.setRange(-1e9 if known.low is None else known.low, 1e9 if known.high is None else known.high)
        field.setValue(value)
        field.blockSignals(False)

    def _fill(self, box: QComboBox, known: Spec, value: object) -> None:
        box.clear()
        box.setToolTip(known.meaning)
        offered, usual = {
            "layer with maps": (self._layers, "at the last maps"),
            CHANNEL: (self._channels, "of all channels"),
        }.get(known.names, (list, ""))
        words = [*known.offers, *known.choices, *offered()]
        for word in words if value in words else [*words, str(value)]:
            box.addItem(f"{known.label} {word}" if word else usual, word)
        if known.names == "image" and self._images():
            box.addItem(ANOTHER, ANOTHER)
        box.setCurrentIndex(box.findData(value))

    def _layers(self) -> list[str]:
        known = self._facts()
        if known is None:
            return []
        network, facts = known
        names = {node.name for node in network.nodes}
        return [fact.name for fact in reversed(facts) if len(fact.shape) == 3 and fact.name in names]

    def _choose(self, choice: MapSettings) -> None:
        self.take(choice)
        self.changed.emit()

    def _choose_setting(self, name: str, _: int) -> None:
        box = self.settings[name]
        word = str(box.currentData() or "") if isinstance(box, QComboBox) else ""
        if word == ANOTHER:
            images = self._images()
            number, chosen = QInputDialog.getInt(
                self, "Another image as the baseline", "Number of the baseline image:", 1, 1, max(1, images)
            )
            word = f"image {number}" if chosen else getattr(self.choice, name)
        self._choose(self.choice.with_(**{name: word}))
