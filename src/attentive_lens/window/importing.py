"""Before anything is imported: the first images of a source as they will be read, every way it can be read."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

from PyQt6.QtCore import QProcess, QRect, QRectF, Qt, pyqtSignal
from PyQt6.QtGui import QCloseEvent, QKeyEvent, QKeySequence, QMouseEvent, QPainter, QPaintEvent, QPen, QShortcut
from PyQt6.QtWidgets import QHBoxLayout, QLineEdit, QScrollArea, QSizePolicy, QVBoxLayout, QWidget

from attentive_lens.desk.remembering import remember_source
from attentive_lens.desk.requests.images import Preview, Previewed, WayToRead
from attentive_lens.images.pixel_format import PixelArray, PixelFormat
from attentive_lens.images.reading import Reading
from attentive_lens.window import look
from attentive_lens.window.asking import Asker
from attentive_lens.window.help import show_help
from attentive_lens.window.parts.basics import button, horizontal, label, panel, retire, set_role, to_image, vertical
from attentive_lens.window.parts.form import CHOICE_WORDS, Form
from attentive_lens.window.parts.pointing import points
from attentive_lens.window.parts.proportions import draw_picture
from attentive_lens.window.running import run_command
from attentive_lens.window.words import shortened, thousands

SIDE, GAP = 72, 8
COUNTS, LEVELS = 190, 120
"""Pixels of the height of what will be read, and of the levels in it."""


class Way(QWidget):
    """One way to read the source: a sentence, first images with labels; a click, Space or Return chooses it.

    Signals
    -------
    chosen
        It was clicked, or a key was pressed on it.
    """

    chosen = pyqtSignal()

    def __init__(self, title: str, pictures: PixelArray, labels: list[str]) -> None:
        super().__init__()
        points(self)
        self.title, self.pictures, self.labels = title, pictures, labels
        self.on = False
        self.setFixedHeight(SIDE + 64)
        self.setAccessibleName(title)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Fixed)

    def paintEvent(self, event: QPaintEvent | None) -> None:
        """The sentence, then the images."""
        t = look.theme
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.SmoothPixmapTransform)
        painter.fillRect(self.rect(), t.colour("sheet"))
        edged = self.on or self.hasFocus()
        painter.setPen(QPen(t.colour("petrol" if edged else "line"), 2 if self.on else 1))
        painter.drawRect(self.rect().adjusted(1, 1, -2, -2))
        painter.setFont(look.font(look.TEXT, self.on))
        painter.setPen(t.colour("petrol" if self.on else "ink"))
        painter.drawText(14, 24, self.title)
        painter.setFont(look.font(look.SMALL))
        words = shortened(self.labels, SIDE, painter.fontMetrics().horizontalAdvance)
        for k, picture in enumerate(self.pictures):
            left = 14 + k * (SIDE + GAP)
            if left + SIDE > self.width():
                break
            draw_picture(painter, QRect(left, 34, SIDE, SIDE), to_image(picture))
            painter.setPen(t.colour("faint"))
            painter.drawText(left, 34 + SIDE + 16, words[k])

    def mousePressEvent(self, event: QMouseEvent | None) -> None:
        """Choose it."""
        self.chosen.emit()

    def keyPressEvent(self, event: QKeyEvent | None) -> None:
        """Likewise."""
        if event is not None and event.key() in (Qt.Key.Key_Space, Qt.Key.Key_Return, Qt.Key.Key_Enter):
            self.chosen.emit()
        else:
            super().keyPressEvent(event)


class Levels(QWidget):
    """Where the values of the first images lie between black and white; hidden for ordinary pictures."""

    def __init__(self) -> None:
        super().__init__()
        self.setObjectName("levels")
        self.setAccessibleName("where values lie between black and white")
        self.setFixedHeight(LEVELS)
        self.levels: tuple[int, ...] = ()
        self.ends = ("", "")
        self.hide()

    def show_levels(self, levels: tuple[int, ...], own: PixelFormat) -> None:
        """How many values lie in each part of the scale."""
        self.levels, self.ends = levels, (f"{own.black:g}", f"{own.white:g}" if own.white else "255")
        self.setToolTip(f"Values of the first images, from {self.ends[0]}, black, to {self.ends[1]}, white.")
        self.setVisible(bool(levels))
        self.update()

    def paintEvent(self, event: QPaintEvent | None) -> None:
        """Bars as high as the roots of the counts, so that the few are seen beside the many."""
        if not self.levels:
            return
        t, painter = look.theme, QPainter(self)
        base, high = self.height() - 20, max(1, *self.levels) ** 0.5
        step = self.width() / len(self.levels)
        for k, count in enumerate(self.levels):
            tall = (base - 4) * count**0.5 / high
            painter.fillRect(QRectF(k * step, base - tall, max(1.0, step - 1), tall), t.colour("petrol"))
        painter.setPen(t.colour("line"))
        painter.drawLine(0, base, self.width(), base)
        painter.setPen(t.colour("faint"))
        painter.setFont(look.font(look.SMALL))
        painter.drawText(0, self.height() - 4, self.ends[0])
        right = self.width() - painter.fontMetrics().horizontalAdvance(self.ends[1])
        painter.drawText(right, self.height() - 4, self.ends[1])


class ImportWindow(QWidget):
    """Look first, then make the workspace.

    Parameters
    ----------
    place : Path
        The source.
    on_made : callable
        Gets the new workspace's folder.
    """

    def __init__(self, place: Path, on_made: Callable[[Path], None]) -> None:
        super().__init__()
        self.setObjectName("import window")
        self.setWindowTitle(f"{place.name} – Attentive Lens")
        self.resize(1080, 720)
        self.place, self._made = place, on_made
        QShortcut(QKeySequence("F1"), self).activated.connect(lambda: show_help(self))
        self.asker = Asker()
        self.asker.start()
        self.ways: list[Way] = []
        self.readings: tuple[WayToRead, ...] = ()
        self.current = 0
        self._process: QProcess | None = None
        down = vertical(self, spacing=12, margins=(28, 22, 28, 20))
        down.addWidget(label(f"Images from {place.name}", size=look.TITLE, strong=True))
        self.status = label("Looking at the first images …", "faint", name="source told")
        self.status.setWordWrap(True)
        down.addWidget(self.status)
        across = horizontal(spacing=16)
        down.addLayout(across, 1)
        body = QWidget()
        self.rows = QVBoxLayout(body)
        self.rows.setContentsMargins(0, 0, 0, 0)
        self.rows.setAlignment(Qt.AlignmentFlag.AlignTop)
        scroll = QScrollArea()
        scroll.setWidgetResizable(True)
        scroll.setWidget(body)
        left = vertical(spacing=12)
        left.addWidget(scroll, 1)
        left.addWidget(self._make_counts())
        across.addLayout(left, 1)
        frame, inside = panel("Read it otherwise", "reading panel")
        frame.setFixedWidth(340)
        self.form = Form(Reading(), tuple(Reading.specs()), self._ask)
        inside.addWidget(self.form)
        inside.addStretch()
        across.addWidget(frame)
        down.addLayout(self._make_foot())
        self._ask(Reading())

    def _make_counts(self) -> QWidget:
        """What will be read: where values lie, and how many images there are of each class."""
        frame, inside = panel("", "counts panel")
        frame.setFixedHeight(COUNTS)
        beside = horizontal(spacing=20)
        self.counts = label(role="faint", name="class counts")
        self.counts.setWordWrap(True)
        self.counts.setAlignment(Qt.AlignmentFlag.AlignTop)
        scroll = QScrollArea()
        scroll.setWidgetResizable(True)
        scroll.setWidget(self.counts)
        beside.addWidget(scroll, 1)
        self.scale = Levels()
        beside.addWidget(self.scale, 1, Qt.AlignmentFlag.AlignTop)
        inside.addLayout(beside)
        return frame

    def _make_foot(self) -> QHBoxLayout:
        foot = QHBoxLayout()
        foot.addWidget(label("Workspace", "faint"))
        self.folder = QLineEdit(str(self.place.with_name(f"{self.place.stem}-workspace")))
        self.folder.setObjectName("workspace folder")
        self.folder.setAccessibleName("folder of the new workspace")
        self.folder.setToolTip("The images stay where they are; labels, runs and models go into this folder.")
        self.folder.setFont(look.font())
        foot.addWidget(self.folder, 1)
        self.stop = button("Stop", "stop import", "Stop; nothing is left behind.", self._stop)
        self.stop.hide()
        foot.addWidget(self.stop)
        self.make = button("Make the workspace", "make workspace", "Read all images and open them.", self.start)
        self.make.setProperty("role", "main")
        self.make.setEnabled(False)
        foot.addWidget(self.make)
        return foot

    def _ask(self, reading: Reading) -> None:
        request = Preview(str(self.place.absolute()), reading.write())
        self.asker.ask(request, self._take, self._failed, 0, "preview")

    def _failed(self, sentence: str) -> None:
        self._clear()
        set_role(self.status, "bad")
        self.status.setText(sentence)
        self.make.setEnabled(False)

    def _clear(self) -> None:
        for way in self.ways:
            retire(way)
        self.ways = []

    def _take(self, preview: Previewed) -> None:
        self._clear()
        self.readings = preview.ways
        several = len(self.readings) > 1
        ask = " It can be read in several ways: choose the one whose pictures look right." if several else ""
        set_role(self.status, "warn" if several else "faint")
        self.status.setText(f"{preview.title[0].upper()}{preview.title[1:]}.{ask}")
        differing = [n for n in Reading.specs() if len({str(way.reading[n]) for way in self.readings}) > 1]
        for k, way in enumerate(self.readings):
            reading = way.reading
            words = [
                CHOICE_WORDS.get(str(reading[n]), str(reading[n]))
                for n in (differing or ("layout", "order", "labels"))
                if reading[n]
            ]
            way_card = Way(" · ".join(words) or "As they will be read", way.pixels, list(way.labels))
            way_card.setObjectName(f"reading {k}")
            way_card.chosen.connect(lambda number=k: self.choose(number))
            self.ways.append(way_card)
            self.rows.addWidget(way_card)
        self.make.setEnabled(True)
        self.choose(preview.likeliest)

    def choose(self, number: int) -> None:
        """Read it this way."""
        self.current = number
        for k, way in enumerate(self.ways):
            way.on = k == number
            way.update()
        chosen = self.readings[number]
        classes = chosen.classes
        lines = [f"{thousands(chosen.images)} images, {thousands(len(classes))} classes"]
        lines += [", ".join(f"{name} {thousands(count)}" for name, count in chosen.sets.items())]
        own = Reading.read(chosen.reading).pixel_format
        if not own.is_plain or own.white:
            names = f" of {own.names}" if own.channels else ""
            lines += [f"{own.depth}{names}" + (f": {own.scale_in_words}." if own.white else ".")]
        if chosen.beyond:
            lines += [f"{chosen.beyond:.2%} of the values of the images shown lie beyond."]
        self.scale.show_levels(chosen.levels, own)
        lines += [f"{name}: {thousands(count)}" for name, count in list(classes.items())[:60]]
        if chosen.skipped:
            lines.append(f"\n{thousands(chosen.skipped)} files or lines give no image")
        lines += chosen.problems
        self.counts.setText("\n".join(lines))

    def start(self) -> None:
        """Make the workspace, in a process of its own."""
        reading = {n: value for n, value in self.readings[self.current].reading.items() if value}
        words = ["new", self.folder.text(), str(self.place)]
        for name, value in reading.items():
            words += ["--read", f"{name}={value}"]
        self.make.setEnabled(False)
        self.stop.show()
        set_role(self.status, "faint")
        self.status.setText("Reading all images …")
        self._process = run_command(self, words, self._ended)

    def _stop(self) -> None:
        if self._process is not None:
            self._process.terminate()

    def _ended(self, code: int, message: str) -> None:
        self.stop.hide()
        self.make.setEnabled(True)
        self._process = None
        if code == 0:
            remember_source(self.place)
            self._made(Path(self.folder.text()))
            self.close()
        else:
            set_role(self.status, "bad")
            self.status.setText(message)

    def closeEvent(self, event: QCloseEvent | None) -> None:
        """End what is under way; nothing is left behind."""
        if self._process is not None:
            self._process.terminate()
            self._process.waitForFinished(3000)
        self.asker.close()
        super().closeEvent(event)
