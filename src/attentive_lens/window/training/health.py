"""Layers while they train: plates tinted where something is unsound, and a small series for every figure of each."""

from __future__ import annotations

from collections.abc import Callable

from PyQt6.QtCore import QPointF, QRectF, QSize, Qt
from PyQt6.QtGui import QKeyEvent, QMouseEvent, QPainter, QPaintEvent, QPen, QPolygonF
from PyQt6.QtWidgets import QFrame, QScrollArea, QSizePolicy, QWidget

from attentive_lens.desk.training.health import FIGURES, Series, health_of, is_sound
from attentive_lens.desk.training.runs import RunView
from attentive_lens.plan.plan import Plan
from attentive_lens.window import look
from attentive_lens.window.bench.bench import Bench
from attentive_lens.window.bench.plates import Plate, plates_of
from attentive_lens.window.parts.basics import label, vertical
from attentive_lens.window.parts.pointing import points, rows
from attentive_lens.window.words import shortened

HEADS = {
    "update": ("update / weights", "Size of a step over the size of the weights: about 0.1 % is usual."),
    "gradient": (
        "gradient / weights",
        "Gradient over weights, in size: similar in all layers is healthy.",
    ),
    "activation": ("activation", "Root mean square of the outputs."),
    "dead": ("dead units", "Share of a rectifier's channels or units that are 0 for every image."),
}
ROW, HEAD, NAME = 34, 26, 150
FITTING = 12
"""Plates that fit into the view without scrolling."""
MOST = 400
"""Epochs drawn of a series, the last ones."""


class HealthView(QFrame):
    """The bench with its plates tinted, and the table of series under it; a click chooses a plate in both."""

    def __init__(self) -> None:
        super().__init__()
        self.setProperty("role", "panel")
        self.setObjectName("health view")
        inside = vertical(self, spacing=6, margins=(2, 8, 2, 8))
        self.says = label(role="faint", name="health says")
        self.says.setWordWrap(True)
        self.says.setContentsMargins(8, 0, 8, 0)
        inside.addWidget(self.says)
        self.bench = Bench("health bench", 110, 56)
        self.area = QScrollArea()
        self.area.setWidgetResizable(True)
        self.area.setWidget(self.bench)
        self.area.setVerticalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        self.area.setFixedHeight(196)
        inside.addWidget(self.area)
        self.table = SeriesTable()
        rows = QScrollArea()
        rows.setWidgetResizable(True)
        rows.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        rows.setWidget(self.table)
        self.rows = rows
        inside.addWidget(rows, 1)
        self._plan: Plan | None = None
        self._shown: tuple[int, int] | None = None
        self.bench.chosen.connect(self._choose)
        self.table.chosen_at = self._choose_layer

    def show_run(self, view: RunView, plan: Plan | None, classes: int) -> None:
        """Another run of so many classes, or one epoch more of it."""
        health = health_of(view, plan, MOST) if plan is not None else None
        if plan is None or health is None:
            self._plan, self._shown = None, None
            self.bench.hide()
            self.table.show_series((), {}, None)
            waits = "Layers are looked at after every epoch." if plan is not None else "The plan cannot be read."
            self.says.setText(waits)
            return
        at = (view.number, health.looks)
        if at == self._shown and plan == self._plan:
            return
        if plan != self._plan:
            facts = plan.network_for(classes).facts(plan.preprocessing.shape)
            by_name = {fact.name: fact for fact in facts}
            self.bench.show_plates(plates_of(plan.network.nodes, by_name, plan.preprocessing.shape, plan.frozen))
            if self.bench.layout_.column_count <= FITTING:
                self.bench.setMinimumWidth(0)
        self._plan, self._shown = plan, at
        self.bench.show()
        wrong = health.wrong
        self.bench.show_tints(
            {place: "ochre_fill" for place, plate in enumerate(self.bench.plates) if set(plate.nodes) & wrong.keys()}
            | {
                place: "vermilion"
                for place, plate in enumerate(self.bench.plates)
                if any("dead" in wrong.get(node, ()) or len(wrong.get(node, ())) > 1 for node in plate.nodes)
            }
        )
        self._say(wrong)
        self.table.show_series(self.bench.plates, health.series, plan)

    def _say(self, wrong: dict[str, tuple[str, ...]]) -> None:
        if not wrong:
            self.says.setText("All layers are within healthy limits; others would be tinted.")
            return
        words = [f"{name}: {', '.join(HEADS[figure][0] for figure in figures)}" for name, figures in wrong.items()]
        more = f"; and {len(words) - 4} more" if len(words) > 4 else ""
        self.says.setText(f"Outside sound limits: {'; '.join(words[:4])}{more}.")

    def _choose(self, place: int) -> None:
        plate = self.bench.plates[place]
        self.table.choose(plate.name)
        row = self.table.row_of(plate.name)
        if row is not None:
            self.rows.ensureVisible(0, HEAD + row * ROW + ROW // 2, 0, ROW)

    def _choose_layer(self, name: str) -> None:
        place = next((k for k, plate in enumerate(self.bench.plates) if plate.name == name), None)
        if place is not None:
            self.bench.current = place
            self.bench.update()
            self.area.ensureVisible(int(self.bench.centre(place).x()), 0, 60, 0)


class SeriesTable(QWidget):
    """A row a plate, a small series for each figure, its last value beside it; unsound ones in ochre."""

    def __init__(self) -> None:
        super().__init__()
        points(self, rows(lambda: len(self.rows), ROW, HEAD))
        self.setObjectName("health table")
        self.setAccessibleName("health of layers")
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Minimum)
        self.rows: list[tuple[str, dict[str, tuple[str, tuple[float | None, ...]]]]] = []
        self.plan: Plan | None = None
        self.current = ""
        self.chosen_at: Callable[[str], None] = lambda name: None
        self.setToolTip("\n".join(f"{head}: {tip}" for head, tip in HEADS.values()))

    def show_series(
        self,
        plates: tuple[Plate, ...],
        series: Series,
        plan: Plan | None,
    ) -> None:
        """Draw other series: for each plate the figures of whichever of its nodes has them."""
        self.plan, self.rows = plan, []
        for plate in plates:
            cells = {}
            for figure in FIGURES:
                for node in plate.nodes if figure != "activation" else plate.nodes[-1:]:
                    values = series.get((node, figure), ())
                    if any(value is not None for value in values):
                        cells[figure] = (node, values)
                        break
            if cells.keys() - {"activation"}:
                self.rows.append((plate.name, cells))
        self.setMinimumHeight(HEAD + ROW * len(self.rows))
        self.update()

    def sizeHint(self) -> QSize:
        """Room for every row."""
        return QSize(500, HEAD + ROW * len(self.rows))

    def row_of(self, name: str) -> int | None:
        """The row of a plate; None if it has none."""
        return next((k for k, (plate, _) in enumerate(self.rows) if plate == name), None)

    def choose(self, name: str) -> None:
        """Mark a plate's row."""
        self.current = name
        self.update()

    def mousePressEvent(self, event: QMouseEvent | None) -> None:
        """Choose a row, and its plate on the bench."""
        row = -1 if event is None else int((event.position().y() - HEAD) // ROW)
        if 0 <= row < len(self.rows):
            self.choose(self.rows[row][0])
            self.chosen_at(self.rows[row][0])

    def keyPressEvent(self, event: QKeyEvent | None) -> None:
        """Up and down choose the row before and after."""
        steps = {Qt.Key.Key_Up: -1, Qt.Key.Key_Down: 1}
        key = Qt.Key(event.key()) if event is not None else Qt.Key.Key_unknown
        if key in steps and self.rows:
            at = self.row_of(self.current)
            row = 0 if at is None else min(max(at + steps[key], 0), len(self.rows) - 1)
            self.choose(self.rows[row][0])
            self.chosen_at(self.rows[row][0])
        else:
            super().keyPressEvent(event)

    def paintEvent(self, event: QPaintEvent | None) -> None:
        """Heads, names, series."""
        t, painter = look.theme, QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        wide = (self.width() - NAME) / len(FIGURES)
        painter.setFont(look.font(look.SMALL))
        painter.setPen(t.colour("faint"))
        if self.rows:
            for k, figure in enumerate(FIGURES):
                box = QRectF(NAME + k * wide, 2, wide - 12, HEAD - 6)
                painter.drawText(box, Qt.AlignmentFlag.AlignLeft | Qt.AlignmentFlag.AlignVCenter, HEADS[figure][0])
        for row, (name, cells) in enumerate(self.rows):
            top = HEAD + row * ROW
            if name == self.current:
                painter.fillRect(QRectF(0, top, self.width(), ROW), t.colour("tint"))
            painter.setPen(QPen(t.colour("line"), 1))
            painter.drawLine(QPointF(0, top), QPointF(self.width(), top))
            painter.setPen(t.colour("ink"))
            words = shortened([name], NAME - 12, painter.fontMetrics().horizontalAdvance)[0]
            box = QRectF(4, top, NAME - 8, ROW)
            painter.drawText(box, Qt.AlignmentFlag.AlignLeft | Qt.AlignmentFlag.AlignVCenter, words)
            for k, figure in enumerate(FIGURES):
                if figure in cells:
                    self._paint_cell(painter, QRectF(NAME + k * wide, top, wide - 12, ROW), figure, *cells[figure])

    def _paint_cell(
        self, painter: QPainter, box: QRectF, figure: str, node: str, values: tuple[float | None, ...]
    ) -> None:
        t = look.theme
        known = [(k, value) for k, value in enumerate(values) if value is not None]
        last = known[-1][1]
        sound = self.plan is None or is_sound(self.plan, node, figure, last)
        low, high = min(value for _, value in known), max(value for _, value in known)
        if figure == "dead":
            low, high = 0.0, 1.0
        room = QRectF(box.left(), box.top() + 7, max(10.0, box.width() - 66), box.height() - 14)
        span = max(1, len(values) - 1)
        line = QPolygonF(
            [
                QPointF(
                    room.left() + k / span * room.width(),
                    room.bottom() - (value - low) / ((high - low) or 1.0) * room.height(),
                )
                for k, value in known
            ]
        )
        colour = t.colour("ink" if sound else "ochre")
        painter.setPen(QPen(colour, 1.3))
        painter.drawPolyline(line)
        if line.count() == 1:
            painter.setBrush(colour)
            painter.drawEllipse(line.at(0), 1.6, 1.6)
            painter.setBrush(Qt.BrushStyle.NoBrush)
        painter.setFont(look.font(look.SMALL, not sound))
        words = QRectF(room.right() + 4, box.top(), 62, box.height())
        painter.drawText(words, Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter, figure_words(figure, last))
        painter.setFont(look.font(look.SMALL))


def figure_words(figure: str, value: float) -> str:
    """A figure as it is shown: parts as hundredths, others by three digits."""
    if figure in ("update", "dead"):
        return f"{value * 100:.2g}\u202f%" if value < 0.1 else f"{value * 100:.0f}\u202f%"
    return f"{value:.2g}" if value < 100 else f"{value:.3g}"
