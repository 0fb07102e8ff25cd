"""Explain, the stage that answers: why this answer for this image."""

from __future__ import annotations

from functools import partial

from PyQt6.QtGui import QKeyEvent, QKeySequence, QShortcut
from PyQt6.QtWidgets import QStackedWidget, QWidget

from attentive_lens.core.numbering import number_at
from attentive_lens.core.records import PlainTable
from attentive_lens.desk.requests.explaining import (
    Explain,
    Explanation,
    FileImage,
    MapSettings,
    RunImage,
    Trust,
    TrustChecks,
)
from attentive_lens.window.explaining.ahead import Ahead
from attentive_lens.window.explaining.alike import AlikePanel
from attentive_lens.window.explaining.book import CaseBookView
from attentive_lens.window.explaining.causes import CausesPanel
from attentive_lens.window.explaining.change import ChangePanel
from attentive_lens.window.explaining.classes import ClassesPanel
from attentive_lens.window.explaining.column import PANELS, EvidenceColumn
from attentive_lens.window.explaining.hero import ExplainHero
from attentive_lens.window.explaining.map_choice import settings_of
from attentive_lens.window.explaining.maps import MapsPanel
from attentive_lens.window.explaining.strip import ImageStrip
from attentive_lens.window.pages.base import Page, either
from attentive_lens.window.parts.basics import OneLine, button, horizontal
from attentive_lens.window.parts.empty import EmptyState
from attentive_lens.window.parts.jump import JumpField
from attentive_lens.window.parts.stage_layout import StageLayout
from attentive_lens.window.session import Session
from attentive_lens.window.words import thousands
from attentive_lens.workspace.cases import Evidence

NARROW, JUMP = 32, 116
"""Pixels of a step's button, and of the field for a number."""
ASKED_FOR = {"alike": AlikePanel, "causes": CausesPanel}
NOTHING = "Open one from the Results: click a cell of the matrix, then an image. Or take the surest mistake."
DRAWS = "The run in view draws images and answers no classes. What it draws stands in the Results."


class ExplainPage(Page):
    """The lens over two copies of the image, the answers and the case; beside them what is asked of the image."""

    key = "explain"
    parts: StageLayout

    def __init__(self, session: Session) -> None:
        super().__init__(session)
        self.image: int | None = None
        self.new_file: tuple[str, str] | None = None
        self.walked: list[int] = []
        self._walk_of: tuple[int | None, str] = (None, "")
        self.explanation: Explanation | None = None
        self.ahead = Ahead(session)
        self.answered_by: int | None = None
        self._case_wanted: int | None = None
        go = partial(session.stage_asked.emit, "results")
        self.empty = EmptyState("pair", "No image under the lens", NOTHING, "Go to the Results", "go to results", go)
        self.strip = ImageStrip(session)
        self.strip.chosen.connect(self._open_from_strip)
        self.book = CaseBookView(session)
        self.centre = QStackedWidget()
        self.centre.addWidget(self._make_hero())
        self.centre.addWidget(self.book)
        self.parts = StageLayout(session, self.key, self.centre, self._make_evidence(), self.strip)
        self.evidence.head.addWidget(self.parts.wide)
        self.stack = either(self, self.empty, self.parts)
        self.where = self._make_where()
        self._connect_cases()
        for keys, step in (("PgDown", 1), ("PgUp", -1)):
            QShortcut(QKeySequence(keys), self).activated.connect(partial(self._step, step))
        for place in range(len(PANELS)):
            keys = f"Ctrl+Shift+{place + 1}"
            QShortcut(QKeySequence(keys), self).activated.connect(partial(self.evidence.open_group, place))
        session.runs_changed.connect(self._other_run)
        for changed in (session.images.repainted, session.images.outlined):
            changed.connect(self._repainted)
        session.scores_ready.connect(self._show_place)
        session.scores_ready.connect(self._take_surest)

    def _make_hero(self) -> QWidget:
        hero = ExplainHero(self.session)
        self.twins, self.answers, self.case, self._show_answers = hero.twins, hero.answers, hero.case, hero.show_answers
        self.twins.requested.connect(self._ask_again)
        self.twins.region_drawn.connect(self._cover_region)
        self.twins.measure_asked.connect(self._measure)
        return hero

    def _make_evidence(self) -> QWidget:
        self.evidence = EvidenceColumn(self.session)
        for panel in self.evidence.every:
            panel.opened.connect(self.open_image)
            panel.walked.connect(self.walk_through)
        self.evidence.of(MapsPanel).chosen.connect(self._choose_method)
        return self.evidence

    def _make_where(self) -> QWidget:
        """Where in the set one stands: for the top strip."""
        where = QWidget()
        row = horizontal(where, spacing=8)
        self.place = OneLine("mistake place", "faint")
        row.addWidget(self.place, 1)
        tip = "The previous mistake (Page up)."
        self.back = button("‹", "previous mistake", tip, partial(self._step, -1))
        self.forth = button("›", "next mistake", "The next mistake (Page down).", partial(self._step, 1))
        for each in (self.back, self.forth):
            each.setFixedWidth(NARROW)
            row.addWidget(each)
        self.jump = JumpField(self.session, self)
        self.jump.setFixedWidth(JUMP)
        self.jump.chosen.connect(lambda place: self.open_image(number_at(place)))
        row.addWidget(self.jump)
        return where

    def _connect_cases(self) -> None:
        self.twins.take_key = self.case.take_key
        self.case.pin_asked.connect(self._pin_map)
        self.case.book_asked.connect(lambda: self.show_view("case book"))
        self.case.shown_again.connect(self.replay)
        for panel in self.evidence.every:
            panel.pinned.connect(self.case.add)
            panel.noted.connect(self.case.note_down)
            panel.remedied.connect(self.case.take_remedy)
        self.book.opened.connect(self.open_image)
        self.book.left.connect(lambda: self.show_view("image"))
        self.book.tried.connect(self.case.show_tried)

    def show_view(self, name: str) -> None:
        """The image, the case book, or a panel of evidence."""
        if name in ASKED_FOR:
            self.evidence.open(ASKED_FOR[name])
        elif name == "case":
            self._case_wanted = self.image
            self._open_case_wanted()
        is_book = name == "case book"
        self.centre.setCurrentIndex(int(is_book))
        self.parts.show_hero_alone(is_book)
        if is_book:
            self.book.ask()
            self.book.table.setFocus()

    def _open_case_wanted(self) -> None:
        """A case that was asked for from elsewhere, once its image is explained."""
        shown = self.explanation
        if shown is not None and shown.image == self._case_wanted and self.case.case is None:
            self.case.open_case()
        if shown is not None and shown.image == self._case_wanted:
            self._case_wanted = None

    def bookmark(self) -> PlainTable:
        """The image, what it is walked through among, and the evidence in view."""
        names = {"panel": self.evidence.current.title, "book": bool(self.centre.currentIndex())}
        return {"image": self.image, "file": self.new_file, "walked": tuple(self.walked), **names}

    def come_back(self, bookmark: PlainTable) -> None:
        """See `Page`."""
        panel = next(each for each in self.evidence.every if each.title == bookmark["panel"])
        self.evidence.open(type(panel))
        walked, image, file = bookmark["walked"], bookmark["image"], bookmark["file"]
        self.walk_through(list(walked) if isinstance(walked, tuple) else [])
        if isinstance(image, int):
            self.open_image(image)
        elif isinstance(file, tuple):
            self.open_file(*file)
        if bookmark["book"]:
            self.show_view("case book")

    def _pin_map(self) -> None:
        shown = self.explanation
        if shown is None:
            return
        first = next((region for region in shown.regions), None)
        where = ""
        if first is not None:
            row, column = first.top + first.height / 2, first.left + first.width / 2
            where = f", most about row {row:.2f}, column {column:.2f}"
        choice = self.twins.chooser.choice
        settings: PlainTable = choice.write_kind()
        if self.twins.right.target:
            settings["for"] = self.twins.right.target
        self.case.add("map", f"{choice.words} for {shown.predicted}{where}", settings)

    def replay(self, evidence: Evidence) -> None:
        """Show evidence as it was pinned, for the run in view."""
        if evidence.run != self.session.runs.in_view:
            words = f"Pinned with run {evidence.run}: shown as run {self.session.runs.in_view} has it."
            self.session.message.emit(words, False)
        if evidence.kind == "map":
            self.twins.chooser.take(settings_of(evidence.settings))
            self.twins.right.choose(str(evidence.settings.get("for", "")))
            self._ask_again()
        else:
            self.evidence.replay(evidence.kind, evidence.settings)

    def _cover_region(self, across: float, down: float, width: float, height: float) -> None:
        self.evidence.open(ChangePanel).cover_region(across, down, width, height)

    def keyPressEvent(self, event: QKeyEvent | None) -> None:
        """C opens a case, N shows the images most alike; L S X decide about the image, F where the pair is in hand."""
        key = event.text().upper() if event is not None else ""
        if key == "C" and self.case.open.isVisible():
            self.case.open.click()
        elif key == "N" and not self.centre.currentIndex():
            self.evidence.open(AlikePanel)
        elif event is None or self.centre.currentIndex() or key == "F" or not self.case.take_key(event):
            super().keyPressEvent(event)

    def state(self) -> str:
        """The image under the lens, in the room there is."""
        if self.image is None:
            return ""
        return f"image {self.image}" if self.image < 1000 else thousands(self.image)

    def action(self) -> tuple[str, bool]:
        """On through the mistakes."""
        return "Next mistake", bool(self.session.scores.mistakes())

    def act(self) -> None:
        """The next mistake."""
        self._step(1)

    def entered(self) -> None:
        """Have the run in view scored; its surest mistake comes under the lens if nothing is there."""
        self.session.scores.want()
        self._is_drawn()
        self._take_surest()

    def _take_surest(self) -> None:
        if self.image is None and self.new_file is None and self.isVisible() and self.session.scores.mistakes():
            self.open_image(self.session.scores.mistakes()[0])

    def open_image(self, image: int) -> None:
        """Ask why of an image."""
        view, run = self.session.runs.view, self.session.runs.in_view
        if view is None or run is None or not view.has_model:
            self.session.message.emit("There is no trained model to ask yet. Train one first.", True)
            return
        if self._is_drawn():
            return
        if image != self.image and (self.image is not None or self.new_file is not None):
            self.leaving.emit()
        self.image, self.new_file = image, None
        request = self._request(run, image)
        known = self.ahead.known(request)
        if known is not None:
            self._take(run, known)
        else:
            self.session.ask(request, partial(self._take, run), priority=1, scope="explain")
        self.show_view("image")
        self.action_changed.emit()

    def _request(self, run: int, image: int) -> Explain:
        """Why of an image, with the map that is chosen."""
        return Explain(RunImage(self.session.place, run, image), self.twins.chooser.choice, self.twins.right.target)

    def _look_ahead(self) -> None:
        """Have the next mistake explained while this one is looked at."""
        mistakes, run = self._mistakes(), self.session.runs.in_view
        if run is not None and self.image in mistakes and len(mistakes) > 1:
            following = mistakes[(mistakes.index(self.image) + 1) % len(mistakes)]
            self.ahead.prepare(self._request(run, following))

    def open_file(self, file: str, against: str) -> None:
        """Ask why of an image file that no workspace knows; there is no true class, so another one takes its place."""
        view, run = self.session.runs.view, self.session.runs.in_view
        if view is None or run is None or not view.has_model or self._is_drawn():
            return
        self.image, self.new_file = None, (file, against)
        subject = FileImage(file, workspace=self.session.place, run=run, against=against)
        request = Explain(subject, self.twins.chooser.choice)
        self.session.ask(request, lambda explanation: self._take(run, explanation), priority=1, scope="explain")
        self.show_view("image")
        self.action_changed.emit()

    def _ask_again(self) -> None:
        """As the run in view or the method is another."""
        if self.image is not None:
            self.open_image(self.image)
        elif self.new_file is not None:
            self.open_file(self.new_file[0], self.twins.right.target or self.new_file[1])

    def _other_run(self) -> None:
        view = self.session.runs.view
        if self._is_drawn():
            self.answered_by = None
        elif view is not None and view.has_model and self.answered_by != self.session.runs.in_view:
            self._ask_again()

    def _is_drawn(self) -> bool:
        """Whether the run in view answers nothing that could be explained; says so in place of the pair."""
        draws = self.session.runs.draws
        self.empty.text.setText(DRAWS if draws else NOTHING)
        if draws:
            self.stack.setCurrentIndex(0)
        return draws

    def _repainted(self, images: list[int]) -> None:
        """Nothing found with the old pixels stands."""
        for panel in self.evidence.every:
            panel.forget()
        if self.image in images:
            self.explanation = None
            self._ask_again()

    def _measure(self) -> None:
        run, explanation = self.session.runs.in_view, self.explanation
        if run is None or explanation is None or explanation.image is None:
            return
        self.twins.show_waiting()

        def take(checks: TrustChecks) -> None:
            now = self.explanation
            if now is not None and now.is_like(explanation) and run == self.session.runs.in_view:
                self.twins.show_checks(checks)

        request = Trust(explanation.subject, explanation.method)
        self.session.ask(request, take, priority=5, scope="trust")

    def walk_through(self, images: list[int]) -> None:
        """These images, as they are chosen elsewhere; none for all mistakes."""
        self.walked = images
        self._walk_of = (self.session.runs.in_view, self.session.scores.on)
        if images and self.image not in images and self.isVisible():
            self.open_image(images[0])
        self._show_place()

    def _open_from_strip(self, image: int) -> None:
        self.open_image(image)
        self.strip.sheet.setFocus()

    def _mistakes(self) -> list[int]:
        """What is walked through: all mistakes, or the images chosen."""
        return self.walked or self.session.scores.mistakes()

    def _step(self, step: int) -> None:
        mistakes = self._mistakes()
        if not mistakes:
            return
        at = mistakes.index(self.image) + step if self.image in mistakes else 0
        self.open_image(mistakes[at % len(mistakes)])

    def _take(self, run: int, explanation: Explanation) -> None:
        requested = self.new_file[0] if self.new_file is not None else self.image
        if run != self.session.runs.in_view or requested not in (explanation.image, explanation.file):
            return
        before, self.explanation, self.answered_by = self.explanation, explanation, run
        if before is not None and explanation.complete and not before.complete and before.is_like(explanation):
            self.twins.show_trust(explanation)
            self._look_ahead()
            return
        self.stack.setCurrentIndex(1)
        self._show_answers(explanation)
        self.twins.show_explanation(explanation)
        self._show_place()
        self.case.show_explanation(explanation)
        self._open_case_wanted()
        self.evidence.show_explanation(explanation)
        if explanation.complete:
            self._look_ahead()

    def _choose_method(self, settings: MapSettings) -> None:
        """A method whose tile was clicked."""
        self.twins.chooser.take(settings)
        self._ask_again()

    def restyled(self) -> None:
        """Maps are drawn in the theme's colours."""
        self.twins.show_maps()
        self.evidence.restyled()

    def _show_place(self) -> None:
        self.evidence.of(CausesPanel).check()
        self.evidence.of(ClassesPanel).check()
        if self._walk_of != (self.session.runs.in_view, self.session.scores.on):
            self.walked = []
        mistakes = self._mistakes()
        word = "chosen" if self.walked else "mistake"
        words = f"{thousands(len(mistakes))} {word}{'' if self.walked or len(mistakes) == 1 else 's'}"
        on = self.session.scores.on
        parts = [f"{words} on {on}" if mistakes else ""]
        if self.image in mistakes:
            at = thousands(mistakes.index(self.image) + 1)
            parts = [f"{word} {at} of {thousands(len(mistakes))} on {on}"]
        shown = self.explanation
        if shown is not None:
            parts.append(f"image {shown.image}" if shown.image is not None else "new image")
            parts += [shown.set] if shown.image is not None and self.image not in mistakes else []
            parts.append(shown.file.rsplit("/", 1)[-1])
        self.place.setText(" · ".join(filter(None, parts)))
        self.strip.show_images(words, f"{words} on {on}, the surest first.", tuple(mistakes), self.image)
        for step_button in (self.back, self.forth):
            step_button.setEnabled(bool(mistakes))
        self.action_changed.emit()
