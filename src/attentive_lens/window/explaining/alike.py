"""Neighbours: the training images that a layer finds nearest to the image, of the class said and of the true one."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray
from PyQt6.QtGui import QKeyEvent

from attentive_lens.core.numbering import number_at, place_of
from attentive_lens.core.records import PlainTable
from attentive_lens.desk.requests.explaining import PAIR, Explanation, FileImage
from attentive_lens.desk.requests.inspecting import Neighbours, NeighboursFound
from attentive_lens.desk.requests.maps import ImageMaps, MapImages
from attentive_lens.window import look
from attentive_lens.window.explaining.panel import Panel
from attentive_lens.window.parts.basics import button, filter_button, label, vertical
from attentive_lens.window.parts.decisions import Decisions
from attentive_lens.window.parts.flow import Flow
from attentive_lens.window.parts.layer_chooser import LayerChooser
from attentive_lens.window.parts.sheet import ContactSheet, Group
from attentive_lens.window.session import Session

COUNT, SIDE = 12, 72


class AlikePanel(Panel):
    """Two rows of pictures with their distances, and what can be decided about those selected.

    Signals
    -------
    opened
        Number of an image that is to be explained.
    pinned
        A sentence, and the settings that make the neighbours again.
    """

    title = "Alike"
    tip = "The training images that a layer finds nearest"
    pins = "neighbours"

    def __init__(self, session: Session) -> None:
        super().__init__(session)
        self.result: NeighboursFound | None = None
        self.maps: dict[int, NDArray[np.float32]] = {}
        self._run = 0
        inside = vertical(self, spacing=6)
        row = Flow()
        row.addWidget(label("by", "faint"))
        tip = "The layer by whose outputs images are alike; the last tells classes apart."
        self.layer = LayerChooser(session, "neighbours layer", "the layer that compares", tip)
        self.layer.activated.connect(lambda _: self._ask())
        row.addWidget(self.layer)
        self.says = label(role="faint", size=look.SMALL, name="neighbours say")
        self.says.setWordWrap(True)
        tip = "Lay over each image what speaks for the class said of it (gradient × input)."
        self.mapped = filter_button("maps", "maps of neighbours", tip, self._show)
        row.addWidget(self.mapped)
        tip = "Keep what is seen with the image's case."
        self.pin = button("Pin", "pin neighbours", tip, self._pin)
        row.addWidget(self.pin)
        tip = "No neighbour looks like this image: note with its case that such images are missing in training (M)."
        self.missing = button("Kind is missing (M)", "kind is missing", tip, self._note_missing)
        row.addWidget(self.missing)
        inside.addLayout(row)
        inside.addWidget(self.says)
        self.sheet = ContactSheet("neighbours sheet", SIDE)
        self.sheet.opened.connect(lambda place: self.opened.emit(number_at(place)))
        self.sheet.selected.connect(lambda _: self._select())
        inside.addWidget(self.sheet, 1)
        self.decisions = Decisions(session, 4, " of neighbours")
        inside.addWidget(self.decisions)
        session.images_changed.connect(self._show)

    def changed(self, explanation: Explanation, same: bool) -> None:
        """Of another image; asked for when it is seen."""
        if not same:
            if self._run != explanation.subject.run:
                self.maps, self._run = {}, explanation.subject.run
            self.result = None
            self._show()
        if self.isVisible() and self.result is None:
            self._ask()

    def forget(self) -> None:
        """Neighbours and maps of images that have other contents now do not stand."""
        self.result, self.maps, self._awaited = None, {}, {}
        self._show()

    def _ask(self) -> None:
        if self.explanation is None:
            return
        self.layer.list_layers()
        self.says.setText("Looking for neighbours …")
        request = Neighbours(self.explanation.subject, self.layer.layer, COUNT)
        self.ask(request, self._take, self.says.setText, priority=2, scope="neighbours")

    def _take(self, result: NeighboursFound) -> None:
        self.result = result
        self._show()

    def _ask_maps(self, numbers: tuple[int, ...]) -> None:
        request = MapImages(self.session.place, self._run, numbers)
        self.ask(request, self._take_maps, self.says.setText, priority=3, scope="maps of neighbours")

    def _take_maps(self, result: ImageMaps) -> None:
        self.maps = dict(zip(result.images, result.maps, strict=True))
        self._show()

    def replay(self, settings: PlainTable) -> None:
        """What was pinned."""
        self.layer.list_layers()
        self.layer.setCurrentIndex(max(0, self.layer.findData(settings.get("layer", ""))))
        self._ask()

    def _show(self) -> None:
        result, images = self.result, self.session.images
        self.pin.setEnabled(result is not None)
        self.missing.setEnabled(result is not None and result.image is not None)
        if result is None:
            self.sheet.show_groups(images.pixels, ())
            self._select()
            return
        numbers = tuple(dict.fromkeys(near.image for rows in result.near.values() for near in rows))
        if self.mapped.isChecked() and not set(numbers) <= self.maps.keys():
            self._ask_maps(numbers)
        shown = self.maps if self.mapped.isChecked() else {}
        self.sheet.maps = {place_of(number): map_ for number, map_ in shown.items()}
        groups, collection = [], images.collection
        keys = tuple(result.near)
        if result.classes.get("true") == result.classes["predicted"]:
            keys = ("true",)
        of_file = self.explanation is not None and isinstance(self.explanation.subject, FileImage)
        for key in keys:
            near = result.near[key]
            captions = []
            for each in near:
                now = collection.classes[collection.rows[place_of(each.image)].label]
                other = f" {now}" if now != result.classes[key] else ""
                captions.append(f"{each.distance:.2f}{other}")
            word = "against" if of_file and key == "true" else PAIR[key]
            title = f"{word}: {result.classes[key]}"
            groups.append(Group(title, "nearest first", tuple(place_of(n.image) for n in near), tuple(captions)))
        self.sheet.show_groups(images.pixels, tuple(groups))
        self.says.setText(in_words(result))
        self._select()

    def _select(self) -> None:
        self.decisions.show_images(tuple(sorted(self.sheet.selection)))

    def _pin(self) -> None:
        if self.result is not None:
            self.pinned.emit(self.pins, in_words(self.result), {"layer": self.result.layer, "count": COUNT})

    def _note_missing(self) -> None:
        if self.result is not None:
            self.noted.emit(f"training images like this one are missing ({in_words(self.result)})")

    def keyPressEvent(self, event: QKeyEvent | None) -> None:
        """The keys that stand on the buttons."""
        if event is not None and event.text().upper() == "M" and self.missing.isEnabled():
            self._note_missing()
        elif event is not None and not self.decisions.take_key(event):
            super().keyPressEvent(event)


def in_words(result: NeighboursFound) -> str:
    """How near the two classes are, by the layer."""
    predicted, true = result.near["predicted"], result.near.get("true", ())
    if "true" not in result.near and predicted:
        return f"by {result.layer}: the nearest of {result.classes['predicted']} lies at {predicted[0].distance:.2f}"
    if not predicted or not true:
        return f"by {result.layer}: a class has no training images"
    if result.classes["predicted"] == result.classes["true"]:
        return f"by {result.layer}: the nearest of {result.classes['true']} lies at {true[0].distance:.2f}"
    return (
        f"by {result.layer}: the nearest of {result.classes['predicted']} lies at {predicted[0].distance:.2f}, of"
        f" {result.classes['true']} at {true[0].distance:.2f}"
    )
