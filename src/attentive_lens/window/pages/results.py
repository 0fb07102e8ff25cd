"""Results, the stage that answers: how good is it, and on what."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from functools import partial

from PyQt6.QtWidgets import QHBoxLayout, QStackedWidget, QVBoxLayout, QWidget

from attentive_lens.scoring.measures import Overview, overview
from attentive_lens.scoring.scores import Answer, Scores
from attentive_lens.window import look
from attentive_lens.window.pages.base import Page, either
from attentive_lens.window.parts.basics import EmptyState, button, label, panel, view_button
from attentive_lens.window.parts.matrix import ConfusionMatrix
from attentive_lens.window.results.against import AgainstView
from attentive_lens.window.results.chosen import ChosenImages, Part, caption
from attentive_lens.window.results.classes import ClassesView
from attentive_lens.window.results.confidence import ConfidenceView
from attentive_lens.window.results.map import MapView
from attentive_lens.window.results.new_images import NewImagesView
from attentive_lens.window.results.robustness import RobustnessView
from attentive_lens.window.results.slices import SlicesView
from attentive_lens.window.session import Session
from attentive_lens.window.words import counted, percent, thousands

SETS = ("validation", "test", "training")
VIEWS = {
    "matrix": "Which class was taken for which.",
    "classes": "Precision, recall and F1 of every class, and the curves of one.",
    "confidence": "How sure answers are, whether they may be, and what withholding unsure ones costs.",
    "slices": "Parts of the set, by brightness, sharpness, size or folder, that are answered worse than the rest.",
    "map": "All images laid out as a layer finds them alike: groups, strays, and images near those of other classes.",
    "robustness": "The same images made worse, grade by grade: what still comes out right.",
    "against": "Another run's mistakes: fixed, newly made, or still there.",
    "new images": "Images of no set: dropped, pasted or opened, and answered at once.",
}
"""What is seen of the scores, in the order of the stack, and the tips."""

TEST_TIP = "Keep it for one last judgement: a run chosen by the test set looks better there than it is."


class ResultsPage(Page):
    """The confusion matrix, and the images in its cells."""

    key = "results"

    def __init__(self, session: Session) -> None:
        super().__init__(session)
        self._measured: Scores | None = None
        self._again: Callable[[], None] = self._show_wrong
        """Shows at the right what is shown there now, with scores as they are then."""
        empty = EmptyState(
            "Nothing to judge yet",
            "Train a network first; then its answers on the validation and test images stand here.",
            "Go to Training",
            "go to training",
            lambda: session.stage_asked.emit("training"),
        )
        full = QWidget()
        self.stack = either(self, empty, full)
        layout = QHBoxLayout(full)
        layout.setContentsMargins(24, 16, 16, 16)
        layout.setSpacing(20)

        left = QVBoxLayout()
        left.setSpacing(12)
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
        self.relabelled = button(
            "Show them", "show relabelled", "The images with another label.", self._show_relabelled
        )
        row.addWidget(self.relabelled)
        left.addLayout(row)
        row = QHBoxLayout()
        row.setSpacing(16)
        self.views = {}
        for place, (word, tip) in enumerate(VIEWS.items()):
            self.views[word] = view_button(word.capitalize(), f"{word} of scores", tip, partial(self.open_view, place))
            row.addWidget(self.views[word])
        row.addStretch()
        left.addLayout(row)
        frame, inside = panel(name="matrix panel")
        self.matrix = ConfusionMatrix()
        self.matrix.setToolTip("Click a cell to see its images. Ctrl and the wheel, + and − zoom; 0 fits the card.")
        self.matrix.chosen.connect(lambda *_: self._show_images())
        inside.addWidget(self.matrix)
        self.classes, self.confidence, self.against = ClassesView(), ConfidenceView(), AgainstView(session)
        self.against.asked.connect(self._show_changed)
        self.slices = SlicesView(session)
        self.slices.chosen.connect(self._show_numbered)
        self.robustness = RobustnessView(session)
        self.robustness.chosen.connect(self._show_broken)
        self.new_images = NewImagesView(session)
        self.new_images.changed.connect(self.action_changed)
        self.map = MapView(session)
        self.map.chosen.connect(self._show_mapped)
        self.map.opened.connect(self._open)
        self.classes.chosen.connect(self._show_class)
        self.confidence.asked.connect(self._show_by_confidence)
        self.shown = QStackedWidget()
        for view in (
            frame,
            self.classes,
            self.confidence,
            self.slices,
            self.map,
            self.robustness,
            self.against,
            self.new_images,
        ):
            self.shown.addWidget(view)
        left.addWidget(self.shown, 1)

        self.chosen = ChosenImages(session)
        self.chosen.opened.connect(self._open)
        self.chosen.changed.connect(self.action_changed)
        self.chosen.all_wrong_asked.connect(self._show_wrong)
        self.right = QStackedWidget()
        self.right.addWidget(self.chosen)
        self.right.addWidget(self.new_images.details)
        layout.addWidget(self.right, 9)

        self.open_view(0)
        session.runs_changed.connect(self._take_run)
        session.images_changed.connect(self.map.forget)
        session.scores_ready.connect(self.refresh)
        session.pixels_ready.connect(self.refresh)
        self.refresh()

    def open_view(self, place: int) -> None:
        """Show the matrix, the classes or the confidence."""
        self.shown.setCurrentIndex(place)
        self.right.setCurrentIndex(int(self.shown.currentWidget() is self.new_images))
        for k, each in enumerate(self.views.values()):
            each.setChecked(k == place)
        self.refresh()

    def state(self) -> str:
        """Accuracy on the set in view."""
        table = self.session.scores.current
        return percent(table.accuracy) if table else ""

    def action(self) -> tuple[str, bool]:
        """On to why."""
        if self.shown.currentWidget() is self.new_images:
            return "Explain this one", self.new_images.details.answer is not None
        words = "Explain this one" if self.chosen.current is not None else "Explain the surest mistake"
        return words, bool(self.session.scores.mistakes())

    def act(self) -> None:
        """Explain the selected image, or the surest mistake."""
        if self.shown.currentWidget() is self.new_images:
            self.new_images.details.explain()
        elif self.chosen.current is not None:
            self._open(self.chosen.current)
        elif self.session.scores.mistakes():
            self.session.explain_asked.emit(self.session.scores.mistakes()[0])

    def _take_run(self) -> None:
        if self.matrix.current is None:
            self._again = self._show_wrong
        self.entered()

    def entered(self) -> None:
        """Have the run in view scored."""
        self.session.scores.want()
        self.refresh()

    def _choose(self, on: str) -> None:
        if self.matrix.current is None:
            self._again = self._show_wrong
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
        self.new_images.refresh()
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
            self.matrix.show_counts([], [])
            self.classes.show_scores(None)
            self.confidence.show_scores(None)
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
        if table is not self._measured:
            self._measured = table
            self.measures.setText(in_words(overview(table)))
        self.matrix.show_counts(list(table.classes), [list(row) for row in table.confusion])
        if self.shown.currentWidget() is self.classes:
            self.classes.show_scores(table)
        elif self.shown.currentWidget() is self.confidence:
            self.confidence.show_scores(table)
        elif self.shown.currentWidget() is self.slices:
            self.slices.refresh()
        elif self.shown.currentWidget() is self.map:
            self.map.refresh()
        elif self.shown.currentWidget() is self.robustness:
            self.robustness.refresh()
        elif self.shown.currentWidget() is self.against:
            self.against.list_runs()
        self._again()
        self.action_changed.emit()

    def _show(self, title: str, parts: Sequence[Part], again: Callable[[], None]) -> None:
        """Images of the set in view at the right, parts without any left out; ``again`` does it anew."""
        table = self.session.scores.current
        if table is not None:
            self._again = again
            if again != self._show_images:
                self.matrix.choose_none()
            self.chosen.show_parts(title, [part for part in parts if part.places], table.classes)

    def _show_images(self) -> None:
        table, cell = self.session.scores.current, self.matrix.current
        if table is None or cell is None:
            return
        true, said = cell
        chosen = [answer for answer in table.answers if (answer.true, answer.said) == cell]
        names = table.classes
        right = "right" if true == said else f"said to be {names[said]}"
        title = f"{names[true]}, {right}"
        self._show(title, [Part.by_confidence(f"{thousands(len(chosen))} images", chosen)], self._show_images)

    def _show_class(self, number: int) -> None:
        """Images of a class that were taken for others, and others that were taken for it."""
        table = self.session.scores.current
        if table is None:
            return
        names, name = table.classes, table.classes[number]
        missed = [a for a in table.answers if a.true == number != a.said]
        false = sorted((a for a in table.answers if a.said == number != a.true), key=lambda a: -a.probability)
        title = f"{name}: {thousands(len(missed))} missed, {thousands(len(false))} falsely said"
        truly = tuple(f"{a.probability:.2f} {names[a.true]}" for a in false)
        parts = [
            Part.by_confidence(f"{name}, said to be something else", missed, names),
            Part(f"said to be {name}, but truly …", tuple(false), truly),
        ]
        self._show(title, parts, partial(self._show_class, number))

    def _show_by_confidence(self, kind: str) -> None:
        """Wrong and sure, right but unsure, or withheld answers, in order."""
        table = self.session.scores.current
        if table is None:
            return
        least = self.confidence.threshold
        wanted = [
            a
            for a in table.answers
            if (a.probability < least if kind == "withheld" else (a.said == a.true) == (kind == "right but unsure"))
        ]
        wanted.sort(key=lambda a: (a.probability if kind != "wrong and sure" else -a.probability, a.image))
        count = f"{thousands(len(wanted))} images"
        part = Part(count, tuple(wanted), tuple(caption(a, table.classes) for a in wanted))
        self._show(f"{kind.capitalize()}: {count}", [part], partial(self._show_by_confidence, kind))

    def _show_changed(self, words: str, numbers: tuple[int, ...]) -> None:
        """Images that another run answered otherwise, or as wrongly, with what this one says."""
        self._show_numbered(f"{words} against run {self.against.other.currentData()}", numbers)

    def _show_numbered(self, words: str, numbers: tuple[int, ...]) -> None:
        """Images by their numbers, wrong ones first."""
        table = self.session.scores.current
        if table is not None:
            wanted = set(numbers)
            own = [a for a in table.answers if a.image in wanted]
            self._show(words, in_two(own, table.classes), partial(self._show_numbered, words, numbers))

    def _show_broken(self, words: str, numbers: tuple[int, ...], said: tuple[int, ...]) -> None:
        """Images that are answered wrongly when they are made worse, with what is said then."""
        table = self.session.scores.current
        if table is not None:
            then = dict(zip(numbers, said, strict=True))
            own = sorted((a for a in table.answers if a.image in then), key=lambda a: (a.true, a.image))
            captions = tuple(f"→ {table.classes[then[a.image]]}" for a in own)
            part = Part("right as they are, wrong then; what is said then", tuple(own), captions)
            self._show(words, [part], partial(self._show_broken, words, numbers, said))

    def _show_mapped(self, answers: list[Answer], names: tuple[str, ...]) -> None:
        """Images chosen on the map, of whatever set; all selected, so that a decision is about them all."""
        self.matrix.choose_none()
        self._again = partial(self._show_mapped, answers, names)
        title = f"{counted(len(answers), 'image', 'images')} chosen on the map"
        self.chosen.show_parts(title, in_two(answers, names), names, select_all=True)

    def _loss_word(self, function: str) -> str:
        """The usual loss is told by the tooltip alone: its name is long, and everybody expects it."""
        self.about.setToolTip(f"The loss is the {function}, without label smoothing and class weights.")
        return "loss" if function == "cross-entropy" else function

    def _show_wrong(self) -> None:
        table = self.session.scores.current
        if table is None:
            return
        names, parts = table.classes, []
        for true, name in enumerate(names):
            own = [a for a in table.answers if a.true == true and a.said != true]
            if own:
                parts.append(Part.by_confidence(f"{name} · {len(own)} wrong", own, names))
        self._show("All wrong images" if parts else "No image was answered wrongly", parts, self._show_wrong)

    def _show_relabelled(self) -> None:
        table, collection = self.session.scores.current, self.session.images.collection
        if table is None:
            return
        changed = tuple(self.session.scores.relabelled)
        own = tuple(answer for answer in table.answers if answer.image in changed)
        now = tuple(collection.classes[collection.rows[number - 1].label] for number in changed)
        part = Part("with the label they have now", own, now, changed)
        self._show("Labels changed since the run", [part], self._show_relabelled)

    def _open(self, place: int) -> None:
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


def in_two(answers: Sequence[Answer], names: Sequence[str]) -> list[Part]:
    """Wrong ones, then right ones, each with what was said."""
    parts = []
    for title, right in (("wrong", False), ("right", True)):
        own = [a for a in answers if (a.said == a.true) == right]
        if own:
            parts.append(Part.by_confidence(f"{thousands(len(own))} {title}", own, names))
    return parts
