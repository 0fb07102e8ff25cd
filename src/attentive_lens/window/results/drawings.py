"""What a run that draws gives: images of random codes, images drawn again, and a map of two codes."""

from __future__ import annotations

from collections.abc import Callable
from statistics import NormalDist
from typing import Any

import numpy as np
from numpy.typing import NDArray
from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import QComboBox, QHBoxLayout, QSpinBox, QWidget

from attentive_lens.core.telling import signed
from attentive_lens.desk.requests.base import Request
from attentive_lens.desk.requests.drawing import (
    Decode,
    DrawImages,
    Drawn,
    Encoded,
    EncodeImages,
    Reconstruct,
    Reconstructed,
)
from attentive_lens.window import look
from attentive_lens.window.parts.basics import button, chooser, filter_button, label, to_image, vertical
from attentive_lens.window.parts.drawn_sheet import DrawnSheet
from attentive_lens.window.parts.picture import PictureBox
from attentive_lens.window.parts.saving import can_be_saved
from attentive_lens.window.results.class_key import ClassKey
from attentive_lens.window.results.view import ResultsView
from attentive_lens.window.session import Session
from attentive_lens.window.words import thousands

SAMPLES, SHOWN, GRID = 64, 40, 15
"""Random images, images drawn again, and images along a side of the map."""
CODES = 100
"""Of each image, that its likelihood is estimated by."""
LARGE, SMALL = 224, 132
"""Pixels of a picture beside the sheet."""
ALL_CLASSES, MOST_ROWS = "all classes", 16
"""The choice of all, and rows of classes at most: of more, one of each is drawn."""
FEWEST_OF_CLASS, MOST_OF_CLASS = 4, 10
"""Images in a row of a class, as many as there are rows between these."""
ORDERS = {"worst first": "worst", "best first": "best", "by number": "number"}


class DrawnView(ResultsView):
    """Base of these views: a sheet, what it says, and pictures beside it; asked for when it is seen."""

    tip = ""

    def __init__(self, session: Session) -> None:
        super().__init__(session)
        self._asked: object = None
        inside = vertical(self, spacing=8, margins=(16, 12, 16, 12))
        self.head = QHBoxLayout()
        self.says = label(role="faint", name=f"{self.word} says")
        self.says.setWordWrap(True)
        self.head.addWidget(self.says, 1)
        inside.addLayout(self.head)
        self.sheet = DrawnSheet(f"{self.word} sheet", self.tip)
        can_be_saved(self.sheet, self.word, session.message.emit)
        inside.addWidget(self.sheet, 1)
        self.below = inside
        self.beside = QWidget()
        self.column = vertical(self.beside, spacing=8)
        self.column.setAlignment(Qt.AlignmentFlag.AlignTop)
        self.about = label(role="faint", name=f"{self.word} about")
        self.about.setWordWrap(True)

    def choose_classes(self, every: bool) -> None:
        """Offer a class to be drawn, where the network is told it; or all of them."""
        tip = "The class that is drawn, by a network that is told it."
        self.class_box = chooser(f"{self.word} class", "class", tip, ())
        self.class_box.setSizeAdjustPolicy(QComboBox.SizeAdjustPolicy.AdjustToMinimumContentsLengthWithIcon)
        self.class_box.setMinimumContentsLength(14)
        self.class_box.currentIndexChanged.connect(self.refresh)
        self.head.addWidget(self.class_box)
        self._every = every

    def class_name(self) -> str:
        """The class that is wanted; empty for all, or where the network is told none."""
        plan, box = self.session.runs.plan(), self.class_box
        names = self.session.runs.classes() if plan is not None and plan.network.class_inputs else ()
        offered = [*([ALL_CLASSES] if self._every else []), *names] if names else []
        if offered != [box.itemText(k) for k in range(box.count())]:
            box.blockSignals(True)
            box.clear()
            box.addItems(offered)
            box.blockSignals(False)
        box.setVisible(bool(offered))
        return "" if box.currentIndex() <= 0 and self._every else box.currentText()

    def wanted(self, run: int) -> Request[Any]:
        """What is asked for."""
        raise NotImplementedError

    def take(self, result: Any) -> None:
        """Show it."""
        raise NotImplementedError

    def refresh(self) -> None:
        """Ask, unless it is there."""
        run = self.session.runs.current
        if run is None or not self.session.runs.draws or not self.isVisible():
            return
        wanted = self.wanted(run)
        if wanted == self._asked:
            return
        self._asked = wanted

        def done(result: Any) -> None:
            if self._asked == wanted:
                self.take(result)
                self.changed.emit()

        self.says.setText("Drawing …")
        self.session.ask(wanted, done, self.says.setText, priority=3, scope=self.word)

    def showEvent(self, event: Any) -> None:
        """Asked for once somebody looks."""
        super().showEvent(event)
        self.refresh()


class SamplesView(DrawnView):
    """Images of random codes."""

    word = "samples"
    tip = "images drawn of random codes"

    def __init__(self, session: Session) -> None:
        super().__init__(session)
        self.seed = QSpinBox()
        self.seed.setObjectName("samples seed")
        self.seed.setAccessibleName("seed of the random codes")
        self.seed.setToolTip("Of the random codes: each gives others, always the same.")
        self.seed.setPrefix("seed ")
        self.seed.setRange(0, 9999)
        self.seed.valueChanged.connect(self.refresh)
        self.choose_classes(every=True)
        self.head.addWidget(self.seed)
        self.large = PictureBox("sample", LARGE)
        self.column.addWidget(self.large)
        self.column.addWidget(self.about)
        self.sheet.chosen.connect(self._show_one)
        self.result: Drawn | None = None

    def wanted(self, run: int) -> DrawImages:
        """So many; of classes the same number each."""
        name = self.class_name()
        classes = max(1, len(self.session.runs.classes())) if self.class_box.count() and not name else 1
        each = min(MOST_OF_CLASS, max(FEWEST_OF_CLASS, classes)) if 1 < classes <= MOST_ROWS else SAMPLES // classes
        count = classes * max(1, each)
        return DrawImages(self.session.place, run, count=count, seed=self.seed.value(), class_name=name)

    def take(self, result: Drawn) -> None:
        """Show them, a row for each class."""
        self.result = result
        of_each = result.columns if (result.labels >= 0).all() and not self.class_name() else 0
        what = "numbers of noise" if self.session.runs.task.is_pair else "random codes"
        each = f"{len(result.images)} images of {result.size} {what} each."
        self.says.setText("Each column is of the same noise." if of_each else each)
        rows = result.classes if 0 < len(result.classes) <= MOST_ROWS and of_each else ()
        self.sheet.show_images(list(result.images), of_each if rows else 0, row_names=rows)
        self._show_one(max(0, self.sheet.current))

    def _show_one(self, place: int) -> None:
        if self.result is None or not 0 <= place < len(self.result.images):
            return
        self.large.show_image(to_image(self.result.images[place]))
        codes = ", ".join(f"{code:.2f}".replace("-", "\u2212") for code in self.result.codes[place][:8].tolist())
        more = ", …" if self.result.size > 8 else ""
        label_ = int(self.result.labels[place])
        named = f"{self.result.classes[label_]}\n" if label_ >= 0 else ""
        self.about.setText(f"{named}codes {codes}{more}")


class ReconstructionsView(DrawnView):
    """A set's images, each beside what is drawn of its codes."""

    word = "reconstructions"
    tip = "images of the set, each beside what is drawn of its codes"

    def __init__(self, session: Session) -> None:
        super().__init__(session)
        self.order = chooser("reconstructions order", "which come first", "Which images come first.", tuple(ORDERS))
        self.order.currentIndexChanged.connect(self.refresh)
        self.head.addWidget(self.order)
        self.boxes: dict[str, PictureBox] = {}
        for word in ("image", "drawn again", "difference"):
            self.column.addWidget(label(word, role="faint", size=look.SMALL))
            self.boxes[word] = PictureBox(word, SMALL)
            self.column.addWidget(self.boxes[word])
        self.column.addWidget(self.about)
        tip = f"The log likelihood of all images of the set, by {CODES} codes of each: nearer than the lower bound."
        self.estimate = button("Estimate the likelihood", "estimate likelihood", tip, self._estimate)
        self.column.addWidget(self.estimate, 0, Qt.AlignmentFlag.AlignLeft)
        self.estimated = label(role="faint", name="estimated likelihood")
        self.estimated.setWordWrap(True)
        self.column.addWidget(self.estimated)
        self.sheet.chosen.connect(self._show_one)
        self.result: Reconstructed | None = None

    def wanted(self, run: int) -> Reconstruct:
        """Of the set in view."""
        plan = self.session.runs.plan()
        self.estimate.setVisible(plan is not None and plan.network.code.layer.is_variational)
        order = ORDERS[self.order.currentText()]
        return Reconstruct(self.session.place, run, self.session.scores.on, most=SHOWN, first=order)

    def figure(self) -> str:
        """How far off, over the set."""
        return f"off by {self.result.error:.3f}" if self.result is not None else ""

    def take(self, result: Reconstructed) -> None:
        """Pairs side by side."""
        if self.result is None or (self.result.run, self.result.on) != (result.run, result.on):
            self.estimated.setText("")
        self.result = result
        worst = max(result.by_class.items(), key=lambda item: item[1], default=("", 0.0))
        self.says.setText(
            f"{thousands(result.in_all)} {result.on} images, off by {result.error:.3f} of the range of pixels;"
            f" most of all {worst[0]}, {worst[1]:.3f}. Each stands left of what is drawn of its codes."
        )
        pairs = np.stack([result.images, result.drawn], axis=1).reshape(-1, *result.images.shape[1:])
        self.sheet.show_images(list(pairs), together=2)
        self._show_one(0)

    def _show_one(self, place: int) -> None:
        result, at = self.result, place // 2
        if result is None or not 0 <= at < len(result.images):
            return
        image, drawn = result.images[at], result.drawn[at]
        gap = 255 - np.abs(image.astype(np.int16) - drawn).astype(np.uint8)
        for box, pixels in zip(self.boxes.values(), (image, drawn, gap), strict=True):
            box.show_image(to_image(pixels))
        label_, number = int(result.labels[at]), int(result.numbers[at])
        named = result.classes[label_] if label_ >= 0 else "no class it knows"
        self.about.setText(f"image {number}, {named}: off by {result.errors[at]:.3f}")

    def _estimate(self) -> None:
        """How likely the set's images are, by importance."""
        if self.result is None:
            return
        request = EncodeImages(self.session.place, self.result.run, self.result.on, CODES)

        def done(result: Encoded) -> None:
            if self.result is not None and (self.result.run, self.result.on) == (request.run, request.on):
                about = f"{signed(result.likelihood or 0.0, ',.1f')} nats (lower bound {signed(result.bound, ',.1f')})"
                self.estimated.setText(f"{result.on} images by {CODES} codes each: about {about}")

        self.estimated.setText("Estimating …")
        self.session.ask(request, done, self.estimated.setText, priority=3, scope="estimated likelihood")


class ManifoldView(DrawnView):
    """A map of two codes at the quantiles of the normal distribution; what the mouse points at is drawn at once."""

    word = "manifold"
    tip = "images drawn over a grid of two codes"

    def __init__(self, session: Session) -> None:
        super().__init__(session)
        self.codes: dict[str, QSpinBox] = {}
        for word, value in (("across", 1), ("down", 2)):
            box = self.codes[word] = QSpinBox()
            box.setObjectName(f"code {word}")
            box.setAccessibleName(f"code {word}")
            box.setToolTip(
                f"The code that changes {'from left to right' if word == 'across' else 'from top to bottom'}."
            )
            box.setPrefix(f"{word}: code ")
            box.setRange(1, 2)
            box.setValue(value)
            box.valueChanged.connect(self.refresh)
            self.head.addWidget(box)
        tip = "The set's images as dots in the colours of their classes, where their codes are."
        self.with_dots = filter_button("images", "manifold images", tip, self._ask_dots)
        self.choose_classes(every=False)
        self.head.addWidget(self.with_dots)
        self.key = ClassKey()
        self.below.addWidget(self.key)
        self.large = PictureBox("under the pointer", LARGE)
        self.column.addWidget(self.large)
        self.column.addWidget(self.about)
        self.about.setText("Point at the map: the image there is drawn.")
        self.sheet.pointed.connect(self._point)
        self.sheet.chosen.connect(self._point_at)
        self._dots: EncodeImages | None = None
        self.dimensions = 2

    def wanted(self, run: int) -> DrawImages:
        """The grid."""
        across, down = (box.value() for box in self.codes.values())
        if across == down:
            down = across % self.dimensions + 1
            self.codes["down"].blockSignals(True)
            self.codes["down"].setValue(down)
            self.codes["down"].blockSignals(False)
        self.with_dots.setVisible(self.session.runs.task.encodes)
        name = self.class_name()
        return DrawImages(self.session.place, run, "manifold", GRID**2, across=across, down=down, class_name=name)

    def refresh(self) -> None:
        """The map, and the images of the set in view on it."""
        super().refresh()
        if self.with_dots.isChecked() and self._dots is not None and self._dots.on != self.session.scores.on:
            self._ask_dots()

    def take(self, result: Drawn) -> None:
        """Show it, and offer as many codes as there are."""
        self.dimensions = result.size
        for box in self.codes.values():
            box.setRange(1, max(2, result.size))
        others = f"; the other {result.size - 2} are 0" if result.size > 2 else ""
        self.says.setText(f"At quantiles of the normal distribution{others}.")
        self.sheet.show_images(list(result.images), result.columns, gap=0)
        self._ask_dots()

    def _ask_dots(self) -> None:
        """Where the set's images are, if that is wanted."""
        run = self.session.runs.current
        if not self.with_dots.isChecked() or run is None or not self.session.runs.task.encodes:
            self.sheet.show_dots(np.zeros((0, 2)), np.zeros(0, np.int64))
            self.key.show_classes(())
            return
        self._dots = EncodeImages(self.session.place, run, self.session.scores.on)
        self.session.ask(self._dots, self._take_dots, self.says.setText, priority=4, scope="manifold images")

    def _take_dots(self, result: Encoded) -> None:
        wanted = self._dots
        if not self.with_dots.isChecked() or wanted is None or (result.run, result.on) != (wanted.run, wanted.on):
            return
        across, down = (box.value() - 1 for box in self.codes.values())
        places = np.stack([_share(result.codes[:, across]), 1 - _share(result.codes[:, down])], axis=1)
        self.key.show_classes(result.classes)
        self.sheet.show_dots(places, result.labels)

    def _point_at(self, place: int) -> None:
        """Draw what stands in the middle of an image of the map, which a press or an arrow key chose."""
        row, column = divmod(place, GRID)
        self._point((column + 0.5) / GRID, (row + 0.5) / GRID)

    def _point(self, across: float, down: float) -> None:
        """Draw what is under the mouse."""
        run = self.session.runs.current
        if run is None or across < 0:
            return
        values = [0.0] * self.dimensions
        normal, least = NormalDist(), 0.5 / GRID
        for box, share in zip(self.codes.values(), (across, 1 - down), strict=True):
            values[box.value() - 1] = normal.inv_cdf(min(1 - least / 4, max(least / 4, share)))
        self.session.ask(
            Decode(self.session.place, run, values=tuple(values), class_name=self.class_name()),
            self._under(tuple(values)),
            self.says.setText,
            priority=1,
            scope="under the pointer",
        )

    def _under(self, values: tuple[float, ...]) -> Callable[[Drawn], None]:
        def show(result: Drawn) -> None:
            self.large.show_image(to_image(result.images[0]))
            pair = (values[box.value() - 1] for box in self.codes.values())
            self.about.setText("codes " + ", ".join(f"{value:.2f}".replace("-", "\u2212") for value in pair))

        return show


def _share(codes: NDArray[np.float32]) -> NDArray[np.float64]:
    """The part of the normal distribution below each code."""
    normal = NormalDist()
    return np.array([normal.cdf(float(code)) for code in codes])
