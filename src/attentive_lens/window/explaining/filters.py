"""Filters: the kernels of a layer as pictures, and the training patches and drawn images that excite each channel."""

from __future__ import annotations

import numpy as np
from PyQt6.QtWidgets import QScrollArea

from attentive_lens.desk.requests.explaining import Explanation
from attentive_lens.desk.requests.inspecting import Layer, LayerSeen
from attentive_lens.desk.requests.numbers import LayerNumbers, NumbersSeen
from attentive_lens.window import look
from attentive_lens.window.explaining.channel_rows import ChannelRows, dead_channels, unused_channels
from attentive_lens.window.explaining.layer_panel import LayerPanel
from attentive_lens.window.parts.basics import button, chooser, label, vertical
from attentive_lens.window.parts.flow import Flow
from attentive_lens.window.session import Session
from attentive_lens.window.words import thousands


class FiltersPanel(LayerPanel):
    """The channels of the plate chosen, and an order by what they speak for.

    The kernels are there at once; all training images are looked through as soon as the panel is seen.

    Signals
    -------
    opened
        Number of an image that is to be explained.
    """

    title = "Filters"
    tip = "The kernels of the layer, and what excites its channels in all training images"

    def __init__(self, session: Session) -> None:
        super().__init__(session)
        self._run: int | None = None
        inside = vertical(self, spacing=6)
        row = Flow()
        row.addWidget(label("first those for", "faint"))
        tip = "Those that speak most for a class first: what they add to its score, on average."
        self.order = chooser("filters order", "filters order", tip)
        self.order.activated.connect(lambda _: self._show())
        row.addWidget(self.order)
        tip = "All training images are looked through: of many it takes a while."
        self.look = button("Look through the training images", "find filters", tip, self._ask)
        row.addWidget(self.look)
        inside.addLayout(row)
        self.says = label(role="faint", size=look.SMALL, name="filters say")
        self.says.setWordWrap(True)
        inside.addWidget(self.says)
        self.rows = ChannelRows()
        self.rows.opened.connect(self.opened)
        self.rows.walked.connect(self.walked)
        scroll = QScrollArea()
        scroll.setWidgetResizable(True)
        scroll.setWidget(self.rows)
        inside.addWidget(scroll, 1)
        session.worked.connect(self._show_progress)

    def show_explanation(self, explanation: Explanation) -> None:
        """Of another run other filters; the image does not matter, and no answer is void for it."""
        self.explanation = explanation
        run = explanation.subject.run
        if run != self._run:
            self._run = run
            before = self.order.currentText()
            self.order.clear()
            self.order.addItem("any class", None)
            for number, name in enumerate(self.session.runs.answered_classes()):
                self.order.addItem(name, number)
            self.order.setCurrentIndex(max(0, self.order.findText(before)))
            self._empty()
        if self.isVisible():
            self._ask()

    def plate_changed(self) -> None:
        """Its kernels, and what excites them."""
        if self.rows.layer != self.layer:
            self._empty()
            if self.isVisible():
                self._ask()

    def forget(self) -> None:
        """Patches of images that have other contents now do not stand."""
        self._run, self._awaited = None, {}
        self._empty()

    def restyled(self) -> None:
        """Kernels in the colours of the theme."""
        self.rows.draw_kernels()

    def _empty(self) -> None:
        self._awaited = {}
        self.rows.show_layer(self.layer)
        self.says.setText("")
        self.look.hide()

    def _ask(self) -> None:
        """The kernels, and the patches unless they are there or under way."""
        plate, run = self.plate, self._run
        if plate is None or run is None:
            return
        if len(plate.shape) != 3 or not plate.nodes:
            self.says.setText(f"{plate.name} has no filters: its output is one row of values." if plate.nodes else "")
            return
        if self.rows.kernel is None and plate.weights:
            kernels = LayerNumbers(self.session.place, run, plate.nodes[0])
            self.ask(kernels, self._take_kernels, self._ignore, priority=1, scope="kernels")
        request = Layer(self.session.place, run, plate.output)
        if self.rows.seen is None and not self.awaits(request, "filters of layer"):
            self.look.hide()
            self.says.setText("Looking through the training images …")
            self.ask(request, self._take, self._fail, priority=3, scope="filters of layer")

    def _show_progress(self, doing: str, done: int, total: int) -> None:
        """How far the training images are looked through."""
        if total and "filters of layer" in self._awaited and self.rows.seen is None and self.isVisible():
            self.says.setText(f"{doing[:1].upper()}{doing[1:]}: {thousands(done)} of {thousands(total)} …")

    def _fail(self, sentence: str) -> None:
        self.says.setText(sentence)
        self.look.show()

    def _ignore(self, sentence: str) -> None:
        """What has no kernel still has channels."""

    def _take_kernels(self, seen: NumbersSeen) -> None:
        plate = self.plate
        if plate is not None and seen.values.ndim == 4:
            self.rows.show_kernels(seen.values, of_image=plate.sources == (0,))

    def _take(self, seen: LayerSeen) -> None:
        self.rows.show_seen(seen)
        self._show()

    def _show(self) -> None:
        seen = self.rows.seen
        if seen is None:
            return
        name = self.order.currentText()
        self.rows.show_seen(seen, seen.classes.index(name) if name in seen.classes else None)
        dead, unused, twins = dead_channels(seen), unused_channels(seen), duplicates(seen)
        words = [f"{seen.patches.shape[0]} channels"]
        if dead:
            words.append(f"{len(dead)} dead")
        if unused:
            words.append(f"{len(unused)} never used")
        if twins:
            words.append(f"{len(twins)} nearly the same as another: {', '.join(f'{a} and {b}' for a, b in twins[:3])}")
        self.says.setText(" · ".join(words))


def duplicates(seen: LayerSeen, least: float = 0.98) -> list[tuple[int, int]]:
    """Pairs of channels whose kernels point the same way: their cosine is at least so much."""
    kernel = seen.weights.get("kernel")
    if kernel is None or kernel.ndim != 4:
        return []
    rows = kernel.reshape(-1, kernel.shape[-1]).T.astype(np.float64)
    rows = rows / np.maximum(np.linalg.norm(rows, axis=1, keepdims=True), 1e-12)
    alike = np.triu(rows @ rows.T, 1) >= least
    return [(int(a), int(b)) for a, b in zip(*np.nonzero(alike), strict=True)]
