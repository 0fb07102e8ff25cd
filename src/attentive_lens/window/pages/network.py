"""Network, the stage that answers: what will look at the images."""

from __future__ import annotations

from pathlib import Path

from PyQt6.QtCore import QRectF, Qt
from PyQt6.QtGui import QKeySequence, QShortcut, QShowEvent
from PyQt6.QtWidgets import QStackedWidget, QWidget

from attentive_lens.desk.network.bases import ON
from attentive_lens.desk.network.design import memory_of
from attentive_lens.errors import LensError
from attentive_lens.plan.plan import Plan
from attentive_lens.plan.starters import STARTERS
from attentive_lens.window import look
from attentive_lens.window.network.base_panel import BasePanel
from attentive_lens.window.network.bench_panel import BenchPanel
from attentive_lens.window.network.chooser import StarterChooser
from attentive_lens.window.network.layer_sheet import LayerSheet
from attentive_lens.window.network.plan_text import PlanText
from attentive_lens.window.network.seen_maps import SAMPLE, SeenMaps
from attentive_lens.window.pages.base import Page
from attentive_lens.window.parts.basics import (
    button,
    chooser,
    horizontal,
    label,
    panel,
    to_image,
    vertical,
    view_button,
)
from attentive_lens.window.parts.flow import Flow
from attentive_lens.window.parts.picture import PictureBox
from attentive_lens.window.parts.stage_layout import StageLayout
from attentive_lens.window.session import Session
from attentive_lens.window.words import counted, duration, short, thousands

SAMPLE_SIDE = 80
"""Pixels of the sample image."""
PLAN, TEXT = 0, 2


class NetworkPage(Page):
    """The bench; beside it the chosen plate, layers to build on, or the plan's text."""

    key = "network"
    parts: StageLayout

    def __init__(self, session: Session) -> None:
        super().__init__(session)
        self.panel = BenchPanel(session)
        self.bench = self.panel.bench
        self.parts = StageLayout(session, self.key, self._make_hero(), self._make_evidence())
        self.head.addWidget(self.parts.wide)
        self.whole = QStackedWidget()
        self.whole.addWidget(self.parts)
        vertical(self).addWidget(self.whole)
        self.chooser = StarterChooser(session)
        chooser_page = QWidget()
        vertical(chooser_page, margins=(16, 12, 16, 12)).addWidget(self.chooser)
        self.whole.addWidget(chooser_page)
        self.chooser.picked.connect(self.start_from)
        self.chooser.closed.connect(self._close_chooser)

        self.seen = SeenMaps(session, self._show_field)
        session.pricing.changed.connect(self._show_price)
        QShortcut(QKeySequence("Ctrl+T"), self).activated.connect(self._turn_sheet)
        self.panel.chosen.connect(self._show_chosen)
        self.panel.settings_asked.connect(self._open_settings)
        self.sheet.left.connect(self.bench.setFocus)
        self.sheet.node_shown.connect(self.text.show_node)
        self.text.node_pointed.connect(self.panel.choose_node)
        session.plan_changed.connect(self.refresh)
        session.runs_changed.connect(self._list_runs)
        session.runs_changed.connect(self._show_field)
        session.pixels_ready.connect(self._show_field)
        self.refresh()
        self.bench.choose(1)

    def _make_hero(self) -> QWidget:
        """What the network is, and its bench, as large as there is room."""
        hero = QWidget()
        inside = vertical(hero, spacing=8)
        head = Flow(spacing=10)
        self.title = label(size=look.LARGE, strong=True, name="network title")
        self.about, self.price = label(role="faint", name="network about"), label(role="faint", name="price")
        for each in (self.title, self.about, self.price):
            head.addWidget(each)
        inside.addLayout(head)
        self.origin = label(role="faint", name="network origin")
        self.origin.setWordWrap(True)
        inside.addWidget(self.origin)
        self.memory = label(role="warn", name="memory warning")
        self.memory.setWordWrap(True)
        self.memory.setToolTip("What training takes at most, beside what is free on this machine now.")
        inside.addWidget(self.memory)
        frame, of_bench = panel(name="bench panel")
        of_bench.setContentsMargins(8, 8, 8, 8)
        of_bench.addWidget(self.panel)
        inside.addWidget(frame, 1)
        below = Flow(spacing=8)
        tip = "Known-good networks, made for these images and classes, each with its price."
        below.addWidget(button("Start from …", "choose starter", tip, self.open_chooser))
        below.addWidget(label("on the bench", "faint"))
        tip = "The plan being designed, or a run's network to look at and to copy layers from."
        self.shown = chooser("on the bench", "whose network is on the bench", tip)
        self.shown.setMinimumWidth(150)
        self.shown.activated.connect(self._look_at)
        below.addWidget(self.shown)
        inside.addLayout(below)
        return hero

    def _make_field(self) -> QWidget:
        """The sample image with what the chosen plate sees of it, and what it makes of it."""
        field = QWidget()
        row = horizontal(field, spacing=10, margins=(16, 8, 8, 4))
        self.sample = PictureBox("sample image", SAMPLE_SIDE)
        self.made = PictureBox("map of the plate", SAMPLE_SIDE)
        for picture in (self.sample, self.made):
            row.addWidget(picture, 0, Qt.AlignmentFlag.AlignTop)
        words = vertical(spacing=4)
        self.sees_title, self.sees = label("Receptive field", strong=True), label(role="faint", name="sees")
        for each in (self.sees_title, self.sees):
            each.setWordWrap(True)
            words.addWidget(each)
        words.addStretch()
        row.addLayout(words, 1)
        return field

    def _make_evidence(self) -> QWidget:
        """The chosen plate, layers to build on, or the plan as text."""
        evidence = QWidget()
        outer = vertical(evidence, margins=(12, 0, 16, 0))
        frame, inside = panel(name="sheet panel")
        outer.addWidget(frame)
        inside.setContentsMargins(0, 4, 0, 0)
        inside.setSpacing(0)
        self.head = horizontal(spacing=0, margins=(8, 0, 8, 0))
        self.views = [
            view_button("Layer", "view layer", "The chosen plate: its field, settings and cost.", self.show_layer),
            view_button("Base", "view base", "Layers of a trained model to build on.", self.show_base),
            view_button("Plan as text", "view text", "The whole plan as TOML, to edit (Ctrl+T).", self.show_text),
        ]
        for view in self.views:
            self.head.addWidget(view)
        self.head.addStretch()
        inside.addLayout(self.head)
        self.sheet = LayerSheet(self.session, self.panel)
        self.text = PlanText(self.session)
        layer, base = QWidget(), QWidget()
        of_layer = vertical(layer, spacing=0)
        of_layer.addWidget(self._make_field())
        of_layer.addWidget(self.sheet, 1)
        self.base = BasePanel(self.session)
        of_base = vertical(base, margins=(16, 12, 16, 12))
        of_base.addWidget(self.base)
        of_base.addStretch()
        self.stack = QStackedWidget()
        for each in (layer, base, self.text):
            self.stack.addWidget(each)
        inside.addWidget(self.stack, 1)
        self.views[0].setChecked(True)
        return evidence

    def state(self) -> str:
        """Weights, or that there is a fault."""
        if not self.session.design.sound:
            return "fault"
        return short(sum(fact.weights for fact in self.session.design.examination.facts.values()))

    def action(self) -> tuple[str, bool]:
        """Train what stands here."""
        return "Train this plan", self.session.runs.training is None and self.session.design.sound

    def act(self) -> None:
        """Start training and go there."""
        self.session.start()
        self.session.stage_asked.emit("training")

    def refresh(self) -> None:
        """Draw the network as it is."""
        plan = self.panel.plan
        self.panel.refresh()
        self.text.refresh()
        self.title.setText(plan.name[:1].upper() + plan.name[1:])
        self._show_price()
        self._say_what_it_is(plan)
        self._say_where_from(plan)
        self._list_runs()
        self.action_changed.emit()

    def _say_what_it_is(self, plan: Plan) -> None:
        design = self.session.design
        facts = self.panel.examination().facts.values()
        faults = [] if self.panel.run is not None else [*design.text_faults, *design.faults]
        needed, free = memory_of(plan, facts, self.session.images.collection.count("validation"))
        if faults:
            self.about.setText(f"{counted(len(faults), 'fault', 'faults')}: it cannot be trained yet")
        else:
            frozen = sum(fact.weights for fact in facts if fact.name in plan.frozen)
            held = f", {thousands(frozen)} frozen" if frozen else ""
            cost = short(sum(fact.multiply_adds for fact in facts))
            weights = thousands(sum(fact.weights for fact in facts))
            self.about.setText(
                f"{len(self.panel.nodes)} layers · {weights} weights{held} · {cost} multiply-adds an image"
                f" · {short(needed)}B to train"
            )
        self.about.setToolTip(self.about.text())
        too_large = needed > free and not faults and self.panel.run is None
        if too_large:
            self.memory.setText(
                f"Training takes {short(needed)}B, and {short(free)}B are free: it will be refused."
                f" {self._what_fits(needed, free)}"
            )
        self.memory.setVisible(too_large)

    def _what_fits(self, needed: int, free: int) -> str:
        """The largest batch size that fits, or that none does."""
        plan, facts = self.session.design.plan, self.session.design.examination.facts.values()
        size = plan.training.batch_size
        while size > 1 and needed > free * 0.9:
            size //= 2
            held_out = self.session.images.collection.count("validation")
            needed, _ = memory_of(plan.changed({"training.batch_size": size}), facts, held_out)
        if needed > free * 0.9:
            return "Not even one image at a time fits: choose a smaller input size or fewer filters."
        return f"A batch size of {size} would fit ({short(needed)}B); a smaller input size or fewer filters too."

    def showEvent(self, event: QShowEvent | None) -> None:
        """The price is measured once somebody looks."""
        super().showEvent(event)
        self.session.pricing.want()
        self._show_price()

    def _show_price(self) -> None:
        """What an epoch of the plan takes here, or why that is not known; nothing while it is measured."""
        plan, pricing = self.session.design.plan, self.session.pricing
        price = pricing.known(plan) if self.session.design.sound else None
        if price is None:
            self.price.setText(f"No price: {pricing.problem}" if pricing.problem else "")
            return
        batches = "1 batch" if price.batches == 1 else f"{thousands(price.batches)} batches"
        whole = duration(price.epoch_seconds * plan.training.epochs)
        self.price.setText(
            f"About {price.epoch_seconds:.2g}\u202fs per epoch of {batches} here, {whole} for"
            f" {plan.training.epochs} epochs"
        )

    def open_chooser(self) -> None:
        """Show the starting networks in place of the bench."""
        self.whole.setCurrentIndex(1)

    def _close_chooser(self) -> None:
        self.whole.setCurrentIndex(0)
        self.bench.setFocus()

    def start_from(self, name: str) -> None:
        """Take a starting network, made for the images and classes at hand."""
        self.session.design.change(self.chooser.plan_of(name), f"starting from {name}")
        self._close_chooser()
        self.shown.setCurrentIndex(0)
        self._look_at()
        self.refresh()

    def _say_where_from(self, plan: Plan) -> None:
        """Which starting network it is, if it is one as it stands."""
        size, classes = plan.preprocessing.input_size, len(self.session.images.collection.taught)
        same = [name for name, each in STARTERS.items() if name == plan.name.split(ON)[0] and plan.base is None
                and each.network_for(size, classes) == plan.network]  # fmt: skip
        self.origin.setText(f"as it starts: {STARTERS[same[0]].when}" if same and self.session.design.sound else "")

    def _list_runs(self) -> None:
        self.base.refresh()
        current = self.shown.currentData()
        self.shown.clear()
        self.shown.addItem("the next run's plan", PLAN)
        for number, view in sorted(self.session.runs.views.items(), reverse=True):
            self.shown.addItem(f"run {number} · {view.name}", number)
        self.shown.setCurrentIndex(max(0, self.shown.findData(current)))
        self.action_changed.emit()

    def _look_at(self) -> None:
        """Put another network on the bench: the plan's, or a run's to copy from."""
        number = self.shown.currentData()
        try:
            if number == PLAN:
                self.panel.look_at(None)
            else:
                run = self.session.workspace.run(number)
                self.panel.look_at(run.plan(), len(run.classes() or self.session.images.collection.classes))
        except LensError as error:
            self.session.message.emit(str(error), True)
            self.shown.setCurrentIndex(0)
            self.panel.look_at(None)
        self.title.setText(self.panel.plan.name[:1].upper() + self.panel.plan.name[1:])
        self._say_what_it_is(self.panel.plan)

    def show_layer(self) -> None:
        """The sheet of the chosen plate."""
        self._show_view(0)

    def open_file(self, file: str, against: str) -> None:
        """Build on a model file that was dropped."""
        del against
        self.show_base()
        self.base.take_file(Path(file))

    def show_base(self) -> None:
        """Layers to build on."""
        self._show_view(1)

    def show_text(self) -> None:
        """The plan as text."""
        self._show_view(TEXT)

    def _turn_sheet(self) -> None:
        self._show_view(0 if self.stack.currentIndex() == TEXT else TEXT)
        (self.text.editor if self.stack.currentIndex() == TEXT else self.bench).setFocus()

    def _show_view(self, index: int) -> None:
        self.stack.setCurrentIndex(index)
        for place, view in enumerate(self.views):
            view.setChecked(place == index)
        self.text.refresh()
        self.text.show_node(self.sheet.node)

    def _open_settings(self) -> None:
        self._show_view(0)
        self.sheet.focus_first()

    def _show_chosen(self) -> None:
        self.sheet.refresh()
        self.text.show_node(self.sheet.node)
        self._show_field()

    def restyled(self) -> None:
        """Maps are drawn in the theme's colours."""
        self._show_field()

    def _show_field(self) -> None:
        """The chosen plate's receptive field on a sample image."""
        place = min(self.bench.current or 0, len(self.bench.plates) - 1)
        plate = self.bench.plates[place]
        network, preprocessing = self.panel.plan.network, self.panel.plan.preprocessing
        size = preprocessing.size_in_words
        is_blind = bool(network.meeting) and plate.output not in network.judges
        pixels = self.session.images.pixels
        if pixels is not None:
            number = self.shown.currentData()
            seen = self.seen.pictures(self.panel.plan, self.panel.nodes, None if number == PLAN else number)
            self.bench.show_pictures({"image": to_image(pixels[SAMPLE]), **seen})
            box = QRectF(*plate.field(preprocessing.sides))
            self.sample.show_image(to_image(pixels[SAMPLE]), box if place and plate.shape and not is_blind else None)
        map_ = self.bench.pictures.get(plate.output) if place else None
        self.made.show_image(map_)
        self.made.setVisible(map_ is not None)
        self.sees_title.setText(f"Receptive field of {plate.name}" if place else "The image")
        if place == 0:
            words = f"Every image comes at {size} pixels."
        elif not plate.shape:
            words = "Not known: there is a fault here or before it."
        elif is_blind:
            words = "It looks at no image: its values are made of noise, or of the class."
        elif plate.receptive_field is None or plate.receptive_field >= max(preprocessing.sides):
            words = f"Each of its values sees the whole image, {size} pixels."
        else:
            words = f"Each of its values sees {plate.receptive_field}×{plate.receptive_field} of {size} pixels."
        if map_ is not None:
            words += f" Beside it: the most active of its maps in run {self.seen.run}."
        self.sees.setText(words)
