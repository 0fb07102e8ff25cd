"""How the run in view did on the sets of an open workspace."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any, TypeVar

from attentive_lens.core.numbering import RunNumber, place_of
from attentive_lens.core.objects import Same
from attentive_lens.desk.images.browsing import Answers, Said
from attentive_lens.desk.images.state import OpenImages
from attentive_lens.desk.observing import Asks, Signal
from attentive_lens.desk.requests.models import Score
from attentive_lens.desk.training.cautions import (
    caution_of_labels,
    caution_of_test,
    cautions_of,
    changed_since,
    judged_by_test,
)
from attentive_lens.desk.training.state import OpenRuns
from attentive_lens.scoring.scores import Scores

T = TypeVar("T")

SCORED = ("training", "validation", "test")


class OpenScores:
    """Scores by run and set, asked for when they are wanted.

    Attributes
    ----------
    on : str
        The set in view.
    problem : str
        Why the scores in view could not be had; empty otherwise.
    ready : Signal
        The scores of the run in view on the set in view are there, or cannot be.
    """

    def __init__(self, images: OpenImages, runs: OpenRuns, asks: Asks) -> None:
        self._images, self._runs, self._asks = images, runs, asks
        self.on, self.problem, self.ready = "validation", "", Signal()
        self.known: dict[tuple[int, str], Scores] = {}
        self._under_way: set[tuple[int, str]] = set()
        self._failed: set[tuple[int, str]] = set()
        self._change = 0
        self._wanted: set[tuple[int, str]] = set()
        self._results: dict[str, tuple[tuple[object, ...], Any]] = {}
        images.changed.connect(self.forget)

    def forget(self) -> None:
        """Have them anew: labels, sets or the model are others."""
        self.known.clear()
        self._under_way.clear()
        self._change += 1
        self._wanted.clear()
        self.want()

    @property
    def current(self) -> Scores | None:
        """Scores of the run in view on the set in view, if they are there; see `want`."""
        return self.known.get((self._runs.in_view, self.on)) if self._runs.in_view is not None else None

    def want(self, on: str | None = None) -> None:
        """Have the run in view scored on a set, unless it is; `ready` follows."""
        self.on = on or self.on
        self.problem = ""
        self._failed.clear()
        view = self._runs.view
        if view is None or not view.has_model or view.state == "training" or self._runs.draws:
            return
        self._have((self._runs.in_view or view.number, self.on))

    def of(self, run: int) -> Scores | None:
        """Scores of another run on the set in view; asked for where they are not known, `ready` follows.

        What failed is asked for again by `want` alone: `ready` follows that too, and whoever hears it asks here.
        """
        key = (RunNumber(int(run), self._runs.asks_about), self.on)
        if key not in self.known and key not in self._failed:
            self._have(key)
        return self.known.get(key)

    def on_set(self, on: str, ask: bool = False) -> Scores | None:
        """Scores of the run in view on any set; asked for where they are not known and ``ask``, `ready` follows.

        What was kept beside the run when it was scored before is known at once.
        """
        view = self._runs.view
        if view is None or not view.has_model or view.state == "training" or self._runs.draws:
            return None
        key = (self._runs.in_view or view.number, on)
        empty = not self._images.collection.count(on)
        if key not in self.known and key not in self._wanted and not empty:
            kept_file = self._runs.workspace.run(key[0]).scores_file(on)
            if ask or kept_file.exists():
                self._wanted.add(key)
                self._have(key)
        return self.known.get(key)

    def _have(self, key: tuple[int, str]) -> None:
        """Have a run scored on a set, unless it is."""
        if key in self.known:
            self.ready.emit()
        elif key not in self._under_way:
            self._under_way.add(key)
            change = self._change

            def done(scores: Scores) -> None:
                if change == self._change:  # else labels or sets are others now, and it was asked for again
                    self._under_way.discard(key)
                    self.known[key] = scores
                    self.ready.emit()

            def failed(sentence: str) -> None:
                if change == self._change:
                    self._under_way.discard(key)
                    self._failed.add(key)
                    self.problem = sentence
                    self.ready.emit()

            place = str(self._images.workspace.folder.absolute())
            self._asks.ask(Score(place, *key), done, failed, priority=3)

    @property
    def answers(self) -> Answers:
        """What the run in view said, on the sets it was scored on."""
        tables = tuple(table for (run, _), table in self.known.items() if run == self._runs.in_view)
        return self._once(
            "answers",
            tuple(map(Same, tables)),
            lambda: Answers(
                {
                    each.image: Said(table.classes[each.predicted], each.probability, each.predicted == each.true)
                    for table in tables
                    for each in table.answers
                }
            ),
        )

    def _once(self, what: str, given: tuple[object, ...], work: Callable[[], T]) -> T:
        """The result for the same things, as it was the last time: of a large collection it takes long."""
        before = self._results.get(what)
        if before is None or before[0] != given:
            before = self._results[what] = given, work()
        result: T = before[1]
        return result

    def row(self, image: int) -> tuple[Scores, int] | None:
        """Scores of the run in view that an image, by its number, stands in, and which of their rows it is."""
        for (run, _), scores in self.known.items():
            if run == self._runs.in_view and (row := scores.places.get(image)) is not None:
                return scores, row
        return None

    def want_row(self, image: int) -> None:
        """Have the set scored that an image, by its number, is in; `ready` follows. What failed is not tried again."""
        on, run = self._images.collection.sets[place_of(image)], self._runs.current
        if run is not None and on in SCORED:
            self.on_set(on, ask=True)

    def mistakes(self) -> list[int]:
        """Numbers of the wrongly answered images of the run and set in view, the most confident first."""
        return [answer.image for answer in self.current.wrong] if self.current is not None else []

    def cautions(self) -> list[str]:
        """What to know before trusting the scores in view: labels changed since, a test set used to choose by."""
        view = self._runs.view
        if self._runs.current is None:
            return []
        if self.current is None or view is None:
            of_test = caution_of_test(judged_by_test(self._runs.workspace)) if self.on == "test" else ""
            cautions = (caution_of_labels(self._runs.current, self.relabelled), of_test)
            return [sentence for sentence in cautions if sentence]
        workspace, scores = self._runs.workspace, self.current
        judged = judged_by_test(workspace) if self.on == "test" else []
        in_view = workspace.run(self._runs.in_view or view.number)
        return self._once(
            "cautions",
            (Same(scores), Same(self._images.collection), Same(view), *judged),
            lambda: cautions_of(workspace, in_view, scores, self.relabelled, view.best),
        )

    @property
    def relabelled(self) -> list[int]:
        """Numbers of the images whose label is another than the run in view knew."""
        number, collection = self._runs.current, self._images.collection
        if number is None:
            return []
        given = (Same(collection), Same(self._runs.view))
        return self._once("relabelled", given, lambda: changed_since(self._runs.workspace.run(number), collection))
