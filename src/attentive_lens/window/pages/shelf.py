"""The Shelf: what one can build on, and hand on."""

from __future__ import annotations

from functools import partial
from pathlib import Path

from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import QFileDialog, QScrollArea, QWidget

from attentive_lens.core.records import PlainTable
from attentive_lens.desk.network.bases import with_base
from attentive_lens.desk.requests.exporting import FILES, Exported, ExportModel
from attentive_lens.desk.requests.shelf import LookAtModel, ShelfModel, ShelfNetwork, ShelfVerified, VerifyOnShelf
from attentive_lens.errors import LensError
from attentive_lens.plan.base import MODEL_SUFFIXES, SHELF, Base
from attentive_lens.window import look
from attentive_lens.window.bench.plates import Plate
from attentive_lens.window.pages.base import Page
from attentive_lens.window.parts.basics import button, horizontal, label, panel, vertical
from attentive_lens.window.parts.flow import Flow
from attentive_lens.window.parts.stage_layout import StageLayout
from attentive_lens.window.session import Session
from attentive_lens.window.shelf.model_bench import model_bench, plates_of_model
from attentive_lens.window.shelf.model_card import ModelCard
from attentive_lens.window.shelf.models_list import ModelsList
from attentive_lens.window.words import counted, short, thousands

LIST = 176
"""Pixels of the list."""


class ShelfPage(Page):
    """Models at the left, the bench of the one in view, its card at the right."""

    key = "shelf"
    parts: StageLayout

    def __init__(self, session: Session) -> None:
        super().__init__(session)
        self.current, self.beside, self._wanted = "", "", ""
        self._benches: dict[tuple[str, int, int], tuple[Plate, ...]] = {}
        self._awaited: tuple[str, int, int] | None = None
        self.parts = StageLayout(session, self.key, self._make_hero(), self._make_evidence(), self._make_list())
        vertical(self).addWidget(self.parts)
        self.head.addWidget(self.parts.wide)
        session.shelf_changed.connect(self.refresh)
        session.runs_changed.connect(self._take_runs)
        self.refresh()

    def _make_list(self) -> QWidget:
        list_ = QWidget()
        list_.setFixedWidth(LIST)
        inside = vertical(list_, spacing=6)
        inside.addWidget(label("Models", size=look.TITLE, strong=True))
        self.list = ModelsList()
        self.list.chosen.connect(self.show_model)
        area = QScrollArea()
        area.setWidgetResizable(True)
        area.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        area.setWidget(self.list)
        self.area = area
        inside.addWidget(area, 1)
        tip = "Put the best model of the run in view here, with its scores on held-out images."
        self.put_run = button("Put the run here", "put run", tip, self._put_run)
        inside.addWidget(self.put_run)
        tip = "Put a model file here, of this program (.alens) or another (.onnx); dropping it on the window does, too."
        inside.addWidget(button("A model file …", "put file", tip, self._ask_file))
        return list_

    def _make_hero(self) -> QWidget:
        hero = QWidget()
        inside = vertical(hero, spacing=8)
        self.title = label(size=look.LARGE, strong=True, name="shelf title")
        self.about = label(role="faint", name="shelf about")
        head = Flow(spacing=10)
        head.addWidget(self.title)
        head.addWidget(self.about)
        inside.addLayout(head)
        frame, self.bench = model_bench("shelf bench")
        inside.addWidget(frame, 1)
        below = Flow(spacing=8)
        tip = "Read its file anew, score it on held-out images, and compare with the figure that is stored."
        self.verify = button("Verify", "verify model", tip, self._verify)
        tip = "Write it for other programs: ONNX with its preprocessing, our own file, or weights alone."
        self.export = button("Export …", "export from shelf", tip, self._ask_export)
        self.off = button("Take off", "take off", "Take it off the Shelf; Ctrl+Z puts it back.", self._take_off)
        for each in (self.verify, self.export, self.off):
            below.addWidget(each)
        inside.addLayout(below)
        self.result = label(role="faint", name="shelf result")
        self.result.setWordWrap(True)
        inside.addWidget(self.result)
        return hero

    def _make_evidence(self) -> QWidget:
        evidence = QWidget()
        outer = vertical(evidence, margins=(12, 0, 16, 0))
        frame, inside = panel(name="card panel")
        outer.addWidget(frame)
        inside.setContentsMargins(0, 4, 0, 0)
        inside.setSpacing(0)
        self.head = horizontal(spacing=0, margins=(16, 0, 8, 0))
        self.head.addWidget(label("Card", strong=True))
        self.head.addStretch()
        inside.addLayout(self.head)
        self.card = ModelCard()
        self.card.renamed.connect(self._rename)
        self.card.noted.connect(self._note)
        self.card.compared.connect(self._compare)
        area = QScrollArea()
        area.setWidgetResizable(True)
        area.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        area.setWidget(self.card)
        inside.addWidget(area, 1)
        return evidence

    @property
    def model(self) -> ShelfModel | None:
        """The one in view."""
        return self.session.shelf.model(self.current)

    def state(self) -> str:
        """How many models there are."""
        models = self.session.shelf.models
        return counted(len(models), "model", "models") if models else ""

    def action(self) -> tuple[str, bool]:
        """Build on the model in view."""
        return "Build on it", self.model is not None and not self.model.problem

    def act(self) -> None:
        """The next run's plan is built on it; go and see."""
        base = Base(model=f"{SHELF}{self.current}", take_preprocessing=True)
        try:
            plan = with_base(self.session.workspace, self.session.design.plan, base)
        except LensError as error:
            self.session.message.emit(str(error), True)
            return
        self.session.design.change(plan, f"building on «{self.current}»")
        self.session.stage_asked.emit("network")

    def entered(self) -> None:
        """Have the models read anew: another window, or a command, may have put one there."""
        self.session.shelf.want()

    def bookmark(self) -> PlainTable:
        """The model in view."""
        return {"model": self.current}

    def come_back(self, bookmark: PlainTable) -> None:
        """To that model, as soon as it is known."""
        self._wanted = str(bookmark.get("model", ""))
        self.refresh()

    def restyled(self) -> None:
        """The drawings are in the theme's colours."""
        self.list.update()
        self.bench.update()

    def show_model(self, name: str) -> None:
        """Put a model in view."""
        if name and name != self.current and self.session.shelf.model(name) is not None:
            self.leaving.emit()
            self.current, self.beside = name, ""
            self.result.setText("")
            self.refresh()

    def refresh(self) -> None:
        """The models as they stand."""
        models = self.session.shelf.models or ()
        names = [model.name for model in models]
        if self._wanted in names:
            self.current, self._wanted = self._wanted, ""
        if self.current not in names:
            self.current = names[0] if names else ""
        if self.beside not in names:
            self.beside = ""
        self.list.show_models(models, self.current)
        row = self.list.row(self.list.place_in_view() or 0)
        self.area.ensureVisible(0, row.center().y(), 0, row.height() // 2)
        self._take_runs()
        model = self.model
        self.card.setVisible(model is not None)
        for each in (self.verify, self.export, self.off):
            each.setEnabled(False)
        if model is not None:
            self._show(model, models)
        self.action_changed.emit()

    def _show(self, model: ShelfModel, models: tuple[ShelfModel, ...]) -> None:
        self.title.setText(model.name)
        cost = f"{thousands(model.weights)} weights · {short(model.multiply_adds)} multiply-adds an image"
        self.about.setText("" if model.problem else f"{model.layers} layers · {cost}")
        self.card.show_model(model, models, self.session.shelf.model(self.beside))
        writable = not self.session.reading_only
        self.off.setEnabled(writable and not model.ships)
        self.verify.setEnabled(not model.problem and not model.ships)
        self.export.setEnabled(True)
        self._show_bench(model)

    def _show_bench(self, model: ShelfModel) -> None:
        """Its plates, as soon as they are known."""
        key = (model.name, model.bytes, model.layers)
        plates = self._benches.get(key)
        if plates is None and not model.problem and key != self._awaited:
            self._awaited = key
            request = LookAtModel(self.session.place, model.name)
            self.session.ask(request, partial(self._take_network, key), self.result.setText, 2, "shelf bench")
        if plates != self.bench.plates:
            self.bench.show_plates(plates or ())

    def _take_network(self, key: tuple[str, int, int], network: ShelfNetwork) -> None:
        self._benches[key] = plates_of_model(network)
        if self.model is not None and self.model.name == key[0]:
            self.bench.show_plates(self._benches[key])

    def _take_runs(self) -> None:
        """The run that can be put here."""
        view = self.session.runs.view
        self.put_run.setEnabled(view is not None and view.has_model and not self.session.reading_only)
        self.put_run.setText(f"Put run {view.number} here" if view is not None else "Put the run here")

    def _put_run(self) -> None:
        if self.session.runs.current is not None:
            self._put(str(self.session.runs.current))

    def _ask_file(self) -> None:
        kinds = " ".join(f"*{ending}" for ending in MODEL_SUFFIXES)
        name = QFileDialog.getOpenFileName(self, "A model for the Shelf", "", f"Models ({kinds})")[0]
        if name:
            self.open_file(name, "")

    def open_file(self, file: str, against: str) -> None:
        """Put a model file here."""
        del against
        self._put(file)

    def _put(self, model: str) -> None:
        self.result.setText("Putting the model on the Shelf …")
        self.session.shelf.put(model, self._has_put, self.result.setText)

    def _has_put(self, name: str) -> None:
        self.current = name
        self.result.setText(f"«{name}» is on the Shelf.")

    def _rename(self, words: str) -> None:
        model = self.model
        if model is None or model.ships or words == model.name:
            return
        if self.session.shelf.rename(model.name, words):
            self.current = words
        else:
            self.card.name.setText(model.name)

    def _note(self, words: str) -> None:
        if self.model is not None and not self.model.ships:
            self.session.shelf.note(self.model.name, words)

    def _compare(self, name: str) -> None:
        self.beside = name
        self.refresh()

    def _take_off(self) -> None:
        if self.model is not None:
            self.session.shelf.take_off(self.model.name)

    def _verify(self) -> None:
        self.result.setText("Scoring the model …")
        request = VerifyOnShelf(self.session.place, self.current)
        self.session.ask(request, partial(self._verified, self.current), self.result.setText, scope="verify shelf")

    def _verified(self, name: str, summary: ShelfVerified) -> None:
        if name == self.current:
            self.result.setText(" ".join(summary.words()))
        if summary.stored_accuracy is None:
            self.session.shelf.want()

    def _ask_export(self) -> None:
        name = QFileDialog.getSaveFileName(self, "Export the model", f"{self.current}.onnx", FILES)[0]
        if name:
            self.export_to(Path(name))

    def export_to(self, file: Path) -> None:
        """Have the model written for other programs, by the ending of the file."""
        self.result.setText("Exporting the model …")
        request = ExportModel(self.session.place, f"{SHELF}{self.current}", str(file))
        self.session.ask(request, self._take_exported, self.result.setText, priority=4, scope="export")

    def _take_exported(self, summary: Exported) -> None:
        self.result.setText(" ".join(summary.words()))
