"""Activations: all maps of the layer chosen for this image, and one of them alone."""

from __future__ import annotations

from dataclasses import replace
from functools import partial

import numpy as np
from numpy.typing import NDArray
from PyQt6.QtGui import QImage
from PyQt6.QtWidgets import QStackedWidget

from attentive_lens.core.numbering import place_of
from attentive_lens.core.records import PlainTable
from attentive_lens.core.telling import signed
from attentive_lens.desk.requests.activity import LayerActive, LayerActivity
from attentive_lens.desk.requests.explaining import ActivationMaps, Activations, Explanation, RunImage
from attentive_lens.desk.requests.inspecting import Channels, ChannelSeen, Neighbours, NeighboursFound
from attentive_lens.plan.nodes import IMAGE
from attentive_lens.window import look
from attentive_lens.window.explaining.channel import ChannelShown, ChannelView
from attentive_lens.window.explaining.dropout_view import DropoutView
from attentive_lens.window.explaining.layer_panel import LayerPanel
from attentive_lens.window.parts.basics import button, chooser, ink_on_paper, label, to_image, vertical
from attentive_lens.window.parts.flow import Flow
from attentive_lens.window.parts.tiles import Tile, Tiles
from attentive_lens.window.session import Session

SIDE, MOST = 64, 128
BESIDE = 158
"""Pixels of the list of images that may stand beside."""
ORDERS = ("most active first", "what they add", "by number")
"""How the channels may be put in order."""
NOTHING = "no other image"


class ActivationsPanel(LayerPanel):
    """Channels of the chosen plate; a click opens one over the image.

    Signals
    -------
    pinned
        "activations", a sentence, and what makes them again.
    """

    title = "Activations"
    tip = "What the layer makes of this image"
    pins = "activations"

    def __init__(self, session: Session) -> None:
        super().__init__(session)
        self.maps: dict[str, NDArray[np.float32]] = {}
        self.beside: int | None = None
        self.beside_maps: dict[str, NDArray[np.float32]] = {}
        self.order: list[int] = []
        self._near: NeighboursFound | None = None
        self._effects: dict[tuple[str, int], ChannelSeen] = {}
        self._opens: PlainTable | None = None
        inside = vertical(self, spacing=4)
        inside.addLayout(self._make_settings())
        self.note = label(role="faint", size=look.SMALL, name="layer note")
        self.note.setWordWrap(True)
        inside.addWidget(self.note)
        self.pages = QStackedWidget()
        self.channels = Tiles("channels", "feature maps of the chosen layer", SIDE, MOST)
        self.channels.chosen.connect(self.open_place)
        self.view = ChannelView()
        self.view.left.connect(self._show_grid)
        self.view.stepped.connect(self._step)
        self.pages.addWidget(self.channels)
        self.pages.addWidget(self.view)
        self.dropout = DropoutView(self.session)
        self.pages.addWidget(self.dropout)
        inside.addWidget(self.pages, 1)

    def _make_settings(self) -> Flow:
        row = Flow()
        tip = "What comes first; what they add is measured by switching each channel off."
        self.by = chooser("channels order", "channels order", tip, items=ORDERS)
        tip = "Show the same channels for the nearest training image of a class answered rightly, and the difference."
        self.other = chooser("image beside", "image beside", tip)
        self.other.setMaximumWidth(BESIDE)
        self.by.activated.connect(lambda _: self._sort())
        self.other.activated.connect(lambda _: self._choose_other())
        row.addWidget(self.by)
        row.addWidget(self.other)
        self.pin = button("Pin", "pin activations", "Keep what is seen with the image's case.", self._pin)
        row.addWidget(self.pin)
        return row

    @property
    def open_channel(self) -> int | None:
        """The channel that is open alone."""
        shown = self.view.shown
        return shown.channel if self.pages.currentIndex() and shown is not None else None

    def changed(self, explanation: Explanation, same: bool) -> None:
        """Another image, whose maps follow; or the same, explained otherwise."""
        del explanation
        if not same:
            self._empty()
            self._show_channels()
            if self.pages.currentIndex() == 2:
                self.plate_changed()

    def _empty(self) -> None:
        """What was known of another image."""
        self.maps, self.beside, self.beside_maps, self._near, self._effects = {}, None, {}, None, {}
        chosen = self.other.currentText()
        self.other.clear()
        self.other.addItem(NOTHING)
        self.other.addItems([f"nearest right {name}" for name in self.session.runs.answered_classes()])
        self.other.setCurrentIndex(max(0, self.other.findText(chosen)))
        if self.other.currentIndex() > 0:
            self._choose_other()

    def take_maps(self, maps: dict[str, NDArray[np.float32]]) -> None:
        """The maps of every layer that has any, by the node."""
        self.maps = maps
        self.restyled()
        if self._opens is not None:
            self.replay(self._opens)

    def restyled(self) -> None:
        """The maps in the colours of the theme."""
        self._sort()
        channel, maps = self.open_channel, self.maps.get(self.layer)
        if channel is None:
            return
        shown = self.view.shown
        if maps is None or channel >= maps.shape[2] or shown is None or shown.layer != self.layer:
            self._show_grid()
        else:
            self._open(channel)

    def plate_changed(self) -> None:
        """Its channels, or what training strikes out of it; a channel that is open stays so where it is the same."""
        shown = self.view.shown
        if self.open_channel is not None and shown is not None and shown.layer == self.layer:
            return
        if self.explanation is not None and self.dropout.open(self.layer, self.explanation):
            self.pages.setCurrentIndex(2)
            self.note.setText(f"{self.layer}: what dropout drops, in vermilion")
            return
        self.pages.setCurrentIndex(0)
        self._sort()

    def _sort(self) -> None:
        """Put the channels in the order chosen; until it is known what they add, the strongest come first."""
        maps, seen = self.maps.get(self.layer), self._effects_of_layer()
        if maps is None:
            self.order = []
        elif self.by.currentText() == ORDERS[1] and seen is not None:
            self.order = [each.channel for each in seen.channels]
        elif self.by.currentText() == ORDERS[2]:
            self.order = list(range(maps.shape[2]))
        else:
            self.order = strongest(maps).tolist()
            if self.by.currentText() == ORDERS[1]:
                self._ask_effects(0)
        self._show_channels()

    def _effects_of_layer(self) -> ChannelSeen | None:
        return next((seen for (layer, _), seen in self._effects.items() if layer == self.layer), None)

    def _ask_effects(self, channel: int) -> None:
        """What the channels of the layer add, and the answers with this one scaled."""
        shown = self.explanation
        if shown is None:
            return
        request = Channels(shown.subject, self.layer, channel)
        take = partial(self._take_effects, self.layer)
        self.ask(request, take, self.fail, priority=1, scope="channel effects")

    def _take_effects(self, layer: str, seen: ChannelSeen) -> None:
        self._effects[layer, seen.channel] = seen
        if self.open_channel == seen.channel and layer == self.layer:
            self.view.show_effects(seen)
        elif layer == self.layer and self.by.currentText() == ORDERS[1]:
            self._sort()

    def fail(self, sentence: str) -> None:
        """Say why something cannot be had."""
        self.view.show_effects(None, sentence)
        self.note.setText(sentence)

    def _choose_other(self) -> None:
        """Another image beside this one: the nearest of a class that is answered rightly."""
        self.beside, self.beside_maps = None, {}
        shown = self.explanation
        if shown is None or self.other.currentIndex() <= 0:
            self._redraw()
            return
        if self._near is None:
            request = Neighbours(shown.subject, count=1)
            self.note.setText("Looking for the nearest image …")
            self.ask(request, self._take_near, self.fail, priority=2, scope="image beside")
            return
        name = self.session.runs.answered_classes()[self.other.currentIndex() - 1]
        near = self._near.right.get(name)
        if near is None:
            self._redraw()
            self.note.setText(f"No training image of {name} is answered rightly")
            return
        self.beside = near.image
        beside = RunImage(self.session.place, shown.subject.run, near.image)
        request_maps = Activations(beside, tuple(self.maps))
        self.ask(request_maps, self._take_beside, self.fail, priority=2, scope="maps beside")

    def _take_near(self, result: NeighboursFound) -> None:
        self._near = result
        self._choose_other()

    def _take_beside(self, activations: ActivationMaps) -> None:
        self.beside_maps = {name: maps for name, maps in activations.outputs.items() if maps.ndim == 3}
        self._redraw()

    def _redraw(self) -> None:
        self._show_channels()
        if self.open_channel is not None:
            self._open(self.open_channel)

    def _show_channels(self) -> None:
        plate = self.plate
        if plate is None:
            return
        maps, others = self.maps.get(plate.output), self.beside_maps.get(plate.output)
        if maps is None:
            self.channels.show_tiles(())
            flat = len(plate.shape) != 3
            self.note.setText(f"{plate.name} has no maps: it is one row of values" if flat else "")
            return
        seen = self._effects_of_layer()
        adds = {each.channel: each.adds for each in seen.channels} if seen is not None else {}
        tiles = []
        for channel in self.order:
            one = maps[:, :, channel]
            pictures = [self._picture(one, channel)]
            if others is not None:
                pictures.append(to_image(ink_on_paper(others[:, :, channel])))
            own = self._name(channel)
            word, tip = own or str(channel), f"{own or f'channel {channel}'}: {one.min():.3g} to {one.max():.3g}"
            caption = word
            if channel in adds and seen is not None:
                caption = f"{word}  {signed(adds[channel], '.2f')}"
                tip = f"{tip}; adds {signed(adds[channel], '.2f')} to {seen.of}"
            if not one.any():
                tip = f"{tip}; zero everywhere"
            tiles.append(Tile(tuple(pictures), caption, tip, sharp=True))
        self.channels.show_tiles(tuple(tiles))
        words = f"{plate.name}: {maps.shape[2]} channels of {maps.shape[0]}×{maps.shape[1]}; click one to open it"
        if others is not None and self.beside is not None:
            words = f"{plate.name}: above this image, below image {self.beside}"
        self.note.setText(words)

    def _picture(self, values: NDArray[np.float32], channel: int) -> QImage:
        """A channel's output in ink; one of the image's own as it is shown, alone."""
        if self.layer == IMAGE and self.explanation is not None:
            return to_image(self.explanation.pixels[:, :, channel : channel + 1])
        return to_image(ink_on_paper(values))

    def _name(self, channel: int) -> str:
        """Of one of the image's own channels; nothing for a layer's, which have numbers."""
        plan = self.session.runs.plan()
        names = plan.preprocessing.names_of_channels if plan is not None and self.layer == IMAGE else ()
        return names[channel] if channel < len(names) else ""

    def open_place(self, place: int) -> None:
        """Open the channel of a tile."""
        if place < len(self.order):
            self._open(self.order[place])

    def _open(self, channel: int, factor: float | None = None) -> None:
        maps, others = self.maps.get(self.layer), self.beside_maps.get(self.layer)
        if maps is None or self.explanation is None:
            return
        picture = to_image(self.explanation.pixels)
        name = self._name(channel)
        shown = ChannelShown(self.layer, channel, picture, maps[:, :, channel], name=name)
        pixels = self.session.images.pixels
        if others is not None and self.beside is not None and pixels is not None:
            other = to_image(np.asarray(pixels[place_of(self.beside)]))
            words = f"image {self.beside}"
            shown = replace(shown, beside=words, other=other, others=others[:, :, channel])
        self.pages.setCurrentIndex(1)
        self.view.show_channel(shown)
        self.view.setFocus()
        if factor is not None:
            self.view.factor = factor
        seen = self._effects.get((self.layer, channel))
        if seen is not None:
            self.view.show_effects(seen)
        else:
            self._ask_effects(channel)
        self.view.show_distribution(None, None)
        if self.explanation is None:
            return
        request = LayerActivity(self.session.place, self.explanation.subject.run, self.layer)
        take = partial(self._take_activity, self.layer)
        self.ask(request, take, self._ignore, priority=4, scope="layer activity")

    def _take_activity(self, layer: str, seen: LayerActive) -> None:
        if layer == self.layer and self.open_channel is not None:
            self.view.show_distribution(seen, self.maps.get(layer))

    def _ignore(self, sentence: str) -> None:
        self.view.beyond.setText(sentence)

    def _step(self, by: int) -> None:
        at = self.open_channel
        if at is not None and self.order:
            place = self.order.index(at) + by if at in self.order else 0
            self._open(self.order[place % len(self.order)])

    def _show_grid(self) -> None:
        self.pages.setCurrentIndex(0)
        self._show_channels()
        self.channels.setFocus()

    def replay(self, settings: PlainTable) -> None:
        """What was pinned; as soon as the maps are there."""
        layer, channel = str(settings.get("layer", "")), int(float(str(settings.get("channel", 0))))
        factor = float(str(settings.get("factor", 1)))
        self._opens = None
        if layer not in self.maps:
            self._opens = settings
            return
        self.layer_asked.emit(layer)
        if self.layer == layer and channel < self.maps[layer].shape[2]:
            self._open(channel, factor)

    def _pin(self) -> None:
        channel = self.open_channel
        if not self.layer or self.layer not in self.maps:
            return
        if channel is None:
            channel = self.order[0] if self.order else 0
        seen, factor = self._effects.get((self.layer, channel)), self.view.factor
        words = f"{self._name(channel) or f'channel {channel}'} of {self.layer}"
        if seen is not None and self.open_channel is not None:
            answers = {each.factor: each.probabilities for each in seen.answers}[factor]
            predicted = max(answers, key=lambda name: answers[name])
            how = {1.0: "as it is", 0.0: "switched off", 0.5: "halved", 2.0: "doubled"}[factor]
            words = f"{words}, {how}: {predicted} ({answers[predicted]:.2f})"
        self.pinned.emit(self.pins, words, {"layer": self.layer, "channel": channel, "factor": factor})


def strongest(maps: NDArray[np.float32]) -> NDArray[np.int64]:
    """Channels of maps H×W×C, the most active first: by their mean absolute value."""
    return np.argsort(-np.abs(maps).mean(axis=(0, 1)), kind="stable")
