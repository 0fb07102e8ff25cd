"""Network, the stage that answers: what will look at the images."""

from __future__ import annotations

from functools import partial
from typing import Any

from PyQt6.QtCore import QRectF, Qt, QTimer
from PyQt6.QtGui import QShowEvent
from PyQt6.QtWidgets import QGridLayout, QHBoxLayout, QScrollArea, QVBoxLayout

from attentive_lens.desk.bases import without_base
from attentive_lens.desk.design import facts_of, price_in_memory
from attentive_lens.desk.requests.prices import PlanPrice, PricePlan
from attentive_lens.plan.examination import Facts
from attentive_lens.plan.plan import Plan
from attentive_lens.plan.starters import STARTERS
from attentive_lens.window import look
from attentive_lens.window.network.base_panel import BasePanel
from attentive_lens.window.pages.base import Page
from attentive_lens.window.parts.basics import button, label, panel, to_image
from attentive_lens.window.parts.bench import Bench, plates_of
from attentive_lens.window.parts.picture import PictureBox
from attentive_lens.window.session import Session
from attentive_lens.window.words import duration, percent, shape, short, thousands

SETTLED = 800
"""Milliseconds without a change after which a plan is priced."""
RARE = ("padding_width", "dilation", "groups", "unit")
"""Settings that are told only where they are not what they usually are."""


class NetworkPage(Page):
    """The bench, the starting networks, and layers taken frozen from an earlier run."""

    key = "network"

    def __init__(self, session: Session) -> None:
        super().__init__(session)
        self.facts: tuple[Facts, ...] = ()
        layout = QVBoxLayout(self)
        layout.setContentsMargins(24, 16, 16, 16)
        layout.setSpacing(16)

        head = QHBoxLayout()
        head.setSpacing(8)
        self.title = label(size=look.LARGE, strong=True, name="network title")
        self.about = label(role="faint", name="network about")
        head.addWidget(self.title)
        head.addWidget(self.about)
        head.addStretch()
        layout.addLayout(head)
        begin = QHBoxLayout()
        begin.setSpacing(8)
        begin.addWidget(label("start from", "faint"))
        self.starters = {}
        for name, starter in STARTERS.items():
            starter_button = button(
                name, f"starter {name}", starter.when, partial(self._start_from, name), checkable=True
            )
            begin.addWidget(starter_button)
            self.starters[name] = starter_button
        begin.addStretch()
        self.price = label(role="faint", name="price")
        begin.addWidget(self.price)
        layout.addLayout(begin)
        self.memory = label(role="warn", name="memory warning")
        self.memory.setToolTip("What a step of training needs, beside what is free on this machine now.")
        layout.addWidget(self.memory)

        frame, inside = panel(name="bench panel")
        inside.setContentsMargins(8, 8, 8, 8)
        self.bench = Bench("bench", 230)
        self.bench.chosen.connect(lambda _: self._show_layer())
        scroll = QScrollArea()
        scroll.setWidgetResizable(True)
        scroll.setWidget(self.bench)
        inside.addWidget(scroll)
        layout.addWidget(frame, 1)

        below = QHBoxLayout()
        below.setSpacing(16)
        layout.addLayout(below)
        frame, inside = panel(name="sees panel")
        self.sees_title = label("Receptive field", strong=True)
        inside.addWidget(self.sees_title)
        row = QHBoxLayout()
        self.sample = PictureBox("sample image", 168)
        row.addWidget(self.sample)
        self.sees = label(role="faint", name="sees")
        self.sees.setWordWrap(True)
        self.sees.setAlignment(Qt.AlignmentFlag.AlignTop)
        row.addWidget(self.sees, 1)
        inside.addLayout(row)
        inside.addStretch()
        below.addWidget(frame, 1)

        frame, inside = panel(name="layer panel")
        self.layer_title = label(strong=True, name="layer title")
        inside.addWidget(self.layer_title)
        self.idea = label(role="faint", name="layer idea")
        self.idea.setWordWrap(True)
        inside.addWidget(self.idea)
        self.layer_rows = QGridLayout()
        self.layer_rows.setVerticalSpacing(6)
        inside.addLayout(self.layer_rows)
        inside.addStretch()
        below.addWidget(frame, 1)

        frame, inside = panel("Build on a trained model", "base panel")
        self.base = BasePanel(session)
        inside.addWidget(self.base)
        below.addWidget(frame, 1)

        self._priced: Plan | None = None
        self._price = QTimer(self)
        self._price.setSingleShot(True)
        self._price.setInterval(SETTLED)
        self._price.timeout.connect(self._ask_price)
        session.plan_changed.connect(self.refresh)
        session.runs_changed.connect(self._list_runs)
        session.pixels_ready.connect(self._show_layer)
        self._list_runs()
        self.bench.current = 1
        self.refresh()

    def state(self) -> str:
        """Weights."""
        return short(sum(fact.weights for fact in self.facts))

    def action(self) -> tuple[str, bool]:
        """Train what stands here."""
        return "Train this plan", self.session.runs.training is None

    def act(self) -> None:
        """Start training and go there."""
        self.session.start()
        self.session.stage_asked.emit("training")

    def refresh(self) -> None:
        """Draw the plan's network."""
        plan = self.session.design.plan
        network, self.facts = facts_of(plan, len(self.session.images.collection.classes))
        self.bench.show_plates(plates_of(network, self.facts, plan.preprocessing.shape, plan.frozen))
        weights = sum(fact.weights for fact in self.facts)
        frozen = sum(fact.weights for fact in self.facts if fact.name in plan.frozen)
        cost = sum(fact.multiply_adds for fact in self.facts)
        held = f", {thousands(frozen)} of them frozen" if frozen else ""
        needed, free = price_in_memory(plan, len(self.session.images.collection.classes))
        self.title.setText(plan.name[:1].upper() + plan.name[1:])
        self.about.setText(
            f"{len(network.nodes)} layers · {thousands(weights)} weights{held} · {short(cost)} multiply-adds an image"
            f" · {short(needed)}B to train"
        )
        self.price.setText("")
        self._priced = None
        self._price.start()
        self.memory.setText(
            f"A step of training needs {short(needed)}B, and {short(free)}B are free: it will be refused."
            " Choose a smaller batch size, a smaller input size or fewer filters."
        )
        self.memory.setVisible(needed > free)
        for name, starter_button in self.starters.items():
            starter_button.setChecked(STARTERS[name].network == plan.network and plan.base is None)
        self._list_runs()
        self._show_layer()
        self.action_changed.emit()

    def showEvent(self, event: QShowEvent | None) -> None:
        """The price is measured once somebody looks."""
        super().showEvent(event)
        self._price.start()

    def _ask_price(self) -> None:
        """Measure what an epoch takes, unless a run has the machine or nobody looks."""
        plan = self.session.design.plan
        if plan == self._priced or not self.isVisible() or self.session.runs.training is not None:
            return
        self._priced = plan
        request = PricePlan(self.session.place, plan.write())
        self.session.ask(request, partial(self._show_price, plan), self._no_price, priority=9, scope="price")

    def _show_price(self, plan: Plan, price: PlanPrice) -> None:
        if plan == self.session.design.plan:
            batches = "1 batch" if price.batches == 1 else f"{thousands(price.batches)} batches"
            whole = duration(price.epoch_seconds * plan.training.epochs)
            self.price.setText(
                f"About {price.epoch_seconds:.2g}\u2009s per epoch of {batches} here, {whole} for"
                f" {plan.training.epochs} epochs"
            )

    def _no_price(self, sentence: str) -> None:
        self.price.setText(f"No price: {sentence}")

    def _start_from(self, name: str) -> None:
        plan = self.session.design.plan
        plan = without_base(plan).changed({"network": name})
        self.session.design.change(plan)
        self.refresh()

    def _list_runs(self) -> None:
        self.base.refresh()
        self.action_changed.emit()

    def _show_layer(self) -> None:
        place = self.bench.current or 0
        plate = self.bench.plates[place]
        plan = self.session.design.plan
        pixels = self.session.images.pixels
        if pixels is not None:
            self.bench.show_pictures({"image": to_image(pixels[0])})
            side = plan.preprocessing.input_size
            corner, length = plate.field(side)
            box = QRectF(corner, corner, length, length)
            self.sample.show_image(to_image(pixels[0]), None if place == 0 else box)
        self.sees_title.setText(f"Receptive field of {plate.name}" if place else "The image")
        side = plan.preprocessing.input_size
        if place == 0:
            words = f"Every image comes at {side}×{side} pixels."
        elif plate.receptive_field is None or plate.receptive_field >= side:
            words = f"Each of its values sees the whole image, {side}×{side} pixels."
        else:
            words = f"Each of its values sees {plate.receptive_field}×{plate.receptive_field} of {side}×{side} pixels."
        self.sees.setText(words)
        self.layer_title.setText(plate.name)
        self.idea.setText(plate.idea)
        while self.layer_rows.count():
            item = self.layer_rows.takeAt(0)
            widget = item.widget() if item is not None else None
            if widget is not None:
                widget.deleteLater()
        for row, (name, value) in enumerate(self._layer_facts(place)):
            self.layer_rows.addWidget(label(name, "faint"), row, 0)
            figure = label(value)
            figure.setAlignment(Qt.AlignmentFlag.AlignRight)
            self.layer_rows.addWidget(figure, row, 1)

    def _layer_facts(self, place: int) -> list[tuple[str, str]]:
        if place == 0:
            return [("shape", shape(self.session.design.plan.preprocessing.shape))]
        plate = self.bench.plates[place]
        layer: Any = self.session.design.plan.network.node(plate.name).layer
        fact = next(f for f in self.facts if f.name == plate.name)
        rows = [("in", shape(fact.input_shape)), ("out", shape(fact.shape))]
        for name, spec in layer.specs().items():
            value = getattr(layer, name)
            if name in RARE and value == getattr(type(layer), name):
                continue
            if layer.is_output:
                value = len(self.session.images.collection.classes)
            rows.append((spec.label, _amount(name, value, spec.unit)))
        if plate.weights:
            rows.append(("weights", thousands(plate.weights) + (", frozen" if plate.frozen else "")))
        if fact.multiply_adds:
            rows.append(("multiply-adds an image", short(fact.multiply_adds)))
        for coat in plate.coats:
            rows.append(("then", coat))
        return rows


def _amount(name: str, value: Any, unit: str) -> str:
    """A setting in words: 3×3 pixels, 1 pixel, 50 %."""
    if name == "kernel_size":
        return f"{value}×{value} {unit}"
    if isinstance(value, float):
        return percent(value) if name == "rate" else f"{value:g}"
    return f"{value} {unit[:-1] if value == 1 else unit}".strip()
