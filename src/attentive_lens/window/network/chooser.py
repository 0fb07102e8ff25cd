"""Starting networks side by side: what each is for, how it is built, what it weighs, costs and takes here."""

from __future__ import annotations

from collections.abc import Mapping
from functools import partial
from typing import TypeAlias

from PyQt6.QtCore import QRectF, QSize, Qt, pyqtSignal
from PyQt6.QtGui import QKeyEvent, QPainter, QPaintEvent, QPen, QShowEvent
from PyQt6.QtWidgets import QAbstractButton, QGridLayout, QHBoxLayout, QScrollArea, QSizePolicy, QWidget

from attentive_lens.desk.network.bases import without_base
from attentive_lens.desk.network.design import facts_of
from attentive_lens.desk.requests.prices import PlanPrice, PricePlan
from attentive_lens.plan.encoders import ENCODERS, Encoder
from attentive_lens.plan.generators import GENERATORS, Generator
from attentive_lens.plan.plan import Plan
from attentive_lens.plan.starters import STARTERS, Starter
from attentive_lens.window import look
from attentive_lens.window.bench.geometry import Geometry
from attentive_lens.window.bench.layout import layout_of
from attentive_lens.window.bench.plates import blocks_of, plates_of
from attentive_lens.window.parts.basics import button, label, vertical
from attentive_lens.window.session import Session
from attentive_lens.window.words import short, thousands

COLUMNS = 4
Beginning: TypeAlias = Starter | Encoder | Generator
FAMILIES: tuple[tuple[str, Mapping[str, Beginning]], ...] = (
    ("Networks that answer classes", STARTERS),
    ("Networks that draw every image again from a few codes, without looking at labels", ENCODERS),
    ("Pairs: a network that draws of noise, against one that tells drawings from images", GENERATORS),
)
TALL, BENCH = 186, 64
MARGIN = 12


class StarterCard(QAbstractButton):
    """One starting network as a small bench with its figures; a click or Return takes it."""

    def __init__(self, starter: Beginning) -> None:
        super().__init__()
        self.starter = starter
        self.setObjectName(f"starter {starter.name}")
        self.setAccessibleName(f"start from {starter.name}")
        self.setToolTip(starter.when)
        self.setCheckable(True)
        self.setFixedHeight(TALL)
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Fixed)
        self.figures, self.price = "", ""
        self._geometry: Geometry | None = None

    def sizeHint(self) -> QSize:
        """A quarter of the stage."""
        return QSize(270, TALL)

    def show_plan(self, plan: Plan, classes: int) -> None:
        """The network as it is for these images and classes."""
        network, facts = facts_of(plan, classes)
        by_name = {fact.name: fact for fact in facts}
        plates = plates_of(network.nodes, by_name, plan.preprocessing.shape, folded=blocks_of(network.nodes))
        self._geometry = Geometry(plates, layout_of(plates), max(60, self.width() - 2 * MARGIN), BENCH, BENCH - 8, 0)
        weights, cost = sum(fact.weights for fact in facts), sum(fact.multiply_adds for fact in facts)
        self.figures = f"{thousands(weights)} weights · {short(cost)} multiply-adds"
        self.update()

    def show_price(self, price: str) -> None:
        """What an epoch takes, in words."""
        self.price = price
        self.update()

    def paintEvent(self, event: QPaintEvent | None) -> None:
        """Name, small bench, sentence, figures."""
        t = look.theme
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        busy = self.isChecked() or self.hasFocus() or self.underMouse()
        painter.setPen(QPen(t.colour("petrol" if self.isChecked() or self.hasFocus() else "faint" if busy else "line")))
        painter.setBrush(t.colour("tint" if self.isChecked() else "sheet"))
        painter.drawRoundedRect(QRectF(self.rect()).adjusted(0.5, 0.5, -0.5, -0.5), look.RADIUS, look.RADIUS)
        wide = self.width() - 2 * MARGIN
        painter.setPen(t.colour("ink"))
        painter.setFont(look.font(strong=True))
        painter.drawText(QRectF(MARGIN, 10, wide, 20), Qt.AlignmentFlag.AlignVCenter, self.starter.name)
        self._paint_bench(painter, wide)
        painter.setPen(t.colour("faint"))
        painter.setFont(look.font(look.SMALL))
        box = QRectF(MARGIN, 100, wide, 48)
        painter.drawText(box, int(Qt.TextFlag.TextWordWrap), self.starter.when)
        painter.setPen(t.colour("ink"))
        painter.drawText(QRectF(MARGIN, 148, wide, 16), Qt.AlignmentFlag.AlignVCenter, self.figures)
        painter.drawText(QRectF(MARGIN, 164, wide, 16), Qt.AlignmentFlag.AlignVCenter, self.price)

    def _paint_bench(self, painter: QPainter, wide: int) -> None:
        geometry, t = self._geometry, look.theme
        if geometry is None:
            return
        if geometry.width != wide:
            geometry = Geometry(geometry.plates, geometry.layout, wide, BENCH, BENCH - 8, 0)
            self._geometry = geometry
        painter.save()
        painter.translate(MARGIN, 34)
        painter.setPen(QPen(t.colour("faint"), 1))
        painter.setBrush(Qt.BrushStyle.NoBrush)
        for edge in geometry.edges:
            painter.drawPath(geometry.way(edge)[0])
        painter.setPen(QPen(t.colour("ink"), 0.8))
        for place in range(len(geometry.plates)):
            glass, side = geometry.form(place)
            painter.setBrush(t.colour("sheet"))
            painter.drawPolygon(glass)
            painter.setBrush(t.colour("petrol" if geometry.plates[place].folded else "plate_side"))
            painter.drawRect(side)
        painter.restore()

    def keyPressEvent(self, event: QKeyEvent | None) -> None:
        """Return takes it, as a click does."""
        if event is not None and event.key() in (Qt.Key.Key_Return, Qt.Key.Key_Enter):
            self.click()
        else:
            super().keyPressEvent(event)


class StarterChooser(QWidget):
    """All starting networks, made for the images and classes at hand; their prices come one after the other.

    Signals
    -------
    picked
        Name of a starting network.
    closed
        None of them.
    """

    picked = pyqtSignal(str)
    closed = pyqtSignal()

    def __init__(self, session: Session) -> None:
        super().__init__()
        self.session = session
        self.setObjectName("starter chooser")
        self._shown: tuple[Plan, int] | None = None
        self._prices: dict[str, str] = {}
        self._waiting: list[str] = []
        outer = vertical(self, spacing=8)
        head = QHBoxLayout()
        head.addWidget(label("Start from", strong=True))
        self.note = label(role="faint", name="chooser note")
        head.addWidget(self.note)
        head.addStretch()
        head.addWidget(button("Close", "close chooser", "Leave the network as it is (Esc).", self.closed.emit))
        outer.addLayout(head)
        inside = QWidget()
        grid = QGridLayout(inside)
        grid.setContentsMargins(0, 0, 0, 0)
        grid.setSpacing(12)
        self.cards: dict[str, StarterCard] = {}
        for words, networks in FAMILIES:
            first = grid.rowCount() if self.cards else 0
            grid.addWidget(label(words, strong=True), first, 0, 1, COLUMNS)
            for place, (name, starter) in enumerate(networks.items()):
                card = StarterCard(starter)
                card.clicked.connect(partial(self._pick, name))
                row, column = divmod(place, COLUMNS)
                grid.addWidget(card, first + 1 + row, column)
                self.cards[name] = card
        grid.setRowStretch(grid.rowCount(), 1)
        scroll = QScrollArea()
        scroll.setWidgetResizable(True)
        scroll.setWidget(inside)
        outer.addWidget(scroll, 1)

    def plan_of(self, name: str) -> Plan:
        """The plan with a starting network for its images and classes in it."""
        plan = without_base(self.session.design.plan)
        classes = len(self.session.images.collection.taught)
        named = plan.changed({"network": name})
        if name not in STARTERS:
            return named
        return named.with_network(STARTERS[name].network_for(plan.preprocessing.input_size, classes))

    def refresh(self) -> None:
        """Make every network for the images and classes as they are, and ask for what is not priced."""
        design, classes = self.session.design, len(self.session.images.collection.taught)
        size = design.plan.preprocessing.size_in_words
        self.note.setText(f"made for {size} pixels and {classes} classes; petrol edges are folded blocks")
        stand_in = without_base(design.plan).changed({"network": next(iter(STARTERS))})
        if self._shown is None or self._shown != (stand_in, classes):
            self._shown, self._prices = (stand_in, classes), {}
        for name, card in self.cards.items():
            plan = self.plan_of(name)
            card.show_plan(plan, classes)
            card.setChecked(design.sound and plan.network == design.plan.network and design.plan.base is None)
            card.show_price(self._prices.get(name, "price follows …"))
        self._waiting = [name for name in self.cards if name not in self._prices]
        self._ask_next()

    def showEvent(self, event: QShowEvent | None) -> None:
        """Worked out once somebody looks."""
        super().showEvent(event)
        self.refresh()
        checked = next((card for card in self.cards.values() if card.isChecked()), next(iter(self.cards.values())))
        checked.setFocus()

    def _ask_next(self) -> None:
        if not self._waiting or not self.isVisible():
            return
        name = self._waiting.pop(0)
        if self.session.runs.training is not None:
            self._say(name, "no price while a run is training")
            self._ask_next()
            return
        request = PricePlan(self.session.place, self.plan_of(name).write())
        self.session.ask(request, partial(self._take, name), partial(self._refused, name), priority=9, scope="starters")

    def _take(self, name: str, price: PlanPrice) -> None:
        self._prices[name] = f"about {price.epoch_seconds:.2g}\u202fs per epoch here"
        self._say(name, self._prices[name])
        self._ask_next()

    def _refused(self, name: str, sentence: str) -> None:
        self._say(name, "no price")
        self.cards[name].setToolTip(f"{self.cards[name].starter.when}\n{sentence}")
        self._ask_next()

    def _say(self, name: str, words: str) -> None:
        self.cards[name].show_price(words)

    def _pick(self, name: str) -> None:
        self.picked.emit(name)

    def keyPressEvent(self, event: QKeyEvent | None) -> None:
        """Arrows go from card to card, Escape closes."""
        if event is None:
            return
        names = list(self.cards)
        at = next((k for k, name in enumerate(names) if self.cards[name].hasFocus()), 0)
        steps = {Qt.Key.Key_Left: -1, Qt.Key.Key_Right: 1, Qt.Key.Key_Up: -COLUMNS, Qt.Key.Key_Down: COLUMNS}
        step = steps.get(Qt.Key(event.key()))
        if step is not None:
            self.cards[names[min(max(0, at + step), len(names) - 1)]].setFocus()
        elif event.key() == Qt.Key.Key_Escape:
            self.closed.emit()
        else:
            super().keyPressEvent(event)
