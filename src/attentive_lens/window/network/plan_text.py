"""The plan as text beside the bench: what is written there is drawn, what is drawn is written there."""

from __future__ import annotations

import re

from PyQt6.QtCore import QRectF, QSize, Qt, QTimer, pyqtSignal
from PyQt6.QtGui import (
    QColor,
    QFont,
    QFontDatabase,
    QPainter,
    QPaintEvent,
    QResizeEvent,
    QSyntaxHighlighter,
    QTextCharFormat,
    QTextCursor,
    QTextDocument,
    QTextFormat,
)
from PyQt6.QtWidgets import QPlainTextEdit, QTextEdit, QWidget

from attentive_lens.errors import LensError
from attentive_lens.window import look
from attentive_lens.window.parts.basics import label, vertical
from attentive_lens.window.session import Session

SETTLED = 300
"""Milliseconds without a key after which a text is read."""


class PlanText(QWidget):
    """The text, with the lines marked that a fault is in, and the first fault below.

    Signals
    -------
    node_pointed
        The cursor stands in this node's section.
    """

    node_pointed = pyqtSignal(str)

    def __init__(self, session: Session) -> None:
        super().__init__()
        self.session = session
        self._quiet = False
        inside = vertical(self, spacing=6, margins=(8, 8, 8, 8))
        self.editor = _Editor()
        self.editor.setObjectName("plan text")
        self.editor.setAccessibleName("the plan as text")
        self.editor.setToolTip("")
        self._colours = _Structure(self.editor.document())
        inside.addWidget(self.editor, 1)
        self.problem = label(role="bad", size=look.SMALL, name="plan text problem")
        self.problem.setWordWrap(True)
        inside.addWidget(self.problem)
        self.note = label("Comments are not kept; a setting left out is as usual.", "faint", look.SMALL)
        self.note.setWordWrap(True)
        inside.addWidget(self.note)
        self._settle = QTimer(self)
        self._settle.setSingleShot(True)
        self._settle.setInterval(SETTLED)
        self._settle.timeout.connect(self.take)
        self.editor.textChanged.connect(self._edited)
        self.editor.cursorPositionChanged.connect(self._point)

    def refresh(self) -> None:
        """Show the plan's text, unless it is what stands there."""
        if not self.isVisible():
            return
        text = self.session.design.text
        if text != self.editor.toPlainText() and not self._settle.isActive():
            self._quiet = True
            self.editor.replace_text(text)
            self._quiet = False
        self._mark()

    def take(self) -> None:
        """Read what was written."""
        self._settle.stop()
        self.session.design.write(self.editor.toPlainText())
        self._mark()

    def show_node(self, name: str) -> None:
        """Bring a node's section into view."""
        line = self.session.design.lines.get(name, 0) if self.isVisible() else 0
        document = self.editor.document()
        if line and document is not None and not self.editor.hasFocus():
            self._quiet = True
            self.editor.setTextCursor(QTextCursor(document.findBlockByNumber(line - 1)))
            self.editor.centerCursor()
            self._quiet = False

    def _edited(self) -> None:
        if not self._quiet:
            self._settle.start()

    def _point(self) -> None:
        if self._quiet or not self.editor.hasFocus() or self._settle.isActive():
            return
        line = self.editor.textCursor().blockNumber() + 1
        before = [(at, name) for name, at in self.session.design.lines.items() if 0 < at <= line]
        if before:
            self.node_pointed.emit(max(before)[1])

    def _mark(self) -> None:
        """Mark the lines of faults, and say the first."""
        design = self.session.design
        marks: dict[int, LensError] = {}
        for result in design.text_faults:
            marks.setdefault(result.line, result.error)
        if not marks:
            lines = design.lines
            for fault in design.faults:
                marks.setdefault(lines.get(fault.node, 0), fault.error)
        self.editor.mark({line for line in marks if line})
        first = min(marks.items(), key=lambda item: item[0], default=None)
        self.problem.setVisible(first is not None)
        if first is not None:
            line, error = first
            self.problem.setText(f"Line {line}. {error}" if line else str(error))


class _Editor(QPlainTextEdit):
    """A plain editor with line numbers and marked lines; undo is the bench's."""

    def __init__(self) -> None:
        super().__init__()
        font = QFontDatabase.systemFont(QFontDatabase.SystemFont.FixedFont)
        font.setPixelSize(look.SMALL)
        self.setFont(font)
        self.setUndoRedoEnabled(False)
        self.setLineWrapMode(QPlainTextEdit.LineWrapMode.NoWrap)
        self.setTabChangesFocus(True)
        self._margin = _Margin(self)
        self.setViewportMargins(self._margin.width_needed(), 0, 0, 0)
        self.updateRequest.connect(lambda *_: self._margin.update())
        self.marked: set[int] = set()

    def replace_text(self, text: str) -> None:
        """Another text: only what differs is written, so that the place that is read stays."""
        old = self.toPlainText()
        if old.isascii() and text.isascii():
            begin = _in_common(old, text)
            end = _in_common(old[begin:][::-1], text[begin:][::-1])
            cursor = QTextCursor(self.document())
            cursor.setPosition(begin)
            cursor.setPosition(len(old) - end, QTextCursor.MoveMode.KeepAnchor)
            cursor.insertText(text[begin : len(text) - end])
        else:  # a letter may be two of the document's
            self.setPlainText(text)

    def mark(self, lines: set[int]) -> None:
        """Mark lines that a fault is in."""
        self.marked = lines
        document = self.document()
        selections = []
        for line in lines:
            selection = QTextEdit.ExtraSelection()
            shade = QColor(look.theme.colour("vermilion", 30))
            selection.format.setBackground(shade)
            selection.format.setProperty(QTextFormat.Property.FullWidthSelection, True)
            if document is not None:
                selection.cursor = QTextCursor(document.findBlockByNumber(line - 1))
            selections.append(selection)
        self.setExtraSelections(selections)
        self._margin.update()

    def resizeEvent(self, event: QResizeEvent | None) -> None:
        """The margin is as tall as the text."""
        super().resizeEvent(event)
        self._margin.setGeometry(0, 0, self._margin.width_needed(), self.height())

    def paint_margin(self, painter: QPainter) -> None:
        """Line numbers, those with a fault in vermilion."""
        t = look.theme
        painter.fillRect(self._margin.rect(), t.colour("well"))
        painter.setFont(QFont(self.font()))
        block = self.firstVisibleBlock()
        top = self.blockBoundingGeometry(block).translated(self.contentOffset()).top()
        while block.isValid() and top < self.height():
            number = block.blockNumber() + 1
            faulty = number in self.marked
            painter.setPen(t.colour("vermilion" if faulty else "faint"))
            box = QRectF(0, top, self._margin.width() - 6, self.blockBoundingRect(block).height())
            painter.drawText(box, Qt.AlignmentFlag.AlignRight, f"! {number}" if faulty else str(number))
            top += self.blockBoundingRect(block).height()
            block = block.next()


def _in_common(one: str, other: str) -> int:
    """Letters that two texts begin with both."""
    shorter = min(len(one), len(other))
    return next((k for k in range(shorter) if one[k] != other[k]), shorter)


class _Margin(QWidget):
    """Line numbers at the left of the text."""

    def __init__(self, editor: _Editor) -> None:
        super().__init__(editor)
        self._editor = editor

    def width_needed(self) -> int:
        """Room for four figures and a mark."""
        return self.fontMetrics().horizontalAdvance("! 0000") + 8

    def sizeHint(self) -> QSize:
        return QSize(self.width_needed(), 0)

    def paintEvent(self, event: QPaintEvent | None) -> None:
        self._editor.paint_margin(QPainter(self))


class _Structure(QSyntaxHighlighter):
    """Colours for structure only: section heads strong, keys in petrol, remarks faint."""

    def __init__(self, document: QTextDocument | None) -> None:
        super().__init__(document)
        t = look.theme
        self._head, self._key, self._remark = QTextCharFormat(), QTextCharFormat(), QTextCharFormat()
        self._head.setFontWeight(QFont.Weight.Bold)
        self._key.setForeground(t.colour("petrol"))
        self._remark.setForeground(t.colour("faint"))

    def highlightBlock(self, text: str | None) -> None:
        """One line."""
        line = text or ""
        if re.match(r"\s*\[", line):
            self.setFormat(0, len(line), self._head)
        key = re.match(r"\s*[\w.-]+\s*=", line)
        if key is not None:
            self.setFormat(0, key.end() - 1, self._key)
        remark = re.search(r'#(?=[^"]*$)', line)
        if remark is not None:
            self.setFormat(remark.start(), len(line) - remark.start(), self._remark)
