"""Images, the stage that answers: what am I teaching from."""

from __future__ import annotations

from functools import partial
from typing import Any

from numpy.typing import NDArray
from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import QHBoxLayout, QLabel, QPushButton, QScrollArea, QSlider, QStackedLayout, QVBoxLayout, QWidget

from attentive_lens.desk.front import small_classes
from attentive_lens.window import look
from attentive_lens.window.pages.base import Page
from attentive_lens.window.parts.bars import Bar, Bars
from attentive_lens.window.parts.basics import button, label, panel, to_image
from attentive_lens.window.parts.picture import PictureBox
from attentive_lens.window.parts.recipe_editor import RecipeEditor
from attentive_lens.window.parts.sheet import ContactSheet, Group
from attentive_lens.window.session import Session
from attentive_lens.window.words import thousands

MOST_FINDINGS = 8
SETS = ("training", "validation", "test")


class ImagesPage(Page):
    """The contact sheet by class and set, with what could not be read."""

    key = "images"
    word = "Images"
    question = "What am I teaching from?"

    def __init__(self, session: Session) -> None:
        super().__init__(session)
        self.label: int | None = None
        self.findings: list[dict[str, Any]] = []
        self.finding: int | None = None
        self.shown_sets = set(SETS)
        self.views = QStackedLayout(self)
        self.views.setContentsMargins(0, 0, 0, 0)
        sheet_view = QWidget()
        self.views.addWidget(sheet_view)
        self.editor: RecipeEditor | None = None
        layout = QHBoxLayout(sheet_view)
        layout.setContentsMargins(24, 16, 16, 16)
        layout.setSpacing(20)

        side = QVBoxLayout()
        side.setSpacing(12)
        layout.addLayout(side)
        frame, inside = panel("Classes", "class panel")
        frame.setFixedWidth(256)
        self.class_bars = Bars("class bars", 96, 48)
        self.class_bars.setToolTip("Images of each class. Click one to see only these, again to see all.")
        self.class_bars.chosen.connect(self._choose_class)
        scroll = QScrollArea()
        scroll.setWidgetResizable(True)
        scroll.setWidget(self.class_bars)
        scroll.setMaximumHeight(280)
        inside.addWidget(scroll)
        side.addWidget(frame)

        frame, inside = panel("Sets", "set panel")
        frame.setFixedWidth(256)
        self.set_buttons = {}
        for name in SETS:
            row = QHBoxLayout()
            made = button(name, f"set {name}", f"Show or hide the {name} images.", self._choose_sets, checkable=True)
            made.setChecked(True)
            made.setFixedWidth(112)
            count = label(role="faint", name=f"count {name}")
            count.setAlignment(Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter)
            row.addWidget(made)
            row.addWidget(count)
            inside.addLayout(row)
            self.set_buttons[name] = (made, count)
        side.addWidget(frame)

        frame, inside = panel("Faults", "faults panel")
        frame.setFixedWidth(256)
        self.look_for = button(
            "Look for faults",
            "look for faults",
            "Copies in two sets, marks that give a class away, poor images, rare classes.",
            self._look_for_faults,
        )
        inside.addWidget(self.look_for)
        self.finding_rows = QVBoxLayout()
        self.finding_rows.setSpacing(2)
        inside.addLayout(self.finding_rows)
        inside.addWidget(label("Not read", "faint", look.SMALL))
        self.skipped = QLabel()
        self.skipped.setObjectName("skipped files")
        self.skipped.setWordWrap(True)
        self.skipped.setTextFormat(Qt.TextFormat.PlainText)
        self.skipped.setAlignment(Qt.AlignmentFlag.AlignTop)
        self.skipped.setFont(look.font(look.SMALL))
        scroll = QScrollArea()
        scroll.setWidgetResizable(True)
        scroll.setWidget(self.skipped)
        inside.addWidget(scroll)
        side.addWidget(frame, 1)

        middle = QVBoxLayout()
        middle.setSpacing(8)
        head = QHBoxLayout()
        self.title = label(size=look.LARGE, strong=True, name="images title")
        head.addWidget(self.title)
        head.addStretch()
        head.addWidget(button("Changes for training", "open recipe", "Design the recipe by eye.", self.open_recipe))
        head.addSpacing(12)
        head.addWidget(label("smaller", "faint", look.SMALL))
        self.zoom = QSlider(Qt.Orientation.Horizontal)
        self.zoom.setObjectName("zoom")
        self.zoom.setAccessibleName("size of the images on the sheet")
        self.zoom.setToolTip("Size of the images on the sheet, in pixels.")
        self.zoom.setRange(24, 192)
        self.zoom.setValue(64)
        self.zoom.setFixedWidth(120)
        self.zoom.valueChanged.connect(lambda side: self.sheet.set_side(side))
        head.addWidget(self.zoom)
        head.addWidget(label("larger", "faint", look.SMALL))
        middle.addLayout(head)
        self.warning = label(role="warn", name="images warning")
        self.warning.setWordWrap(True)
        middle.addWidget(self.warning)
        self.sheet = ContactSheet("contact sheet")
        self.sheet.selected.connect(self._show_one)
        self.sheet.opened.connect(lambda place: session.explain_asked.emit(session.collection.rows[place].number))
        middle.addWidget(self.sheet, 1)
        layout.addLayout(middle, 1)

        frame, inside = panel(name="image panel")
        frame.setFixedWidth(232)
        self.preview = PictureBox("image preview", 198)
        inside.addWidget(self.preview)
        self.facts = label("Select an image to see what it is.", "faint", name="image facts")
        self.facts.setWordWrap(True)
        self.facts.setAlignment(Qt.AlignmentFlag.AlignTop)
        inside.addWidget(self.facts, 1)
        self.ask = button(
            "Why this answer?",
            "explain image",
            "Open the image in Explain with the run in view.",
            self._explain,
        )
        self.ask.hide()
        inside.addWidget(self.ask)
        layout.addWidget(frame)

        session.pixels_ready.connect(self.refresh)
        session.plan_changed.connect(self.refresh)
        self.refresh()

    def state(self) -> str:
        """Images and classes."""
        found = self.session.collection
        return f"{thousands(len(found.rows))} · {len(found.classes)}"

    def action(self) -> tuple[str, bool]:
        """On to the network."""
        return "Choose a network", True

    def act(self) -> None:
        """On to the network."""
        self.session.stage_asked.emit("network")

    def open_recipe(self) -> None:
        """Show the recipe's editor, made when it is first wanted."""
        if self.editor is None:
            self.editor = RecipeEditor(self.session)
            self.editor.back.clicked.connect(lambda: self.views.setCurrentIndex(0))
            self.views.addWidget(self.editor)
        self.views.setCurrentWidget(self.editor)
        self.editor.refresh()

    def refresh(self) -> None:
        """Show the collection as it is filtered."""
        found = self.session.collection
        totals = [sum(row.label == k for row in found.rows) for k in range(len(found.classes))]
        most = max(totals)
        self.class_bars.show_bars(
            tuple(
                Bar(name, n / most, thousands(n), "petrol" if k == self.label else "faint")
                for k, (name, n) in enumerate(zip(found.classes, totals, strict=True))
            ),
            self.label,
        )
        for name, (made, count) in self.set_buttons.items():
            count.setText(thousands(found.count(name, self.label)))
            made.setEnabled(found.count(name) > 0)
        groups = []
        for k, name in enumerate(found.classes):
            if self.label not in (None, k):
                continue
            for set_name in SETS:
                places = tuple(
                    at
                    for at, (row, own) in enumerate(zip(found.rows, found.sets, strict=True))
                    if row.label == k and own == set_name and own in self.shown_sets
                )
                if places:
                    groups.append(Group(name, f"{set_name} · {thousands(len(places))}", places))
        if self.finding is not None:
            chosen = self.findings[self.finding]
            groups = [Group(chosen["kind"], "", tuple(image - 1 for image in chosen["images"]))]
        shown = sum(len(group.places) for group in groups)
        self.title.setText(f"{thousands(shown)} images" if shown != 1 else "1 image")
        self.sheet.show_groups(self.session.pixels, tuple(groups))
        if self.sheet.current is None and groups:
            self.sheet.current = groups[0].places[0]
        if self.sheet.current is not None:
            self._show_one(self.sheet.current)
        warnings = small_classes(found)
        if self.finding is not None:
            chosen = self.findings[self.finding]
            warnings = [f"{chosen['why']}. {chosen['remedy']}."]
        self.warning.setText("\n".join(warnings[:3]))
        self.warning.setVisible(bool(warnings))
        lines = [f"{file.rsplit('/', 1)[-1]!s}\n{why}" for file, why in found.skipped]
        self.skipped.setText("\n\n".join(lines) if lines else "Every file was read.")

    def _look_for_faults(self) -> None:
        self.look_for.setEnabled(False)
        self.look_for.setText("Looking …")
        self.session.ask("faults", self._take_faults, self._faults_failed, priority=8)

    def _faults_failed(self, sentence: str) -> None:
        self.look_for.setEnabled(True)
        self.look_for.setText("Look for faults")
        self.session.said.emit(sentence, True)

    def _take_faults(self, values: dict[str, Any], _: dict[str, NDArray[Any]]) -> None:
        self.findings, self.finding = values["findings"], None
        self.look_for.setEnabled(True)
        self.look_for.setText("Look again" if self.findings else "No faults were found")
        while self.finding_rows.count():
            item = self.finding_rows.takeAt(0)
            widget = item.widget() if item is not None else None
            if widget is not None:
                widget.deleteLater()
        for k, found in enumerate(self.findings[:MOST_FINDINGS]):
            words = f"{found['kind']} · {thousands(len(found['images']))}"
            row = button(words, f"finding {k}", found["why"], partial(self._choose_finding, k), checkable=True)
            row.setProperty("role", "row")
            self.finding_rows.addWidget(row)
        more = len(self.findings) - MOST_FINDINGS
        if more > 0:
            self.finding_rows.addWidget(label(f"and {more} more: attentive-lens faults", "faint", look.SMALL))
        self.refresh()

    def _choose_finding(self, number: int) -> None:
        self.finding = None if self.finding == number else number
        for k in range(min(MOST_FINDINGS, len(self.findings))):
            item = self.finding_rows.itemAt(k)
            row = item.widget() if item is not None else None
            if isinstance(row, QPushButton):
                row.setChecked(k == self.finding)
        self.refresh()

    def _choose_class(self, label: int) -> None:
        self.label = None if self.label == label else label
        self.refresh()

    def _choose_sets(self) -> None:
        self.shown_sets = {name for name, (made, _) in self.set_buttons.items() if made.isChecked()}
        self.refresh()

    def _show_one(self, place: int) -> None:
        found = self.session.collection
        row = found.rows[place]
        if self.session.pixels is not None:
            self.preview.show_image(to_image(self.session.pixels[place]))
        self.facts.setText(
            f"{found.classes[row.label]} · {found.sets[place]}\n"
            f"image {row.number}\n{row.file.rsplit('/', 1)[-1]}\n"
            f"{row.width}×{row.height} pixels, {row.mode}\n{thousands(row.bytes)} bytes"
        )
        self.facts.setToolTip(row.file)
        view = self.session.view
        self.ask.setVisible(view is not None and view.has_model)

    def _explain(self) -> None:
        if self.sheet.current is not None:
            self.session.explain_asked.emit(self.session.collection.rows[self.sheet.current].number)
