"""Results, the stage that answers: how good is it, and on what."""

from __future__ import annotations

from functools import partial
from typing import TypeVar

from PyQt6.QtWidgets import QHBoxLayout, QStackedWidget, QWidget

from attentive_lens.core.numbering import number_at
from attentive_lens.scoring.measures import Overview
from attentive_lens.window import look
from attentive_lens.window.pages.base import Page, either
from attentive_lens.window.parts.basics import EmptyState, button, horizontal, label, vertical, view_button
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
from attentive_lens.window.words import percent, thousands

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

TEST_TIP = "Keep it for one last judgement: a run chosen by the test set looks better there than it is."


class ResultsPage(Page):
    """The confusion matrix, and the images in its cells."""

    key = "results"

    def __init__(self, session: Session) -> None:
        super().__init__(session)
        empty = EmptyState(
            "Nothing to judge yet",
            "Train a network first; then its answers on the validation and test images stand here.",
            "Go to Training",
            "go to training",
            lambda: session.stage_asked.emit("training"),
        )
        full = QWidget()
        self.stack = either(self, empty, full)
        layout = horizontal(full, spacing=20, margins=(24, 16, 16, 16))

        left = vertical(spacing=12)
        layout.addLayout(left, 11)
        head = QHBoxLayout()
        self.title = label(size=look.TITLE, strong=True, name="results title")
        self.about = label(role="faint", name="results about")
        head.addWidget(self.title)
        head.addWidget(self.about)
        head.addStretch()
        self.set_buttons = {}
        for name in SETS:
            set_button = view_button(
                name,
                f"score {name}",
                f"Score the run on the {name} set. {TEST_TIP if name == 'test' else ''}".strip(),
                partial(self._choose, name),
            )
            head.addWidget(set_button)
            self.set_buttons[name] = set_button
        left.addLayout(head)
        self.measures = label(role="faint", name="results measures")
        self.measures.setWordWrap(True)
        self.measures.setToolTip(
            "The interval within which the accuracy lies with 95 %; the true class among the k surest; means over the"
            " classes of recall and of F1; and what always saying the largest class would get."
        )
        left.addWidget(self.measures)
        self.problem = label(role="warn", name="results problem")
        self.problem.setWordWrap(True)
        left.addWidget(self.problem)
        row = QHBoxLayout()
        self.caution = label(role="warn", name="results caution")
        self.caution.setWordWrap(True)
        row.addWidget(self.caution, 1)
        tip = "The images with another label."
        self.relabelled = button("Show them", "show relabelled", tip, lambda: self.behind.relabelled())
        row.addWidget(self.relabelled)
        left.addLayout(row)
        row = horizontal(spacing=0)
        self.views = {}
        for place, kind in enumerate(VIEWS):
            shown = kind.word.split(" ")[0].capitalize()
            self.views[kind] = view_button(shown, f"{kind.word} of scores", kind.tip, partial(self.open_view, place))
            row.addWidget(self.views[kind])
        row.addStretch()
        left.addLayout(row)
        self.chosen = ChosenImages(session)
        self.chosen.opened.connect(self._open)
        self.chosen.changed.connect(self.action_changed)
        self.every = tuple(kind(session) for kind in VIEWS)
        self.behind = Behind(session, self.chosen, self.view(MatrixView).choose_none)
        self.chosen.all_wrong_asked.connect(self.behind.wrong)
        self.shown, self.right = QStackedWidget(), QStackedWidget()
        self.right.addWidget(self.chosen)
        for view in self.every:
            view.leads_to(self.behind)
            view.set_chosen.connect(self._choose)
            view.opened.connect(self._open)
            view.changed.connect(self.action_changed)
            self.shown.addWidget(view)
            if view.beside is not None:
                self.right.addWidget(view.beside)
        left.addWidget(self.shown, 1)
        layout.addWidget(self.right, 9)

        self.open_view(0)
        session.runs_changed.connect(self._take_run)
        session.scores_ready.connect(self.refresh)
        session.pixels_ready.connect(self.refresh)
        self.refresh()

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
        self.shown.setCurrentIndex(place)
        self.right.setCurrentWidget(self.current.beside or self.chosen)
        for k, each in enumerate(self.views.values()):
            each.setChecked(k == place)
        self.refresh()

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
        self.caution.setVisible(bool(cautions))
        self.relabelled.setVisible(bool(cautions) and bool(session.scores.relabelled))
        if table is None:
            waiting = view is not None and view.state == "training"
            self.title.setText("–")
            self.about.setText("")
            self.problem.setText("Scored when training is done." if waiting else session.scores.problem or "Scoring …")
            self.problem.show()
            self.measures.setText("")
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
        self.measures.setText(in_words(table.measures.overview))
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


def in_words(view: Overview) -> str:
    """The figures of a set beside its accuracy, in a line."""
    low, high = view.accuracy.low, view.accuracy.high
    words = [f"95 %: {low * 100:.1f} to {percent(high)}"] if low is not None and high is not None else []
    words += [f"top-{k} {percent(share.value)}" for k, share in view.top if share.value is not None and k != 2][:1]
    if view.balanced_accuracy is not None and view.macro_f1 is not None:
        words += [f"balanced {percent(view.balanced_accuracy)}", f"macro F1 {view.macro_f1:.3f}"]
    if view.majority is not None:
        words.append(f"majority {percent(view.majority)}")
    return " · ".join(words)
