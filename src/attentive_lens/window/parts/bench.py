"""The bench: the network as glass plates on a rail, image at the left, answers at the right.

A plate's height follows the square root of its maps' side, its thickness the logarithm of their channels. ReLU and
its kin and normalisations are coatings of the plate before them, not plates of their own; what takes another way than
the rail is an arc above it. Frozen plates are frosted. In Explain the plates carry
what each layer saw.
"""

from __future__ import annotations

import math
from collections import Counter
from collections.abc import Sequence
from dataclasses import dataclass, replace

from PyQt6.QtCore import QEvent, QPointF, QRectF, QSize, Qt, pyqtSignal
from PyQt6.QtGui import (
    QHelpEvent,
    QImage,
    QKeyEvent,
    QMouseEvent,
    QPainter,
    QPainterPath,
    QPaintEvent,
    QPen,
    QPolygonF,
    QTransform,
)
from PyQt6.QtWidgets import QSizePolicy, QToolTip, QWidget

from attentive_lens.plan.examination import Facts
from attentive_lens.plan.layers import Dropout, LayerSettings, Relu
from attentive_lens.plan.layers.base import SameShape
from attentive_lens.plan.network import NetworkPlan
from attentive_lens.window import look
from attentive_lens.window.words import shape, short, shortened, thousands

PLACE = 86
CAPTIONS = 40


@dataclass(frozen=True)
class Plate:
    """One plate: the layer it stands for, with the coating that follows it.

    Attributes
    ----------
    name : str
        The layer's name.
    output : str
        Node whose output the plate shows: the coating's, if it has one.
    shape : tuple of int
        Of that output.
    idea, facts : str
        For the tooltip.
    frozen, holes : bool
        Frosted; dropout.
    coats : tuple of str
        What follows at once, such as ReLU or a normalisation.
    after : tuple of int
        Places of plates, other than the one before, that feed it.
    weights : int
        With its coats'.
    """

    name: str
    output: str
    shape: tuple[int, ...]
    idea: str
    facts: str
    frozen: bool = False
    holes: bool = False
    coats: tuple[str, ...] = ()
    receptive_field: int | None = None
    jump: int = 1
    offset: int = 0
    after: tuple[int, ...] = ()
    weights: int = 0

    def field(self, side: int) -> tuple[float, float]:
        """Where the middle output's receptive field begins, and its length, in parts of the image's side."""
        if self.receptive_field is None:
            return 0.0, 1.0
        first = self.offset + self.jump * (self.shape[0] // 2)
        begin, end = max(0, first), min(side, first + self.receptive_field)
        return begin / side, (end - begin) / side


def plates_of(
    network: NetworkPlan, facts: tuple[Facts, ...], image: tuple[int, ...], frozen: frozenset[str]
) -> tuple[Plate, ...]:
    """The plates of a network, the image first."""
    plates = [Plate("image", "image", image, "The prepared image.", shape(image), receptive_field=1)]
    places = {"image": 0}
    uses = Counter(source for node in network.nodes for source in node.after)
    for node, fact in zip(network.nodes, facts, strict=True):
        before = plates[-1]
        if _is_coating(node.layer) and node.after == (before.output,) and uses[before.output] == 1 and len(plates) > 1:
            facts_told = f"{before.facts}\nthen {_coat(node.layer)}"
            coats = (*before.coats, _coat(node.layer))
            weights = before.weights + fact.weights
            plates[-1] = replace(
                before, output=node.name, shape=fact.shape, facts=facts_told, coats=coats, weights=weights
            )
            places[node.name] = len(plates) - 1
            continue
        sees = (
            "the whole image"
            if fact.receptive_field is None
            else f"{fact.receptive_field}×{fact.receptive_field} pixels"
        )
        about = (
            f"{thousands(fact.weights)} weights · {short(fact.multiply_adds)} multiply-adds an image\n"
            f"receptive field {sees}"
        )
        places[node.name] = len(plates)
        plates.append(
            Plate(
                node.name,
                node.name,
                fact.shape,
                node.layer.idea,
                about,
                node.name in frozen,
                holes=isinstance(node.layer, Dropout),
                receptive_field=fact.receptive_field,
                jump=fact.jump,
                offset=fact.offset,
                after=tuple(places[source] for source in node.after if source != before.output),
                weights=fact.weights,
            )
        )
    return tuple(plates)


def chosen_plates(plates: Sequence[Plate], mask: Sequence[bool]) -> tuple[Plate, ...]:
    """Some of the plates; ways from plates that are left out are too."""
    places = {old: new for new, old in enumerate(k for k, want in enumerate(mask) if want)}
    return tuple(
        replace(plates[old], after=tuple(places[source] for source in plates[old].after if source in places))
        for old in places
    )


def _is_coating(layer: LayerSettings) -> bool:
    """Whether a layer is shown as a coating: an activation or a normalisation."""
    return isinstance(layer, SameShape) and not isinstance(layer, Dropout)


def _coat(layer: LayerSettings) -> str:
    """What follows a plate at once, in a few words."""
    return "ReLU: negative values become 0" if isinstance(layer, Relu) else layer.kind


class Bench(QWidget):
    """The plates; a click or the arrow keys choose one.

    Signals
    -------
    chosen
        Place of the plate, 0 the image.
    """

    chosen = pyqtSignal(int)

    def __init__(self, name: str, tallest: int = 190, place: int = PLACE) -> None:
        super().__init__()
        self.setObjectName(name)
        self.setAccessibleName("bench")
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.plates: tuple[Plate, ...] = ()
        self.pictures: dict[str, QImage] = {}
        self.current: int | None = None
        self.tallest, self.place = tallest, place
        self.setMinimumHeight(120)
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Expanding)

    def show_plates(self, plates: tuple[Plate, ...]) -> None:
        """Draw another network; pictures are taken off."""
        self.plates = plates
        self.pictures = {}
        if self.current is not None and self.current >= len(plates):
            self.current = None
        self.setMinimumWidth(len(plates) * self.place)
        self.updateGeometry()
        self.update()

    def show_pictures(self, pictures: dict[str, QImage]) -> None:
        """Put pictures on the plates, by the node whose output they show."""
        self.pictures = pictures
        self.update()

    def sizeHint(self) -> QSize:
        """Room for every plate."""
        return QSize(len(self.plates) * self.place, self.tallest + CAPTIONS + 20)

    def _step(self) -> float:
        return self.width() / max(1, len(self.plates))

    def _form(self, plate: Plate, place: int) -> tuple[QPolygonF, QRectF]:
        """The plate's glass, turned a little, and its edge."""
        room = min(self.tallest, self.height() - CAPTIONS - 12)
        first = math.sqrt(max(1, self.plates[0].shape[0]))
        flat = len(plate.shape) == 1
        part = 0.34 if flat else max(0.16, math.sqrt(plate.shape[0]) / first)
        lean = 0.09
        height = room * part / (1 + lean)
        depth = math.log2(1 + plate.shape[-1]) * 2.4 if not flat else 5.0
        wide = 8.0 if flat else max(14.0, min(height * 0.42, self._step() - depth - 14))
        step = self._step()
        x = step * (place + 0.5) - (wide + depth) / 2
        middle = (self.height() - CAPTIONS) / 2
        up = wide * 0.30 if not flat else 3.0
        top, bottom = middle - height / 2, middle + height / 2
        glass = QPolygonF(
            [
                QPointF(x, top + up / 2),
                QPointF(x + wide, top - up / 2),
                QPointF(x + wide, bottom - up / 2),
                QPointF(x, bottom + up / 2),
            ]
        )
        return glass, QRectF(x + wide, top - up / 2, depth, height)

    def paintEvent(self, event: QPaintEvent | None) -> None:
        """The rail, the plates from left to right, their names and shapes."""
        t = look.theme
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.setRenderHint(QPainter.RenderHint.SmoothPixmapTransform, False)
        middle = (self.height() - CAPTIONS) / 2
        painter.setPen(QPen(t.colour("faint"), 1.4))
        painter.drawLine(QPointF(4, middle), QPointF(self.width() - 4, middle))
        self._paint_arcs(painter)
        for place, plate in enumerate(self.plates):
            glass, edge = self._form(plate, place)
            chosen = place == self.current
            outline = QPen(t.colour("petrol" if chosen else "ink"), 2 if chosen else 1)
            if plate.holes:
                outline.setStyle(Qt.PenStyle.DotLine)
            painter.setPen(outline)
            painter.setBrush(t.colour("sheet"))
            painter.drawPolygon(glass)
            picture = self.pictures.get(plate.output)
            if picture is not None:
                self._paint_picture(painter, glass, picture)
                painter.setBrush(Qt.BrushStyle.NoBrush)
                painter.drawPolygon(glass)
            elif plate.frozen:
                painter.setBrush(t.colour("petrol", 28))
                painter.drawPolygon(glass)
                painter.setBrush(t.colour("petrol", 120))
                brush = painter.brush()
                brush.setStyle(Qt.BrushStyle.BDiagPattern)
                painter.setBrush(brush)
                painter.drawPolygon(glass)
            painter.setBrush(t.colour("plate_side"))
            painter.drawRect(edge)
            if plate.coats:
                painter.fillRect(QRectF(edge.right() - 2, edge.top() + 1, 2, edge.height() - 2), t.colour("petrol"))
            self._paint_captions(painter, plate, place, chosen)
        self._paint_frost_line(painter)
        if self.hasFocus():
            painter.setBrush(Qt.BrushStyle.NoBrush)
            painter.setPen(QPen(t.colour("petrol"), 1))
            painter.drawRoundedRect(QRectF(self.rect()).adjusted(0.5, 0.5, -0.5, -0.5), 3, 3)

    def _paint_arcs(self, painter: QPainter) -> None:
        """Ways past other plates, above the rail: the wider, the higher."""
        step = self._step()
        middle = (self.height() - CAPTIONS) / 2
        painter.setPen(QPen(look.theme.colour("faint"), 1.4))
        painter.setBrush(Qt.BrushStyle.NoBrush)
        for place, plate in enumerate(self.plates):
            for source in plate.after:
                begin, end = step * (source + 0.5), step * (place + 0.5)
                tops = [self._form(self.plates[k], k)[0].boundingRect().top() for k in range(source, place + 1)]
                top = max(3.0, min(tops) - 8 - 3 * (place - source))
                path = QPainterPath(QPointF(begin, middle))
                path.cubicTo(QPointF(begin, top), QPointF(begin, top), QPointF((begin + end) / 2, top))
                path.cubicTo(QPointF(end, top), QPointF(end, top), QPointF(end, middle))
                painter.drawPath(path)

    def _paint_picture(self, painter: QPainter, glass: QPolygonF, picture: QImage) -> None:
        """The picture on the slanted glass."""
        corner, right, _, below = (glass.at(k) for k in range(4))
        along, down = (right - corner) / picture.width(), (below - corner) / picture.height()
        turn = QTransform(along.x(), along.y(), down.x(), down.y(), corner.x(), corner.y())
        painter.save()
        painter.setTransform(turn, True)
        painter.drawImage(0, 0, picture)
        painter.restore()

    def _paint_captions(self, painter: QPainter, plate: Plate, place: int, chosen: bool) -> None:
        t = look.theme
        step = self._step()
        painter.setFont(look.font(look.SMALL, chosen))
        painter.setPen(t.colour("ink"))
        metrics = painter.fontMetrics()
        box = QRectF(step * place, self.height() - CAPTIONS, step, 18)
        names = [each.name for each in self.plates]
        (words,) = shortened([plate.name], step - 4, metrics.horizontalAdvance, names)
        painter.drawText(box, Qt.AlignmentFlag.AlignCenter, words)
        painter.setFont(look.font(look.SMALL))
        painter.setPen(t.colour("faint"))
        painter.drawText(box.translated(0, 17), Qt.AlignmentFlag.AlignCenter, shape(plate.shape))

    def _paint_frost_line(self, painter: QPainter) -> None:
        frozen = [k for k, plate in enumerate(self.plates) if plate.frozen]
        if not frozen:
            return
        t = look.theme
        x = self._step() * (frozen[-1] + 1)
        painter.setPen(QPen(t.colour("petrol"), 1.6, Qt.PenStyle.DashLine))
        painter.drawLine(QPointF(x, 4), QPointF(x, self.height() - CAPTIONS))
        painter.setFont(look.font(look.SMALL))
        painter.drawText(QPointF(x + 6, 14), "frost line")

    def choose(self, place: int) -> None:
        """Choose a plate."""
        self.current = place
        self.update()
        self.chosen.emit(place)

    def mousePressEvent(self, event: QMouseEvent | None) -> None:
        """Choose the plate under the mouse."""
        if event is not None and self.plates:
            self.choose(min(len(self.plates) - 1, int(event.position().x() // self._step())))

    def keyPressEvent(self, event: QKeyEvent | None) -> None:
        """Left and right move along the rail."""
        move = {Qt.Key.Key_Left: -1, Qt.Key.Key_Right: 1}.get(Qt.Key(event.key())) if event is not None else None
        if move is None or not self.plates:
            super().keyPressEvent(event)
            return
        at = 0 if self.current is None else self.current + move
        self.choose(min(max(at, 0), len(self.plates) - 1))

    def event(self, event: QEvent | None) -> bool:
        """A tooltip over each plate: what it is, what it costs, how far it sees."""
        if isinstance(event, QHelpEvent) and self.plates:
            place = min(len(self.plates) - 1, int(event.pos().x() // self._step()))
            plate = self.plates[place]
            QToolTip.showText(event.globalPos(), f"{plate.idea}\n{plate.facts}", self)
            return True
        return super().event(event)
