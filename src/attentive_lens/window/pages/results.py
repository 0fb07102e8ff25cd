"""Results, the stage that answers: how good is it, and on what."""

from __future__ import annotations

from functools import partial
from typing import TypeVar

from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import QStackedWidget, QWidget

from attentive_lens.core.numbering import number_at
from attentive_lens.core.records import PlainTable
from attentive_lens.window import look
from attentive_lens.window.pages.base import Page, either
from attentive_lens.window.parts.basics import (
    button,
    filter_button,
    horizontal,
    label,
    vertical,
    view_button,
)
from attentive_lens.window.parts.contents import Entry
from attentive_lens.window.parts.empty import EmptyState
from attentive_lens.window.parts.stage_layout import StageLayout
from attentive_lens.window.results.against import AgainstView
from attentive_lens.window.results.behind import Behind
from attentive_lens.window.results.chosen import ChosenImages
from attentive_lens.window.results.classes import ClassesView
from attentive_lens.window.results.confidence import ConfidenceView
from attentive_lens.window.results.map import MapView
from attentive_lens.window.results.matrix import MatrixView
from attentive_lens.window.results.new_images import NewImagesView
from attentive_lens.window.results.overview import OverviewView
from attentive_lens.window.results.robustness import RobustnessView
from attentive_lens.window.results.slices import SlicesView
from attentive_lens.window.results.view import ResultsView
from attentive_lens.window.session import Session
from attentive_lens.window.words import counted, percent, thousands

SETS = ("validation", "test", "training")
VIEWS: tuple[type[ResultsView], ...] = (
    OverviewView,
    MatrixView,
    ClassesView,
    ConfidenceView,
    SlicesView,
    MapView,
    RobustnessView,
    AgainstView,
    NewImagesView,
)
"""In the order of their buttons."""
V = TypeVar("V", bound=ResultsView)
LIST = 148
"""Pixels of the list."""

TEST_TIP = "Keep it for one last judgement: a run chosen by the test set looks better there than it is."


class ResultsPage(Page):
    """The confusion matrix, and the images in its cells."""

    key = "results"
    parts: StageLayout

    def __init__(self, session: Session) -> None:
        super().__init__(session)
        empty = EmptyState(
            "matrix",
            "Nothing to judge yet",
            "Train a network first; then its answers on the validation and test images stand here.",
            "Go to Training",
            "go to training",
            lambda: session.stage_asked.emit("training"),
        )
        self.chosen = ChosenImages(session)
        self.chosen.opened.connect(self._open)
        self.chosen.changed.connect(self.action_changed)
        self.every = tuple(kind(session) for kind in VIEWS)
        self.behind = Behind(session, self.chosen, self.view(MatrixView).choose_none)
        self.chosen.all_wrong_asked.connect(self.behind.wrong)
        self.parts = StageLayout(session, self.key, self._make_hero(), self._make_evidence(), self._make_list())
        self.chosen.head.addWidget(self.parts.wide)
        self.stack = either(self, empty, self.parts)
        self.where = self._make_where()

        self.open_view(0)
        session.runs_changed.connect(self._take_run)
        session.scores_ready.connect(self.refresh)
        session.pixels_ready.connect(self.refresh)
        self.refresh()

    def _make_where(self) -> QWidget:
        """The set in view: for the top strip."""
        where = QWidget()
        row = horizontal(where, spacing=0)
        self.set_buttons = {}
        for name in SETS:
            tip = f"Score the run on the {name} set. {TEST_TIP if name == 'test' else ''}".strip()
            self.set_buttons[name] = view_button(name, f"score {name}", tip, partial(self._choose, name))
            row.addWidget(self.set_buttons[name])
        row.addStretch()
        return where

    def _make_list(self) -> QWidget:
        """How good it is in a word, and the views, each with a figure of its own."""
        list_ = QWidget()
        list_.setFixedWidth(LIST)
        inside = vertical(list_, spacing=0)
        self.title = label(size=look.TITLE, strong=True, name="results title")
        inside.addWidget(self.title)
        self.about = label(role="faint", size=look.SMALL, name="results about")
        self.about.setWordWrap(True)
        inside.addWidget(self.about)
        tip = "What to know before trusting these figures; on the overview they are all there."
        self.remarks = filter_button("", "remarks", tip, self._show_remarks)
        inside.addSpacing(6)
        inside.addWidget(self.remarks, 0, Qt.AlignmentFlag.AlignLeft)
        inside.addSpacing(10)
        self.views = {}
        for place, kind in enumerate(VIEWS):
            if kind is NewImagesView:  # of no set: a place of its own
                inside.addStretch()
            words = f"{kind.word[0].upper()}{kind.word[1:]}"
            self.views[kind] = Entry(words, f"{kind.word} of scores", kind.tip, partial(self.open_view, place))
            inside.addWidget(self.views[kind])
        return list_

    def _make_hero(self) -> QWidget:
        """The view chosen; above the overview what to know before trusting it."""
        hero = QWidget()
        inside = vertical(hero, spacing=8)
        self.problem = label(role="warn", name="results problem")
        self.problem.setWordWrap(True)
        inside.addWidget(self.problem)
        self.cautions = QWidget()
        row = horizontal(self.cautions)
        self.caution = label(role="warn", name="results caution")
        self.caution.setWordWrap(True)
        row.addWidget(self.caution, 1)
        tip = "The images with another label."
        self.relabelled = button("Show them", "show relabelled", tip, lambda: self.behind.relabelled())
        row.addWidget(self.relabelled)
        inside.addWidget(self.cautions)
        self.shown = QStackedWidget()
        for view in self.every:
            view.leads_to(self.behind)
            view.set_chosen.connect(self._choose)
            view.opened.connect(self._open)
            view.changed.connect(self.action_changed)
            view.changed.connect(self._show_figures)
            self.shown.addWidget(view)
        inside.addWidget(self.shown, 1)
        return hero

    def _make_evidence(self) -> QWidget:
        """The images behind what is chosen, or what a view has in their place."""
        evidence = QWidget()
        inside = vertical(evidence, margins=(12, 0, 16, 0))
        self.right = QStackedWidget()
        self.right.addWidget(self.chosen)
        for view in self.every:
            if view.beside is not None:
                self.right.addWidget(view.beside)
        inside.addWidget(self.right)
        return evidence

    def view(self, kind: type[V]) -> V:
        """The view of a kind."""
        return next(view for view in self.every if isinstance(view, kind))

    @property
    def current(self) -> ResultsView:
        """The view that is seen."""
        return self.every[self.shown.currentIndex()]

    def open(self, kind: type[V]) -> V:
        """Show the view of a kind."""
        self.open_view(VIEWS.index(kind))
        return self.view(kind)

    def open_view(self, place: int) -> None:
        """Show one of `VIEWS`, by its place."""
        if place != self.shown.currentIndex():
            self.leaving.emit()
        self.shown.setCurrentIndex(place)
        self.right.setCurrentWidget(self.current.beside or self.chosen)
        for k, each in enumerate(self.views.values()):
            each.setChecked(k == place)
        self.remarks.setChecked(isinstance(self.current, OverviewView))
        self.refresh()

    def _show_figures(self) -> None:
        known = self.session.scores.current is not None
        for each in self.every:
            self.views[type(each)].show_figure(each.figure() if known else "")

    def _show_remarks(self) -> None:
        self.cautions.setVisible(bool(self.caution.text()) and self.remarks.isChecked())

    def bookmark(self) -> PlainTable:
        """View, set and image at hand."""
        return {"view": self.shown.currentIndex(), "on": self.session.scores.on, "image": self.chosen.current}

    def come_back(self, bookmark: PlainTable) -> None:
        """See `Page`."""
        if bookmark["on"] != self.session.scores.on:
            self._choose(str(bookmark["on"]))
        self.open_view(int(str(bookmark["view"])))
        if isinstance(bookmark["image"], int):
            self.chosen.sheet.select(bookmark["image"])

    def state(self) -> str:
        """Accuracy on the set in view."""
        table = self.session.scores.current
        return percent(table.accuracy) if table else ""

    def action(self) -> tuple[str, bool]:
        """On to why."""
        own = self.current.action()
        if own is not None:
            return own
        words = "Explain this one" if self.chosen.current is not None else "Explain the surest mistake"
        return words, bool(self.session.scores.mistakes())

    def act(self) -> None:
        """Explain the selected image, or the surest mistake."""
        if self.current.action() is not None:
            self.current.act()
        elif self.chosen.current is not None:
            self._open(self.chosen.current)
        elif self.session.scores.mistakes():
            self.session.explain_asked.emit(self.session.scores.mistakes()[0])

    def _take_run(self) -> None:
        self.behind.reset()
        self.entered()

    def entered(self) -> None:
        """Have the run in view scored."""
        self.session.scores.want()
        self.refresh()

    def _choose(self, on: str) -> None:
        self.behind.reset()
        self.session.scores.want(on)
        self.refresh()

    def refresh(self) -> None:
        """Show the scores of the run and set in view."""
        session = self.session
        view = session.runs.view
        self.stack.setCurrentIndex(1 if view is not None and view.has_model else 0)
        for name, set_button in self.set_buttons.items():
            set_button.setChecked(name == session.scores.on)
            set_button.setEnabled(session.images.collection.count(name) > 0)
        table = session.scores.current
        cautions = session.scores.cautions() if table is not None else []
        self.caution.setText("\n".join(cautions))
        self.remarks.setText(counted(len(cautions), "remark", "remarks"))
        self.remarks.setVisible(bool(cautions))
        self._show_remarks()
        self.relabelled.setVisible(bool(cautions) and bool(session.scores.relabelled))
        self._show_figures()
        if table is None:
            waiting = view is not None and view.state == "training"
            self.title.setText("–")
            self.about.setText("")
            self.problem.setText("Scored when training is done." if waiting else session.scores.problem or "Scoring …")
            self.problem.show()
            self.current.refresh()
            self.chosen.show_parts("", (), ())
            self.action_changed.emit()
            return
        self.problem.hide()
        self.title.setText(percent(table.accuracy))
        wrong = len(session.scores.mistakes())
        self.about.setText(
            f"of {thousands(table.images)} {session.scores.on} images right · {thousands(wrong)} wrong"
            f" · {self._loss_word(table.loss_function)} {table.loss:.3f}"
            + (f" · {thousands(table.unknown)} of classes it does not know" if table.unknown else "")
        )
        self.current.refresh()
        self.behind.again()
        self.action_changed.emit()

    def _loss_word(self, function: str) -> str:
        """The usual loss is told by the tooltip alone: its name is long, and everybody expects it."""
        self.about.setToolTip(f"The loss is the {function}, without label smoothing and class weights.")
        return "loss" if function == "cross-entropy" else function

    def _open(self, place: int) -> None:
        """Explain an image; those beside it are walked through."""
        beside = [number_at(place) for part in self.chosen.parts for place in part.places]
        self.session.walk_asked.emit(beside if number_at(place) in beside else [])
        self.session.explain_asked.emit(self.session.images.collection.rows[place].number)
