"""Input size and normalisation: the choices side by side, and the check that a batch comes out as it should."""

from __future__ import annotations

from functools import partial

from PyQt6.QtCore import QRectF, Qt
from PyQt6.QtGui import QPainter, QPaintEvent
from PyQt6.QtWidgets import QPushButton, QVBoxLayout, QWidget

from attentive_lens.desk.requests.images import ResizeModes, ResizeModesShown
from attentive_lens.images.pixel_format import PixelArray, are_ordinary
from attentive_lens.plan.preprocessing import Preprocessing
from attentive_lens.window import look
from attentive_lens.window.parts.basics import filter_button, horizontal, label, panel, set_role, to_image
from attentive_lens.window.parts.flow import Flow
from attentive_lens.window.parts.form import Form
from attentive_lens.window.parts.proportions import draw_picture
from attentive_lens.window.session import Session

COLUMNS = 7
NAME = 110
ROWS = (
    ("stretch", "stretch"),
    ("letterbox", "letterbox"),
    ("centre crop", "centre crop"),
    ("none", "none: at their own scale"),
    ("network", "what the network takes"),
)
NEAR_MEAN, NEAR_STD = 0.25, 0.25
NO_CHROMA = 0.05
"""Standard deviation below which a prepared channel of colour holds nothing."""
"""How far a batch of 64 may be from mean 0 and standard deviation 1 and still be as it should."""


class ResizeRows(QWidget):
    """A row of images for each resize mode, the chosen one marked, and what the network takes under them."""

    def __init__(self) -> None:
        super().__init__()
        self.setObjectName("resize rows")
        self.setAccessibleName(
            "the same images stretched, in a border, cut, at their own scale, and as the network takes them"
        )
        self.images: dict[str, PixelArray] = {}
        self.chosen = "stretch"

    def show_images(self, images: dict[str, PixelArray], chosen: str) -> None:
        """n×H×W×C uint8 by row."""
        self.images, self.chosen = images, chosen
        self.update()

    def paintEvent(self, event: QPaintEvent | None) -> None:
        """Rows with their names; pixels stay squares when enlarged."""
        if not self.images:
            return
        t = look.theme
        painter = QPainter(self)
        side = self.height() / len(ROWS) - 16
        count = min(len(self.images["stretch"]), max(1, int((self.width() - NAME) / (side + 8))))
        side = min(side, (self.width() - NAME) / count - 8)
        for k, (key, word) in enumerate(ROWS):
            y = k * (side + 14) + (8 if key == "network" else 0)
            chosen = key == self.chosen
            painter.setFont(look.font(look.TEXT, chosen))
            painter.setPen(t.colour("petrol" if chosen else "ink"))
            flags = Qt.AlignmentFlag.AlignVCenter | Qt.TextFlag.TextWordWrap
            painter.drawText(QRectF(0, y, NAME - 14, side), flags, word)
            for j, image in enumerate(self.images[key][:count]):
                box = QRectF(NAME + j * (side + 8), y, side, side)
                draw_picture(painter, box, to_image(image))
                if chosen:
                    painter.setPen(t.colour("petrol"))
                    painter.drawRect(box)


class SizesView(QWidget):
    """The preprocessing's settings beside what they do to the least square images there are."""

    def __init__(self, session: Session) -> None:
        super().__init__()
        self.session = session
        self._asked = self._again = False
        across = horizontal(self, spacing=16)
        frame, inside = panel("Preprocessing", "preprocessing panel")
        frame.setFixedWidth(420)
        is_picture = are_ordinary(session.images.pixel_format.channels)
        crop = ("crop_to", "crop_margin")
        names = ("input_size", "resize_mode", *crop, *(("colour_space",) if is_picture else ()), "normalisation")
        self.form = Form(session.design.plan.preprocessing, names, self._change)
        inside.addWidget(self.form)
        self.channels = self._make_channels(inside)
        self.caution = label(role="warn", name="crop caution")
        self.caution.setWordWrap(True)
        self.caution.hide()
        inside.addWidget(self.caution)
        inside.addWidget(label("A batch of 64 training images, prepared", strong=True))
        self.check = label(name="batch check")
        self.check.setWordWrap(True)
        inside.addWidget(self.check)
        self.verdict = label(role="faint", name="batch verdict")
        self.verdict.setWordWrap(True)
        inside.addWidget(self.verdict)
        across.addWidget(frame, 0, Qt.AlignmentFlag.AlignTop)
        right = QVBoxLayout()
        self.title = label("The least square images, each way", size=look.LARGE, strong=True)
        right.addWidget(self.title)
        self.rows = ResizeRows()
        right.addWidget(self.rows, 1)
        across.addLayout(right, 1)
        session.plan_changed.connect(self._plan_changed)
        self._show_channels()

    def _make_channels(self, inside: QVBoxLayout) -> dict[str, QPushButton]:
        """A button for each channel that the images have, where they are no ordinary pictures."""
        own = self.session.images.pixel_format.channels
        if are_ordinary(own):
            return {}
        inside.addWidget(label("Channels that the network sees", strong=True))
        row, buttons = Flow(), dict[str, QPushButton]()
        for name in own:
            tip = f"Whether the network sees «{name}»; without it you learn what it is worth."
            buttons[name] = filter_button(name, f"channel {name}", tip, self._choose_channels)
            row.addWidget(buttons[name])
        inside.addLayout(row)
        return buttons

    def _choose_channels(self) -> None:
        """Those that are pressed; the last one stays."""
        chosen = [name for name, each in self.channels.items() if each.isChecked()]
        if chosen:
            self._change(self.session.design.plan.preprocessing.with_(channel_names=tuple(chosen)))
        self._show_channels()

    def _show_channels(self) -> None:
        seen = self.session.design.plan.preprocessing.channel_names
        for name, each in self.channels.items():
            each.setChecked(name in seen)

    def _change(self, preprocessing: Preprocessing) -> None:
        self.session.design.change_preprocessing(preprocessing)

    def _plan_changed(self) -> None:
        self.form.show_value(self.session.design.plan.preprocessing)
        self._show_channels()
        if self.isVisible():
            self.refresh()

    def refresh(self) -> None:
        """Have the images prepared, one request at a time."""
        if self._asked:
            self._again = True
            return
        self._asked = True
        plan = self.session.design.plan
        request = ResizeModes(self.session.place, plan.write(), COLUMNS)
        self.session.ask(request, partial(self._take, plan.preprocessing), self._failed, priority=0)

    def _take(self, own: Preprocessing, shown: ResizeModesShown) -> None:
        """What was asked for; the plan may be another since."""
        self._asked = False
        self.rows.show_images({**shown.modes, "network": shown.network}, own.resize_mode)
        names = own.names_of_channels
        lines = [
            f"{name}: mean {mean:+.2f}, standard deviation {std:.2f}"
            for name, mean, std in zip(names, shown.mean, shown.std, strict=True)
        ]
        self.check.setText("\n".join(lines).replace("-", "\u2212"))
        self.caution.setText(shown.caution)
        self.caution.setVisible(bool(shown.caution))
        good = max(map(abs, shown.mean)) < NEAR_MEAN and all(abs(std - 1) < NEAR_STD for std in shown.std)
        scaled = own.normalisation == "0-1"
        set_role(self.verdict, "good" if good else "faint" if scaled else "warn")
        self.verdict.setText(
            "Mean about 0 and standard deviation about 1, as a network learns best."
            if good
            else "Only scaled to 0–1: networks learn faster from mean 0 and standard deviation 1."
            if scaled
            else "These images are grey: their chroma is 0 throughout, which neither helps nor harms."
            if own.has_chroma and max(shown.std[1:]) < NO_CHROMA
            else "Not about 0 and 1: these images differ much from the rest of the training set."
        )
        if self._again:
            self._again = False
            self.refresh()

    def _failed(self, sentence: str) -> None:
        self._asked = False
        self.verdict.setText(sentence)
        set_role(self.verdict, "bad")
