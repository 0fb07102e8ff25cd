"""Whether answers rest on the objects: what of the maps lies in them, and what answers without them, class by class."""

from __future__ import annotations

from functools import partial

from PyQt6.QtCore import pyqtSignal
from PyQt6.QtWidgets import QHeaderView

from attentive_lens.core.numbering import place_of
from attentive_lens.desk.requests.inspecting import CHANGE_SETTINGS, Tried, TryChanges
from attentive_lens.desk.requests.objects import MeasureObjects, ObjectImage, ObjectRow, ObjectsMeasured
from attentive_lens.desk.requests.subjects import RunImage
from attentive_lens.window import look
from attentive_lens.window.parts.basics import button, label, set_role, to_image, vertical
from attentive_lens.window.parts.flow import Flow
from attentive_lens.window.parts.table import Cell, fit_height, head, table
from attentive_lens.window.parts.tiles import Tile, Tiles
from attentive_lens.window.results.behind import Behind
from attentive_lens.window.results.view import ResultsView
from attentive_lens.window.session import Session
from attentive_lens.window.words import percent, shortened, thousands

HEADS = ("answers", "rest", "in object", "elsewhere", "untrained", "without", "alone")
TIPS = {
    "answers": "Right or wrong ones of a class, and to how many images with an outline.",
    "in object": "Part of the maps that lies in the object, with its 95 % interval.",
    "elsewhere": "Part of the maps that lies in other images' objects: what the place alone brings.",
    "untrained": "Part that lies in the object with random weights: what its brightness alone brings.",
    "without": "Answers that stay once the object is covered.",
    "alone": "Answers that stay once all but the object is covered.",
    "rest": "Answers that rest on what is not the object: they stay without it, other objects get them too.",
}
COVERED = tuple(CHANGE_SETTINGS[kind]() for kind in ("cover_object", "cover_rest"))
NAME = 150
"""Pixels of a class's name, at most."""
LEFT = 1
"""Columns of words."""
SIDE, MOST = 120, 260
"""Pixels of a picture's side, at least and at most."""
WAITING = "Explaining images, covering objects and putting them into other images: about 10 s for 300 images …"


class ObjectsView(ResultsView):
    """A row for the right and one for the wrong answers of every class.

    Signals
    -------
    chosen
        Images to be shown: words, and their numbers.
    """

    chosen = pyqtSignal(str, tuple)

    word = "objects"

    def __init__(self, session: Session) -> None:
        super().__init__(session)
        self.result: ObjectsMeasured | None = None
        self._image = 0
        inside = vertical(self, spacing=8, margins=(16, 12, 16, 12))
        self.says = label(name="objects say")
        self.says.setWordWrap(True)
        inside.addWidget(self.says)
        row = Flow()
        tip = "Right answers that rest on what is not the object."
        self.wrong_reason = button("", "wrong reason", tip, partial(self._choose_resting, True))
        tip = "Wrong answers that rest on what is not the object."
        self.led_astray = button("", "led astray", tip, partial(self._choose_resting, False))
        for each in (self.wrong_reason, self.led_astray):
            set_role(each, "chip action")
            row.addWidget(each)
        inside.addLayout(row)
        tip = "A row shows its images, first those whose answers rest on what is not the object."
        self.table = table("objects table", "objects", tip, one_row=True)
        self.table.itemSelectionChanged.connect(self._choose)
        inside.addWidget(self.table, 3)
        self.caption = label(role="faint", size=look.SMALL, name="object example says")
        inside.addWidget(self.caption)
        self.example = Tiles("object example", "an image with its object and with all else covered", SIDE, MOST)
        self.example.chosen.connect(self._explain)
        inside.addWidget(self.example, 2)

    def leads_to(self, behind: Behind) -> None:
        """See `ResultsView`."""
        self.chosen.connect(behind.numbered)

    def figure(self) -> str:
        """How many right answers are right for the wrong reason, once that is known."""
        return f"{len(self.result.wrong_reason)} right by the rest" if self.result is not None else ""

    def refresh(self) -> None:
        """Have it measured for the run and set in view, once."""
        run = self.session.runs.in_view
        if run is None or not self.asks_anew():
            return
        self._show(None, WAITING)
        request = MeasureObjects(self.session.place, run, self.session.scores.on)
        self.session.ask(request, self._take, self._fail, priority=4, scope="objects")

    def action(self) -> tuple[str, bool] | None:
        """Crops to the object, where some answers rest on the rest."""
        resting = self._resting(True) or self._resting(False)
        cropped = self.session.design.plan.preprocessing.crop_to == "object"
        return ("Train on crops to the object", True) if resting and not cropped else None

    def act(self) -> None:
        """Let the next run see the objects and what is near to them."""
        design = self.session.design
        design.change_preprocessing(design.plan.preprocessing.with_(crop_to="object"))
        self.session.stage_asked.emit("training")

    def _fail(self, words: str) -> None:
        self._show(None, words)

    def _take(self, result: ObjectsMeasured) -> None:
        self._show(result, " ".join(result.sentences()))
        self.changed.emit()

    def _show(self, result: ObjectsMeasured | None, sentence: str) -> None:
        self.result = result
        self.says.setText(sentence)
        right, wrong = (self._resting(each) for each in (True, False))
        self.wrong_reason.setText(f"{thousands(len(right))} right for the wrong reason")
        self.led_astray.setText(f"{thousands(len(wrong))} wrong because of the rest")
        for chip, images in ((self.wrong_reason, right), (self.led_astray, wrong)):
            chip.setVisible(bool(images))
        rows = result.rows if result is not None else ()
        self.table.setVisible(bool(rows))
        self.example.show_tiles(())
        self.caption.setText("")
        self.table.blockSignals(True)
        self.table.clearSelection()
        self.table.setColumnCount(len(HEADS))
        self.table.setRowCount(len(rows))
        names = list(dict.fromkeys(row.name for row in rows if row.name))
        fitting = dict(zip(names, shortened(names, NAME, self.table.fontMetrics().horizontalAdvance), strict=True))
        for column, words in enumerate(HEADS):
            self.table.setHorizontalHeaderItem(column, head(words, column < LEFT, TIPS.get(words, "")))
            for place, each in enumerate(rows):
                cell = Cell(_cells(each, fitting.get(each.name, ""))[column], "" if column < LEFT else None)
                if column == LEFT and each.on_rest:
                    cell.setForeground(look.theme.colour("vermilion"))
                cell.setToolTip(_tip(each))
                self.table.setItem(place, column, cell)
        across = self.table.horizontalHeader()
        if across is not None:
            across.setSectionResizeMode(QHeaderView.ResizeMode.ResizeToContents)
            across.setStretchLastSection(True)
        fit_height(self.table)
        self.table.blockSignals(False)
        if result is not None:
            first = self._resting(True) or self._resting(False) or result.images
            self._ask_example(RunImage(self.session.place, result.run, first[0].image))

    def _resting(self, right: bool) -> tuple[ObjectImage, ...]:
        images = self.result.images if self.result is not None else ()
        return tuple(each for each in images if each.on_rest and (each.true == each.predicted) == right)

    def _choose_resting(self, right: bool) -> None:
        self.table.clearSelection()
        words = self.wrong_reason.text() if right else self.led_astray.text()
        self._lead(words, tuple(each.image for each in self._resting(right)))

    def choose_none(self) -> None:
        """See `ResultsView`."""
        self.table.clearSelection()

    def _choose(self) -> None:
        chosen = {item.row() for item in self.table.selectedItems()}
        if self.result is not None and len(chosen) == 1:
            row = self.result.rows[chosen.pop()]
            own = [
                each.image
                for each in self.result.images
                if row.name in ("", each.true) and (each.true == each.predicted) == row.right
            ]
            self._lead(f"{_name(row)}: {percent(row.share)} of the maps in the object", tuple(own))

    def _lead(self, words: str, images: tuple[int, ...]) -> None:
        """Show images behind, and the first of them here, covered."""
        self.chosen.emit(words, images)
        run = self.session.runs.in_view
        if images and run is not None:
            self._ask_example(RunImage(self.session.place, run, images[0]))

    def _ask_example(self, subject: RunImage) -> None:
        def take(tried: Tried) -> None:
            self._show_example(subject.image, tried)

        request = TryChanges(subject, COVERED, smallest=False)
        self.session.ask(request, take, self._fail_example, priority=3, scope="object example")

    def _fail_example(self, words: str) -> None:
        self.example.show_tiles(())
        self.caption.setText(words)

    def _show_example(self, image: int, tried: Tried) -> None:
        """The image as it is, and covered both ways, with what is said."""
        pixels = self.session.images.pixels
        if pixels is None or self.result is None:
            return
        answers = (tried.before, *tried.after)
        pictures = [to_image(pixels[place_of(image)]), *(to_image(each) for each in tried.pixels)]
        ways = ("as it is", "without", "alone")
        tiles = []
        for way, answer, picture in zip(ways, answers, pictures, strict=True):
            words = f"{way}: {answer.predicted} {answer.probabilities[answer.predicted]:.2f}"
            role = "faint" if answer.predicted == tried.before.predicted else "ochre"
            tiles.append(Tile((picture,), words, f"Image {image}, {words}. A click explains it.", role))
        self._image = image
        self.example.show_tiles(tuple(tiles))
        self.caption.setText(f"Image {image}")

    def _explain(self, _: int) -> None:
        if self._image:
            self.session.explain_asked.emit(self._image)


def _name(row: ObjectRow, name: str = "") -> str:
    return f"{name or row.name or 'all'}, {'right' if row.right else 'wrong'}"


def _tip(row: ObjectRow) -> str:
    strongest = f"{percent(row.pointing)} ({row.pointing_low:.0%}–{row.pointing_high:.0%}) of the maps"
    return (
        f"{_name(row)}: the object is {percent(row.area)} of the image. The strongest place of {strongest} lies in it,"
        f" and of {percent(row.pointing_elsewhere)} in other images' objects. The class said has a probability of"
        f" {row.probability:.2f}, without the object {row.probability_without:.2f}, with it alone"
        f" {row.probability_alone:.2f}."
    )


def _cells(row: ObjectRow, name: str) -> tuple[str, ...]:
    return (
        f"{_name(row, name)} ({thousands(row.images)})",
        str(row.on_rest),
        f"{row.share:.0%}  {row.low * 100:.0f}–{row.high * 100:.0f}",
        f"{row.elsewhere:.0%}",
        f"{row.untrained:.0%}",
        f"{row.kept_without:.0%}",
        f"{row.kept_alone:.0%}",
    )
