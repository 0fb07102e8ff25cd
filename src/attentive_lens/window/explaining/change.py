"""Try a change: something is done to the image by hand, and the answers follow."""

from __future__ import annotations

from collections.abc import Mapping
from functools import partial

from PyQt6.QtCore import QRectF, Qt
from PyQt6.QtGui import QStandardItemModel
from PyQt6.QtWidgets import QGridLayout, QScrollArea, QSlider, QSpinBox

from attentive_lens.core.records import PlainTable
from attentive_lens.core.values import Spec, read_kind
from attentive_lens.desk.requests.explaining import Explanation
from attentive_lens.desk.requests.inspecting import CHANGE_SETTINGS, QUICK, ChangeSettings, Tried, TryChanges
from attentive_lens.errors import LensError
from attentive_lens.window import look
from attentive_lens.window.explaining.panel import Panel
from attentive_lens.window.explaining.place_box import PlaceBox
from attentive_lens.window.parts.bars import Bar, Bars
from attentive_lens.window.parts.basics import (
    button,
    chooser,
    filter_button,
    label,
    map_colours,
    tint_image,
    to_image,
    vertical,
)
from attentive_lens.window.parts.flow import Flow, Turning
from attentive_lens.window.parts.tiles import enlarged, laid_over
from attentive_lens.window.session import Session

STEPS = 100
SIDE = 224
WIDE = 680
"""Pixels from which settings and answers stand beside the picture."""
FROM_THE_PLACE = ("row", "column")
"""Settings that are dragged on the picture."""


class ChangePanel(Panel):
    """A change with its knobs, the changed picture, and the answers before and after.

    Signals
    -------
    pinned
        "change", a sentence, and the change.
    """

    title = "Change"
    tip = "Change the image by hand and see the answer follow"
    pins = "change"

    def __init__(self, session: Session) -> None:
        super().__init__(session)
        self.tried: Tried | None = None
        self.at = (0.5, 0.5)
        self._busy, self._again = False, False
        self._given: PlainTable = {}
        turning = Turning(WIDE, 12)
        area = QScrollArea()
        area.setWidgetResizable(True)
        area.setWidget(turning)
        vertical(self).addWidget(area)
        outer = turning.box
        self.picture = PlaceBox("changed picture", SIDE)
        self.picture.setToolTip("Drag to move the place of the change.")
        self.picture.moved.connect(self._move)
        outer.addWidget(self.picture, 0, Qt.AlignmentFlag.AlignTop)
        middle = vertical(spacing=6)
        self.ways = chooser("change", "the change")
        for kind, change in CHANGE_SETTINGS.items():
            self.ways.addItem(change.label, kind)
        self.ways.currentIndexChanged.connect(lambda _: self._take_way())
        middle.addWidget(self.ways)
        grid = QGridLayout()
        grid.setSpacing(6)
        self.knobs = []
        self.other = QSpinBox()
        self.other.setObjectName("mixed image")
        self.other.setAccessibleName("number of the image that is mixed in")
        self.other.setFont(look.font())
        self.other.setPrefix("image ")
        self.other.valueChanged.connect(lambda _: self._try())
        most = max(len(with_slider(kind)) for kind in CHANGE_SETTINGS.values())
        grid.addWidget(self.other, most, 0, 1, 3)
        for place in range(most):
            words, slider, figure = label(role="faint"), QSlider(Qt.Orientation.Horizontal), label()
            slider.setObjectName(f"knob {place}")
            slider.setRange(0, STEPS)
            slider.valueChanged.connect(partial(self._slid, place))
            figure.setFixedWidth(48)
            for column, widget in enumerate((words, slider, figure)):
                grid.addWidget(widget, place, column)
            self.knobs.append((words, slider, figure))
        middle.addLayout(grid)
        row = Flow()
        tip = "The smallest square whose covering changes the answer, every smaller one tried."
        self.smallest = button("Smallest cover", "smallest cover", tip, self._ask_smallest)
        row.addWidget(self.smallest)
        self.pin = button("Pin", "pin change", "Keep this trial with the image's case.", self._pin)
        row.addWidget(self.pin)
        tip = "Lay over the changed image what speaks for its answer (gradient × input); it follows the change."
        self.mapped = filter_button("map", "map of change", tip, self._try)
        row.addWidget(self.mapped)
        middle.addLayout(row)
        self.says = label(role="faint", name="change says")
        self.says.setWordWrap(True)
        middle.addWidget(self.says)
        middle.addStretch()
        outer.addLayout(middle, 3)
        right = vertical(spacing=4)
        right.addWidget(label("Answers, before the change in brackets", "faint", look.SMALL))
        self.bars = Bars("change bars", 84, 104)
        right.addWidget(self.bars)
        right.addStretch()
        outer.addLayout(right, 4)
        self._take_way()

    @property
    def way(self) -> type[ChangeSettings]:
        """The kind of change in hand."""
        return CHANGE_SETTINGS[str(self.ways.currentData())]

    @property
    def sliding(self) -> dict[str, Spec]:
        """Its settings that have a slider, by name."""
        return with_slider(self.way)

    @property
    def mixes(self) -> str:
        """Its setting that names another image; empty without one."""
        return next((name for name, known in self.way.specs().items() if known.names == "image"), "")

    def change(self) -> ChangeSettings:
        """With its settings, as it is asked for."""
        values: PlainTable = dict(self._given)
        if self.mixes:
            values[self.mixes] = self.other.value()
        if set(FROM_THE_PLACE) <= self.way.specs().keys():
            values |= {"row": round(self.at[1], 3), "column": round(self.at[0], 3)}
        for name, (_, slider, _) in zip(self.sliding, self.knobs, strict=False):
            values.setdefault(name, self._value(name, slider.value()))
        return self.way.read(values)

    def _range(self, name: str) -> tuple[float, float]:
        known = self.way.specs()[name]
        return known.slider or (known.low or 0.0, known.high or 1.0)

    def _value(self, name: str, step: int) -> float:
        low, high = self._range(name)
        value = low + (high - low) * step / STEPS
        if self.way.types()[name] is int:
            return round(value)
        return float(round(value)) if high - low > STEPS else round(value, 3)

    def changed(self, explanation: Explanation, same: bool) -> None:
        """Another image; the change in hand is tried on it when it is seen."""
        self._offer_mixing()
        self._offer_covering(explanation)
        if not same:
            self.tried, self._busy = None, False
            self.picture.show_image(to_image(explanation.pixels))
        if self.isVisible():
            self._try()

    def _offer_covering(self, explanation: Explanation) -> None:
        """Object and rest can be covered where an outline is known."""
        model = self.ways.model()
        for place, change in enumerate(CHANGE_SETTINGS.values()):
            item = model.item(place) if isinstance(model, QStandardItemModel) else None
            if item is not None and change.of_object:
                item.setEnabled(explanation.covered is not None)
                item.setToolTip("" if item.isEnabled() else "The image has no outline: draw one in Images, Full size.")

    def _offer_mixing(self) -> None:
        """Any other image of the workspace, the next one to begin with."""
        images = len(self.session.images.collection.rows)
        own = self.explanation.image if self.explanation is not None else None
        if self.other.maximum() != images:
            self.other.blockSignals(True)
            self.other.setRange(1, max(1, images))
            self.other.setValue((own or 0) % max(1, images) + 1)
            self.other.blockSignals(False)

    def cover_region(self, across: float, down: float, width: float, height: float) -> None:
        """Cover a region that was drawn on the image: its middle and size, 0–1."""
        place = {"row": down, "column": across, "side": height, "across": width}
        self.replay({"kind": "cover", **{name: round(value, 3) for name, value in place.items()}})

    def replay(self, change: PlainTable) -> None:
        """A change that was tried before, with all its settings."""
        try:
            settings = read_kind("change", CHANGE_SETTINGS, change)
        except LensError as error:
            self.says.setText(str(error))
            return
        self.ways.blockSignals(True)
        self.ways.setCurrentIndex(self.ways.findData(settings.kind))
        self.ways.blockSignals(False)
        values = settings.write()
        self.at = (values.pop("column", self.at[0]), values.pop("row", self.at[1]))
        if self.mixes:
            self._offer_mixing()
            self.other.blockSignals(True)
            self.other.setValue(int(values.pop(self.mixes)))
            self.other.blockSignals(False)
        self._given = values
        self._show_knobs(values)

    def _take_way(self) -> None:
        values = self.way().write()
        self._given = {name: values[name] for name in self.sliding}
        self._show_knobs(values)

    def _show_knobs(self, values: Mapping[str, float]) -> None:
        self.other.setVisible(bool(self.mixes))
        sliding = list(self.sliding.items())
        for place, (words, slider, figure) in enumerate(self.knobs):
            there = place < len(sliding)
            for widget in (words, slider, figure):
                widget.setVisible(there)
            if there:
                name, known = sliding[place]
                low, high = self._range(name)
                words.setText(known.label)
                words.setToolTip(known.meaning)
                slider.setAccessibleName(known.label)
                slider.blockSignals(True)
                slider.setValue(round((values[name] - low) / (high - low) * STEPS))
                slider.blockSignals(False)
        self._turn()

    def _slid(self, place: int, _: int) -> None:
        """A value that was given to the digit is another now."""
        names = list(self.sliding)
        if place < len(names):
            self._given.pop(names[place], None)
        self._turn()

    def _move(self, column: float, row: float) -> None:
        self.at = (column, row)
        if set(FROM_THE_PLACE) <= self.way.specs().keys():
            self._turn()

    def _turn(self) -> None:
        change = self.change()
        values = change.write()
        for name, (_, _, figure) in zip(self.sliding, self.knobs, strict=False):
            figure.setText(f"{values[name]:g}")
        self.picture.mark = None
        if change.placed:
            tall = values.get("side") or 2 * values.get("radius", 0)
            wide = values.get("across") or tall
            self.picture.mark = QRectF(self.at[0] - wide / 2, self.at[1] - tall / 2, wide, tall)
        self.picture.update()
        self._try()

    def _try(self) -> None:
        """One question at a time: while the mouse moves, only the latest place is asked next."""
        if self.explanation is None or not self.isVisible():
            return
        if self.explanation.image is None and self.mixes:
            self.says.setText("Add the image to the workspace first: then it can be mixed with others.")
            return
        if self._busy:
            self._again = True
            return
        self._busy = True
        request = TryChanges(
            self.explanation.subject,
            (self.change(),),
            smallest=False,
            method=QUICK if self.mapped.isChecked() else None,
        )
        self.ask(request, self._take, self._fail, priority=0)

    def _take(self, tried: Tried) -> None:
        self._busy = False
        self.tried = tried
        picture = to_image(tried.pixels[0])
        if tried.maps is not None:
            picture = laid_over(enlarged(picture, SIDE), tint_image(map_colours(tried.maps[0])))
        self.picture.show_image(picture)
        self._show_answers(tried)
        if self._again:
            self._again = False
            self._try()

    def _fail(self, sentence: str) -> None:
        self._busy = False
        self.says.setText(sentence)

    def _show_answers(self, tried: Tried) -> None:
        before, after = tried.before.probabilities, tried.after[0].probabilities
        order = sorted(after, key=lambda name: -after[name])[:8]
        true = self.explanation.true if self.explanation is not None else None
        roles = {tried.before.predicted: "vermilion"} | ({true: "petrol"} if true is not None else {})
        self.bars.show_bars(
            tuple(
                Bar(name, max(0.0, after[name]), f"{after[name]:.2f}  ({before[name]:.2f})", roles.get(name, "faint"))
                for name in order
            )
        )
        self.says.setText(in_words(tried))

    def _ask_smallest(self) -> None:
        if self.explanation is not None:
            self.says.setText("Trying every square …")
            request = TryChanges(self.explanation.subject, ())
            self.ask(request, self._take_smallest, self._fail, priority=4, scope="smallest cover")

    def _take_smallest(self, tried: Tried) -> None:
        cover = tried.smallest_cover
        if cover is None:
            return
        if cover.row is None or cover.column is None or cover.side is None or cover.across is None:
            self.says.setText("No square that was tried changes the answer.")
            return
        self.cover_region(cover.column, cover.row, cover.across, cover.side)

    def _pin(self) -> None:
        if self.tried is not None and self.tried.after:
            change = self.tried.after[0].change
            self.pinned.emit(self.pins, in_words(self.tried), change.write_kind() if change is not None else {})


def with_slider(kind: type[ChangeSettings]) -> dict[str, Spec]:
    """Settings of a change that have a slider, by name: numbers of a range that fits on one, but for the place."""
    specs = {name: known for name, known in kind.specs().items() if name not in FROM_THE_PLACE}
    return {name: known for name, known in specs.items() if not known.names and (known.slider or known.high == 1)}


def in_words(tried: Tried) -> str:
    """What a change did to the answer."""
    before, after = tried.before, tried.after[0]
    what = after.change.words if after.change is not None else ""
    if before.predicted == after.predicted:
        there = after.probabilities[after.predicted]
        return f"{what}: still {after.predicted}, {there:.2f} after {before.probabilities[before.predicted]:.2f}"
    return f"{what}: {after.predicted} ({after.probabilities[after.predicted]:.2f}) in place of {before.predicted}"
