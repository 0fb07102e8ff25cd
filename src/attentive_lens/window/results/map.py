"""The map of the data: training, validation and test images laid out as a layer finds them alike."""

from __future__ import annotations

from functools import partial

from PyQt6.QtCore import pyqtSignal
from PyQt6.QtWidgets import QDoubleSpinBox, QHBoxLayout, QSpinBox, QVBoxLayout, QWidget

from attentive_lens.core.numbering import place_of
from attentive_lens.desk.requests.mapping import LAYOUTS, DataMap, MapData
from attentive_lens.scoring.answers import Answer
from attentive_lens.window import look
from attentive_lens.window.parts.basics import button, filter_button, label, vertical, view_button
from attentive_lens.window.parts.flow import Flow
from attentive_lens.window.parts.layer_chooser import LayerChooser
from attentive_lens.window.parts.saving import ask_for_file
from attentive_lens.window.results.behind import Behind
from attentive_lens.window.results.class_key import ClassKey
from attentive_lens.window.results.image_map import ImageMap
from attentive_lens.window.results.view import ResultsView
from attentive_lens.window.session import Session
from attentive_lens.window.words import percent, thousands

SETS = ("training", "validation", "test")
TIPS = {
    "t-SNE": "Near images stay near; distances between groups mean little (t-distributed neighbour embedding).",
    "PCA": "The two directions in which the outputs differ most (principal components).",
}


class MapView(ResultsView):
    """The map with its settings.

    Signals
    -------
    chosen
        Answers of the images in a lasso, and the classes' names.
    opened
        Place of an image that is to be explained.
    """

    chosen = pyqtSignal(list, tuple)

    word = "map"

    def __init__(self, session: Session) -> None:
        super().__init__(session)
        self.result: DataMap | None = None
        self.method = LAYOUTS[0]
        self._asked: MapData | None = None
        inside = vertical(self, spacing=6, margins=(16, 10, 16, 10))
        inside.addLayout(self._make_settings())
        self.map = ImageMap()
        self.map.setToolTip(
            "Draw about images to choose them, with Shift to add; the wheel, + and − zoom, 0 shows the whole, the right"
            " button or the arrows move it. A ring: answered wrongly; a dotted frame: not trained on."
        )
        self.map.chosen.connect(self._choose)
        self.map.opened.connect(lambda number: self.opened.emit(place_of(number)))
        session.images_changed.connect(self.forget)
        self.map.hovered.connect(self._tell)
        save = button("Save …", "save map", "Save the map as it is drawn, as SVG or PNG.", self._save)
        inside.addWidget(self.map, 1)
        self.key = ClassKey()
        inside.addWidget(self.key)
        self.says = label(role="faint", name="map says")
        foot = QHBoxLayout()
        foot.addWidget(self.says, 1)
        foot.addWidget(save)
        inside.addLayout(foot)

    def leads_to(self, behind: Behind) -> None:
        """See `ResultsView`."""
        self.chosen.connect(behind.mapped)

    def _save(self) -> None:
        ask_for_file(self.map, "map", self.session.message.emit)

    def _make_settings(self) -> QVBoxLayout:
        both = vertical(spacing=6)
        first, second = Flow(spacing=8), Flow(spacing=8)
        for row in (first, second):
            both.addLayout(row)
        self.methods = {}
        for name in LAYOUTS:
            self.methods[name] = view_button(name, f"map by {name}", TIPS[name], partial(self._take_method, name))
            first.addWidget(self.methods[name])
        first.addWidget(label("of", "faint"))
        tip = "The layer whose outputs are compared: the last one tells classes apart best."
        self.layer = LayerChooser(self.session, "map layer", "the layer whose outputs are laid out", tip)
        self.layer.activated.connect(lambda _: self.refresh())
        first.addWidget(self.layer)
        self.perplexity, self.seed = QDoubleSpinBox(), QSpinBox()
        self.perplexity.setRange(2, 500)
        self.perplexity.setDecimals(0)
        self.perplexity.setValue(30)
        self.seed.setRange(0, 999_999)
        tips = {
            "perplexity": "How many neighbours each image has, about: small ones show small groups.",
            "seed": "Of the start: what looks the same with several seeds is no accident.",
        }
        for box in (self.perplexity, self.seed):
            box.valueChanged.connect(lambda _: self.refresh())
            box.setKeyboardTracking(False)
            box.setFixedWidth(72)
        for field, (words, tip) in zip((self.perplexity, self.seed), tips.items(), strict=True):
            self._name(field, words, tip)
            second.addWidget(label(words, "faint"))
            second.addWidget(field)
        self.sets = {}
        for name in SETS:
            tip = f"Show or hide the {name} images."
            self.sets[name] = filter_button(name, f"map of {name}", tip, self._draw)
            self.sets[name].setChecked(True)
            second.addWidget(self.sets[name])
        tip = "Choose all that can be seen (Return)."
        second.addWidget(button("All in view", "choose in view", tip, lambda: self.map.choose_in_view()))
        return both

    @staticmethod
    def _name(box: QWidget, words: str, tip: str) -> None:
        box.setObjectName(f"map {words}")
        box.setAccessibleName(words)
        box.setToolTip(tip)
        box.setFont(look.font())

    def _take_method(self, name: str) -> None:
        self.method = name
        self.refresh()

    def refresh(self) -> None:
        """Have the images laid out as the settings are now, unless they are."""
        self.layer.list_layers()
        for name, each in self.methods.items():
            each.setChecked(name == self.method)
        for box in (self.perplexity, self.seed):
            box.setEnabled(self.method == "t-SNE")
        run = self.session.runs.in_view
        if run is None:
            return
        request = MapData(
            self.session.place, run, self.layer.layer, self.method, self.seed.value(), self.perplexity.value()
        )
        if request == self._asked:
            if self.map.pixels is not self.session.images.pixels:
                self._draw()
            return
        self._asked = request
        self.says.setText("Laying images out …")
        self.session.ask(request, self._take, self._fail, priority=4, scope="map")

    def forget(self) -> None:
        """Labels or sets are others: what is laid out is asked for again when it is next shown."""
        self._asked = None

    def _fail(self, words: str) -> None:
        self._asked = None
        self.result = None
        self.says.setText(words)
        self._draw()

    def _take(self, result: DataMap) -> None:
        self.result = result
        self._draw()
        self._tell(-1)

    def _draw(self) -> None:
        result = self.result
        shown = {name for name, each in self.sets.items() if each.isChecked()}
        self.map.show_map(result, self.session.images.pixels, self.session.images.collection.sets, shown)
        self.key.show_classes(result.classes if result is not None else ())

    def _tell(self, row: int) -> None:
        """What the image under the mouse is; of none, what is laid out."""
        result = self.result
        if result is None:
            return
        names = result.classes
        if row >= 0:
            number, true = int(result.images[row]), names[result.true[row]]
            words = f"said {names[result.predicted[row]]}, true {true}" if result.wrong[row] else true
            words += ", rightly" if result.answered and not result.wrong[row] else ""
            self.says.setText(f"image {number} · {self.session.images.collection.sets[place_of(number)]} · {words}")
            return
        part = f" of {thousands(result.in_all)}" if len(result.images) < result.in_all else ""
        wrong = f" · {thousands(int(result.wrong.sum()))} answered wrongly" if result.answered else ""
        explained = " and ".join(percent(share) for share in result.explained)
        self.says.setText(
            f"{thousands(len(result.images))}{part} images by {result.layer}{wrong}"
            + (f" · {explained} of the variance" if explained else "")
        )

    def _choose(self, numbers: tuple[int, ...]) -> None:
        result = self.result
        if result is None:
            return
        rows = {number: row for row, number in enumerate(result.images.tolist())}
        answers = [
            Answer(number, int(result.predicted[row]), int(result.true[row]), float(result.probability[row]))
            for number, row in ((number, rows[number]) for number in numbers)
        ]
        self.chosen.emit(answers, result.classes)
