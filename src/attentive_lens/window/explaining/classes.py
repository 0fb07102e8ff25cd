"""Classes: what the right answers of each rest on, so that a model right for the wrong reason is found early."""

from __future__ import annotations

from PyQt6.QtWidgets import QHBoxLayout

from attentive_lens.desk.requests.explaining import Explanation
from attentive_lens.desk.requests.maps import ClassesRest, ClassMaps, RestsOn
from attentive_lens.window import look
from attentive_lens.window.explaining.panel import Panel
from attentive_lens.window.parts.basics import button, label, map_colours, tint_image, to_image, vertical
from attentive_lens.window.parts.tiles import Tile, Tiles, enlarged, laid_over
from attentive_lens.window.session import Session

SIDE, MOST = 84, 176
LARGE = 256


class ClassesPanel(Panel):
    """A tile a class: the mean of its right answers, and under it their mean map."""

    title = "of right answers"
    tip = "What the right answers of every class rest on"

    def __init__(self, session: Session) -> None:
        super().__init__(session)
        self.result: ClassesRest | None = None
        self._for: tuple[int | None, str] = (None, "")
        inside = vertical(self, spacing=4)
        row = QHBoxLayout()
        self.says = label(role="faint", size=look.SMALL, name="classes say")
        self.says.setWordWrap(True)
        row.addWidget(self.says, 1)
        tip = "Explain the right answers of every class, and cover the places that many of them rest on."
        self.ask_button = button("Look at the classes", "look at classes", tip, self._ask)
        row.addWidget(self.ask_button)
        inside.addLayout(row)
        self.tiles = Tiles("class tiles", "what each class rests on", SIDE, MOST)
        self.tiles.chosen.connect(self._choose)
        inside.addWidget(self.tiles, 1)
        self.check()

    def show_explanation(self, explanation: Explanation) -> None:
        """Of another run or set it is asked anew; the image does not matter."""
        self.explanation = explanation
        self.check()
        if self.isVisible() and self.result is None:
            self._ask()

    def check(self) -> None:
        """Forget what was found for another run or set."""
        if self._for != (self.session.runs.in_view, self.session.scores.on):
            self.forget()

    def forget(self) -> None:
        """What was found is of other images, or of another run or set."""
        self._for = (self.session.runs.in_view, self.session.scores.on)
        self.result, self._awaited = None, {}
        self.ask_button.hide()
        self.says.setText(
            f"Right answers on {self.session.scores.on}: above their mean, below their mean map. A class that"
            " rests on one place aside is right for the wrong reason."
        )
        self.tiles.show_tiles(())

    def _ask(self) -> None:
        run = self.session.runs.in_view
        if run is None:
            return
        request = ClassMaps(self.session.place, run, self.session.scores.on)
        if not self.awaits(request, "class maps"):
            self.ask_button.hide()
            self.says.setText("Explaining right answers …")
            self.ask(request, self._take, self._fail, priority=5, scope="class maps")

    def _fail(self, sentence: str) -> None:
        self.ask_button.show()
        self.says.setText(sentence)

    def _take(self, result: ClassesRest) -> None:
        self.result = result
        self.ask_button.hide()
        self.restyled()

    def restyled(self) -> None:
        """The maps in the colours of the theme."""
        if self.result is None:
            return
        suspects = [each for each in self.result.classes if goes_by_place(each)]
        words = "; ".join(f"{each.name}: {each.words}" for each in suspects)
        self.says.setText(words or "No class rests on one place aside from the middle that decides its answers.")
        tiles = []
        for each in self.result.classes:
            picture = enlarged(to_image(each.mean), LARGE)
            over = laid_over(picture, tint_image(map_colours(each.map)))
            word = "! " if goes_by_place(each) else ""
            role = "vermilion" if goes_by_place(each) else "faint"
            tiles.append(Tile((picture, over), f"{word}{each.name}", f"{each.name}: {each.words}.", role))
        self.tiles.show_tiles(tuple(tiles))

    def _choose(self, number: int) -> None:
        if self.result is not None:
            each = self.result.classes[number]
            self.says.setText(f"{each.name}: {each.words}")
            self.walked.emit(list(each.images))


def goes_by_place(rests: RestsOn) -> bool:
    """Whether the model was seen to go by one place aside."""
    return rests.trial is not None and rests.trial.decides
