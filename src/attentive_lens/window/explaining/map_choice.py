"""Which map is asked for: method, where it begins or whose layer it weighs."""

from __future__ import annotations

from dataclasses import dataclass

from PyQt6.QtCore import pyqtSignal
from PyQt6.QtWidgets import QComboBox, QHBoxLayout, QInputDialog, QWidget

from attentive_lens.core.records import PlainTable
from attentive_lens.desk.requests.explaining import BASELINES, DEFAULT, METHOD_FACTS
from attentive_lens.window import look
from attentive_lens.window.parts.basics import label
from attentive_lens.window.session import Session

BEGINS, WEIGHS = "integrated_gradients", "class_activation"
ANOTHER = "another image …"


@dataclass(frozen=True)
class MapChoice:
    """A method with its settings, as `Explain` takes them."""

    method: str = DEFAULT
    baseline: str = ""
    layer: str = ""

    def write(self) -> PlainTable:
        """As plain values, what is left out left out."""
        settings: PlainTable = {"method": self.method}
        if self.baseline:
            settings["baseline"] = self.baseline
        if self.layer:
            settings["layer"] = self.layer
        return settings

    @classmethod
    def read(cls, settings: PlainTable) -> MapChoice:
        """As `write` gave it; another method than those there are is the default."""
        method = str(settings.get("method", DEFAULT))
        if method not in METHOD_FACTS:
            method = DEFAULT
        return cls(method, str(settings.get("baseline", "")), str(settings.get("layer", "")))

    @property
    def words(self) -> str:
        """In a sentence."""
        more = f" from {self.baseline}" if self.baseline else f" at {self.layer}" if self.layer else ""
        return METHOD_FACTS[self.method].label + more


class MapChooser(QWidget):
    """A list of methods, and a list of what the chosen one can be told besides.

    Signals
    -------
    changed
        Another map is asked for.
    """

    changed = pyqtSignal()

    def __init__(self, session: Session) -> None:
        super().__init__()
        self.session = session
        self.choice = MapChoice()
        row = QHBoxLayout(self)
        row.setContentsMargins(0, 0, 0, 0)
        row.setSpacing(8)
        row.addWidget(label("Map", "faint"))
        self.methods, self.more = QComboBox(), QComboBox()
        for box, name, shown in ((self.methods, "method", "map method"), (self.more, "map setting", "map setting")):
            box.setObjectName(name)
            box.setAccessibleName(shown)
            box.setFont(look.font())
            row.addWidget(box)
        for key, method in METHOD_FACTS.items():
            self.methods.addItem(method.label, key)
        self.methods.activated.connect(lambda _: self._choose_method())
        self.more.activated.connect(lambda _: self._choose_setting())
        self.take(self.choice)

    def take(self, choice: MapChoice) -> None:
        """Show a choice that was made elsewhere."""
        self.choice = choice
        self.methods.setCurrentIndex(self.methods.findData(choice.method))
        facts = METHOD_FACTS[choice.method]
        self.methods.setToolTip(f"{facts.shows} {facts.misleads} It costs {facts.cost}.")
        self.more.setVisible(choice.method in (BEGINS, WEIGHS))
        self.more.clear()
        if choice.method == BEGINS:
            self.more.setToolTip("Where the way to the image begins: what is there already adds nothing.")
            self._fill({"from blurred": "", **{f"from {name}": name for name in BASELINES[1:]}, ANOTHER: ANOTHER})
            self._show(choice.baseline, f"from {choice.baseline}")
        elif choice.method == WEIGHS:
            self.more.setToolTip("The layer whose maps are weighed: an earlier one is finer and knows less.")
            self._fill({"the last maps": "", **{name: name for name in self._layers()}})
            self._show(choice.layer, choice.layer)

    def _fill(self, entries: dict[str, str]) -> None:
        for words, key in entries.items():
            self.more.addItem(words, key)

    def _show(self, key: str, words: str) -> None:
        if self.more.findData(key) < 0:
            self.more.addItem(words, key)
        self.more.setCurrentIndex(self.more.findData(key))

    def _layers(self) -> list[str]:
        known = self.session.runs.facts()
        if known is None:
            return []
        network, facts = known
        names = {node.name for node in network.nodes}
        return [fact.name for fact in reversed(facts) if len(fact.shape) == 3 and fact.name in names]

    def _choose_method(self) -> None:
        self.take(MapChoice(str(self.methods.currentData())))
        self.changed.emit()

    def _choose_setting(self) -> None:
        key = str(self.more.currentData() or "")
        if key == ANOTHER:
            images = len(self.session.images.collection.rows)
            number, chosen = QInputDialog.getInt(
                self, "Begin from another image", "Number of the image that the way begins from:", 1, 1, max(1, images)
            )
            key = f"image {number}" if chosen else self.choice.baseline
        method = self.choice.method
        choice = MapChoice(method, baseline=key) if method == BEGINS else MapChoice(method, layer=key)
        self.take(choice)
        self.changed.emit()
