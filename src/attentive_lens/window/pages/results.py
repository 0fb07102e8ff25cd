"""Results, the stage that answers: how good is it, and on what."""

from __future__ import annotations

from functools import partial
from typing import TypeVar

from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import QStackedWidget, QWidget

from attentive_lens.core.numbering import number_at
from attentive_lens.core.records import PlainTable
from attentive_lens.scoring.scores import Scores
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
from attentive_lens.window.results.behind import Behind
from attentive_lens.window.results.chosen import ChosenImages
from attentive_lens.window.results.view import ResultsView
from attentive_lens.window.results.views import OVERVIEW, VIEWS, views_of
from attentive_lens.window.session import Session
from attentive_lens.window.words import counted, main_figure, percent, thousands

SETS = ("validation", "test", "training")
V = TypeVar("V", bound=ResultsView)
LIST = 148
"""Pixels of the list."""

TEST_TIP = "Keep it for one last judgement: a run chosen by the test set looks better there than it is."


def rounded(value: float) -> str:
    """In whole numbers, or to three digits where it is small."""
    return thousands(round(value)) if abs(value) >= 100 else f"{value:.3g}"


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
        self.made: dict[str, ResultsView] = {}
        self.word, self._task = OVERVIEW, ""
        self.behind = Behind(session, self.chosen, self._choose_none)
        self.chosen.all_wrong_asked.connect(self.behind.wrong)
        self.parts = StageLayout(session, self.key, self._make_hero(), self._make_evidence(), self._make_list())
        self.chosen.head.addWidget(self.parts.wide)
        self.stack = either(self, empty, self.parts)
        self.where = self._make_where()

        self.show_view(OVERVIEW)
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
        for word, view in VIEWS.items():
            if word == "new images":  # of no set: a place of its own
                inside.addStretch()
            words = f"{word[0].upper()}{word[1:]}"
            show = partial(self.show_view, word)
            self.views[word] = Entry(words, f"{word} of scores", view.tip, show, is_below=bool(view.under))
            inside.addWidget(self.views[word])
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
        inside.addWidget(self.shown, 1)
        return hero

    def _make_evidence(self) -> QWidget:
        """The images behind what is chosen, or what a view has in their place."""
        evidence = QWidget()
        inside = vertical(evidence, margins=(12, 0, 16, 0))
        self.right = QStackedWidget()
        self.right.addWidget(self.chosen)
        inside.addWidget(self.right)
        return evidence

    def view(self, kind: type[V]) -> V:
        """The view of a kind."""
        view = self._view(kind.word)
        if not isinstance(view, kind):
            raise TypeError(f"{kind.word} is another view")
        return view

    def _view(self, word: str) -> ResultsView:
        """A view by its word, made when it is first wanted."""
        if word not in self.made:
            view = self.made[word] = VIEWS[word].load()(self.session)
            view.leads_to(self.behind)
            view.set_chosen.connect(self._choose)
            view.opened.connect(self._open)
            view.changed.connect(self.action_changed)
            view.changed.connect(self._show_figures)
            self.shown.addWidget(view)
            if view.beside is not None:
                self.right.addWidget(view.beside)
        return self.made[word]

    def _choose_none(self) -> None:
        for view in self.made.values():
            view.choose_none()

    @property
    def current(self) -> ResultsView:
        """The view that is seen."""
        return self._view(self.word)

    def open(self, kind: type[V]) -> V:
        """Show the view of a kind."""
        self.show_view(kind.word)
        return self.view(kind)

    def show_view(self, word: str) -> None:
        """Show one of `VIEWS`."""
        if word != self.word:
            self.leaving.emit()
        self.word = word
        self.shown.setCurrentWidget(self.current)
        self.right.setCurrentWidget(self.current.beside or self.chosen)
        for each, entry in self.views.items():
            entry.setChecked(each == word)
        self.remarks.setChecked(word == OVERVIEW)
        self.refresh()

    def _show_figures(self) -> None:
        known = self.session.scores.current is not None or self.session.runs.draws
        for word, view in VIEWS.items():
            own = self.made[word].figure() if word in self.made else ""
            self.views[word].show_figure((own or view.figure(self.session)) if known else "")

    def _show_remarks(self) -> None:
        self.cautions.setVisible(bool(self.caution.text()) and self.remarks.isChecked())

    def bookmark(self) -> PlainTable:
        """View, set and image at hand."""
        return {"view": self.word, "on": self.session.scores.on, "image": self.chosen.current}

    def come_back(self, bookmark: PlainTable) -> None:
        """See `Page`."""
        if bookmark["on"] != self.session.scores.on:
            self._choose(str(bookmark["on"]))
        self.show_view(str(bookmark["view"]))
        if isinstance(bookmark["image"], int):
            self.chosen.sheet.select(bookmark["image"])

    def state(self) -> str:
        """Accuracy on the set in view; of one of several labels its F1."""
        table = self.session.scores.current
        if table is not None and self.session.runs.asks_about:
            value = table.measures.by_class[1].f1
            return "" if value is None else f"F1 {value:.2f}"
        return percent(table.accuracy) if table else ""

    def action(self) -> tuple[str, bool]:
        """On to why; of a run that draws there is no mistake to explain."""
        own = self.current.action()
        if own is not None:
            return own
        if self.session.runs.draws:
            return "Change the network", True
        words = "Explain this one" if self.chosen.current is not None else "Explain the surest mistake"
        return words, bool(self.session.scores.mistakes())

    def act(self) -> None:
        """Explain the selected image, or the surest mistake."""
        if self.current.action() is not None:
            self.current.act()
        elif self.session.runs.draws:
            self.session.stage_asked.emit("network")
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
        self._offer_views()
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
        if session.runs.draws:
            self._show_bound()
            return
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
        if session.runs.asks_about:
            self._show_label(table)
            return
        self.title.setText(percent(table.accuracy))
        wrong = len(session.scores.mistakes())
        self.about.setText(
            f"of {thousands(table.images)} {session.scores.on} images right · {thousands(wrong)} wrong"
            f" · {self._loss_word(table.loss_function)} {table.loss:.3f}"
            + (f" · {thousands(table.unknown)} of classes it does not know" if table.unknown else "")
        )
        self.current.refresh()
        self.behind.refresh()
        self.action_changed.emit()

    def _show_label(self, table: Scores) -> None:
        """What stands for one of several labels: accuracy would mostly tell how rare it is."""
        name, own = self.session.runs.asks_about, table.measures.by_class[1]
        missed, false = int(table.confusion[1, 0]), int(table.confusion[0, 1])
        self.title.setText("–" if own.f1 is None else f"{own.f1:.3f}")
        self.about.setText(
            f"F1 of «{name}» · {thousands(missed)} missed, {thousands(false)} falsely said"
            f" of {thousands(table.images)} {table.on} images"
        )
        self.about.setToolTip("The harmonic mean of precision and recall of the label in view.")
        self.current.refresh()
        self.behind.refresh()
        self.action_changed.emit()

    def _offer_views(self) -> None:
        """Those of what the run in view does: answer classes, or draw."""
        kind = self.session.runs.task.kind
        offered = views_of(kind, self.word)
        for word, entry in self.views.items():
            entry.setVisible(word in offered)
        is_other, self._task = kind != self._task, kind
        if self.word not in offered or (is_other and offered[0] != self.word and self.word == OVERVIEW):
            self.show_view(offered[0])

    def _show_bound(self) -> None:
        """What stands for a run that draws, in place of how many answers are right."""
        session = self.session
        view = session.runs.view
        best = view.best if view is not None else None
        figures = best.validation or best.training if best is not None else None
        on = "validation" if best is not None and best.validation is not None else "training images"
        waiting = view is not None and view.state == "training"
        self.problem.setText("Drawn when training is done." if waiting else "")
        self.problem.setVisible(waiting)
        self.title.setText(main_figure(figures.main_in_words) if figures is not None else "–")
        parts = figures.more if figures is not None else {}
        measures = session.runs.task.measures
        known = [measure for name, measure in measures.items() if name in parts][:4]
        main, others = (known[0], known[1:]) if known else (None, [])
        self.about.setToolTip(main.meaning if main is not None else "")
        parts_in_words = [
            f"{each.label} {percent(parts[each.name]) if each.is_share else rounded(parts[each.name])}"
            for each in others
        ]
        self.about.setText(
            " · ".join([f"{main.label} on {on}", *parts_in_words]).replace("-", "\u2212") if main else ""
        )
        self.current.refresh()
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
