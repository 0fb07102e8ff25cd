"""Dropout at work: what each draw drops of a layer, and how far the answers move with it."""

from __future__ import annotations

import math
from functools import partial

import numpy as np
from numpy.typing import NDArray
from PyQt6.QtWidgets import QWidget

from attentive_lens.desk.requests.dropout import DropoutSeen, SeeDropout
from attentive_lens.desk.requests.explaining import Explanation
from attentive_lens.window import look
from attentive_lens.window.parts.basics import label, to_image, vertical
from attentive_lens.window.parts.tiles import Tile, Tiles
from attentive_lens.window.session import Session

SHOWN, NAMED = 24, 3
"""Draws that are pictured, and classes whose answers are told."""
SIDE = 64
LEAST = 0.01
"""Probability that a class must reach in some draw to be told, but for the first."""


class DropoutView(QWidget):
    """A picture for each draw, struck-out values in vermilion, and the answers' range over all draws."""

    def __init__(self, session: Session) -> None:
        super().__init__()
        self.session = session
        self._layer = ""
        self._of: Explanation | None = None
        self._seen: DropoutSeen | None = None
        self.setObjectName("dropout view")
        inside = vertical(self, spacing=4)
        self.says = label(name="dropout range")
        self.says.setWordWrap(True)
        inside.addWidget(self.says)
        self.draws = Tiles("dropout draws", "what each draw drops", SIDE)
        inside.addWidget(self.draws, 1)

    def open(self, layer: str, explanation: Explanation) -> bool:
        """Show dropout at work on an image, which is drawn once; whether the layer is one that strikes out."""
        plan = self.session.runs.plan()
        nodes = plan.network.nodes if plan is not None else ()
        if layer not in {node.name for node in nodes if node.layer.kind == "dropout"}:
            return False
        self._layer = layer
        if not explanation.is_of_same(self._of):
            self._of, self._seen = explanation, None
            take = partial(self._take, explanation)
            self.session.ask(SeeDropout(explanation.subject), take, self.says.setText, 2, "dropout")
        self._show()
        return True

    def _take(self, of: Explanation, seen: DropoutSeen) -> None:
        if of.is_of_same(self._of):
            self._seen = seen
            self._show()

    def _show(self) -> None:
        """The layer's draws; nothing while they are not there yet."""
        layer, seen = self._layer, self._seen
        stored = seen.masks.get(layer) if seen is not None else None
        if seen is None or stored is None:
            self.says.setText("Drawing …")
            self.draws.show_tiles(())
            return
        tiles = []
        for mask, answers in zip(stored[:SHOWN], seen.answers, strict=False):
            predicted = int(answers.argmax())
            turned = predicted != int(seen.without.argmax())
            caption = seen.classes[predicted] if turned else f"{answers[predicted]:.2f}"
            words = f"{seen.classes[predicted]} {answers[predicted]:.2f}"
            tip = f"{int(mask.size - mask.sum())} of {mask.size} values are dropped; {words}"
            tiles.append(Tile((to_image(struck(mask)),), caption, tip, sharp=True))
        self.draws.show_tiles(tuple(tiles))
        self.says.setText(in_words(seen))


def struck(mask: NDArray[np.uint8]) -> NDArray[np.uint8]:
    """A layer's values as a square picture, those struck out in vermilion; of maps each cell is a place's share kept.

    Gives H×W×3 uint8.
    """
    part = mask.astype(np.float32)
    if part.ndim == 3 and (part == part[:1, :1]).all():
        part = part[0, 0]  # whole channels
    elif part.ndim == 3:
        part = part.mean(axis=2)
    if part.ndim == 1:
        side = math.ceil(math.sqrt(len(part)))
        part = np.append(part, np.full(side * side - len(part), np.nan, np.float32)).reshape(side, side)
    ends = [look.theme.colour(role) for role in ("vermilion", "line", "sheet")]
    out, in_, none = (np.array([c.red(), c.green(), c.blue()], np.float32) for c in ends)
    mixed = np.nan_to_num(part)[..., None] * in_ + (1 - np.nan_to_num(part))[..., None] * out
    return np.where(np.isnan(part)[..., None], none, mixed).astype(np.uint8)


def in_words(seen: DropoutSeen) -> str:
    """The answers over all draws: mean, least and greatest, and without dropout."""
    mean = seen.answers.mean(axis=0)
    words = [
        f"{seen.classes[k]} {mean[k]:.2f} ({seen.answers[:, k].min():.2f} to {seen.answers[:, k].max():.2f};"
        f" without {seen.without[k]:.2f})"
        for place, k in enumerate(np.argsort(-mean)[:NAMED].tolist())
        if not place or seen.answers[:, k].max() >= LEAST
    ]
    changed = int((seen.answers.argmax(axis=1) != seen.without.argmax()).sum())
    turned = f"{changed} of {len(seen.answers)} draws change the answer"
    return f"Over {len(seen.answers)} draws, as in training: {', '.join(words)}. {turned}."
