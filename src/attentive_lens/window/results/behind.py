"""Which images stand behind a figure: what every view of the Results shows at the right when something is chosen."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from functools import partial

from attentive_lens.core.numbering import place_of
from attentive_lens.scoring.answers import Answer
from attentive_lens.window.results.chosen import ChosenImages, Part, caption
from attentive_lens.window.session import Session
from attentive_lens.window.words import counted, thousands

Cells = frozenset[tuple[int, int]]


class Behind:
    """Fills `ChosenImages` from the scores in view, and does it anew when these are others.

    Parameters
    ----------
    session : Session
        Whose scores.
    chosen : ChosenImages
        What is filled.
    forget_cells : callable
        Called when what is shown is not what is chosen in the matrix.
    """

    def __init__(self, session: Session, chosen: ChosenImages, forget_cells: Callable[[], None]) -> None:
        self.session, self.chosen, self._forget_cells = session, chosen, forget_cells
        self.again: Callable[[], None] = self.wrong
        """Shows the same anew."""
        self._shown: tuple[object, object, object] = (None, None, None)
        """What was shown when it was last refreshed: by what, and of which scores and images."""

    def reset(self) -> None:
        """For another run or set: cells stay chosen, all else gives way to the wrong images."""
        if not (isinstance(self.again, partial) and self.again.func == self.cells):
            self.again = self.wrong

    def refresh(self) -> None:
        """Show the same anew where the scores or the images are others."""
        scores, pixels = self.session.scores.current, self.session.images.pixels
        if any(a is not b for a, b in zip((self.again, scores, pixels), self._shown, strict=True)):
            self.again()
            self._shown = (self.again, scores, pixels)

    def _show(self, title: str, parts: Sequence[Part], again: Callable[[], None], are_cells: bool = False) -> None:
        table = self.session.scores.current
        if table is not None:
            self.again = again
            if not are_cells:
                self._forget_cells()
            self.chosen.all_wrong.setVisible(again != self.wrong)
            self.chosen.show_parts(title, [part for part in parts if part.places], table.classes)

    def cells(self, cells: Cells) -> None:
        """Images in cells of the matrix, each a true class and the class said."""
        table = self.session.scores.current
        if table is None:
            return
        names, again = table.classes, partial(self.cells, cells)
        own = [answer for answer in table.answers if (answer.true, answer.predicted) in cells]
        if not own and isinstance(self.again, partial) and self.again.func == self.cells:
            self.wrong()  # of another run, that has no such images
            return
        if len(cells) == 1:
            ((true, predicted),) = cells
            right = "right" if true == predicted else f"said to be {names[predicted]}"
            part = Part.by_confidence(counted(len(own), "image", "images"), own)
            self._show(f"{names[true]}, {right}", [part], again, are_cells=True)
            return
        title = f"{counted(len(own), 'image', 'images')} in {thousands(len(cells))} cells"
        rows, columns = {true for true, _ in cells}, {predicted for _, predicted in cells}
        if len(rows) == 1 and len(columns) == len(names):
            title = f"{names[rows.pop()]}: {counted(len(own), 'image', 'images')}"
        elif len(columns) == 1 and len(rows) == len(names):
            title = f"said to be {names[columns.pop()]}: {counted(len(own), 'image', 'images')}"
        self._show(title, in_two(own, names), again, are_cells=True)

    def of_class(self, number: int) -> None:
        """Images of a class that were taken for others, and others that were taken for it."""
        table = self.session.scores.current
        if table is None:
            return
        names, name = table.classes, table.classes[number]
        missed = [a for a in table.answers if a.true == number != a.predicted]
        false = sorted((a for a in table.answers if a.predicted == number != a.true), key=lambda a: -a.probability)
        title = f"{name}: {thousands(len(missed))} missed, {thousands(len(false))} falsely said"
        truly = tuple(f"{a.probability:.2f} {names[a.true]}" for a in false)
        parts = [
            Part.by_confidence(f"{name}, said to be something else", missed, names),
            Part(f"said to be {name}, but truly …", tuple(false), truly),
        ]
        self._show(title, parts, partial(self.of_class, number))

    def by_confidence(self, kind: str, threshold: float) -> None:
        """Wrong and sure, right but unsure, or withheld answers, in order."""
        table = self.session.scores.current
        if table is None:
            return
        wanted = [
            a
            for a in table.answers
            if (
                a.probability < threshold
                if kind == "withheld"
                else (a.predicted == a.true) == (kind == "right but unsure")
            )
        ]
        wanted.sort(key=lambda a: (a.probability if kind != "wrong and sure" else -a.probability, a.image))
        count = counted(len(wanted), "image", "images")
        part = Part(count, tuple(wanted), tuple(caption(a, table.classes) for a in wanted))
        self._show(f"{kind.capitalize()}: {count}", [part], partial(self.by_confidence, kind, threshold))

    def numbered(self, words: str, numbers: tuple[int, ...]) -> None:
        """Images by their numbers, wrong ones first."""
        table = self.session.scores.current
        if table is not None:
            wanted = set(numbers)
            own = [a for a in table.answers if a.image in wanted]
            self._show(words, in_two(own, table.classes), partial(self.numbered, words, numbers))

    def broken(self, words: str, numbers: tuple[int, ...], predicted: tuple[int, ...]) -> None:
        """Images that are answered wrongly when they are made worse, with what is said then."""
        table = self.session.scores.current
        if table is not None:
            then = dict(zip(numbers, predicted, strict=True))
            own = sorted((a for a in table.answers if a.image in then), key=lambda a: (a.true, a.image))
            captions = tuple(f"→ {table.classes[then[a.image]]}" for a in own)
            part = Part("right as they are, wrong then; what is said then", tuple(own), captions)
            self._show(words, [part], partial(self.broken, words, numbers, predicted))

    def mapped(self, answers: list[Answer], names: tuple[str, ...]) -> None:
        """Images chosen on the map, of whatever set; all selected, so that a decision is about them all."""
        self._forget_cells()
        self.again = partial(self.mapped, answers, names)
        self.chosen.all_wrong.setHidden(self.session.runs.draws)
        title = f"{counted(len(answers), 'image', 'images')} chosen on the map"
        self.chosen.show_parts(title, in_two(answers, names), names, select_all=True)

    def wrong(self) -> None:
        """All wrong images, by true class."""
        table = self.session.scores.current
        if table is None:
            return
        by_class: dict[int, list[Answer]] = {}
        for answer in table.answers:
            if answer.predicted != answer.true:
                by_class.setdefault(answer.true, []).append(answer)
        names = table.classes
        parts = [
            Part.by_confidence(f"{names[true]} · {thousands(len(own))} wrong", own, names)
            for true, own in sorted(by_class.items())
        ]
        self._show("All wrong images" if parts else "No image was answered wrongly", parts, self.wrong)

    def relabelled(self) -> None:
        """Images whose label was changed since the run."""
        table, collection = self.session.scores.current, self.session.images.collection
        if table is None:
            return
        changed = tuple(self.session.scores.relabelled)
        own = tuple(answer for answer in table.answers if answer.image in changed)
        now = tuple(collection.classes[collection.rows[place_of(number)].label] for number in changed)
        part = Part("with the label they have now", own, now, changed)
        self._show("Labels changed since the run", [part], self.relabelled)


def in_two(answers: Sequence[Answer], names: Sequence[str]) -> list[Part]:
    """Wrong ones, then right ones, each with what was said; in one part with their labels where nothing is said."""
    if all(answer.predicted < 0 for answer in answers):
        each = tuple(answers)
        return [Part("", each, tuple(names[answer.true] for answer in each))] if each else []
    parts = []
    for title, right in (("wrong", False), ("right", True)):
        own = [a for a in answers if (a.predicted == a.true) == right]
        if own:
            parts.append(Part.by_confidence(f"{thousands(len(own))} {title}", own, names))
    return parts
