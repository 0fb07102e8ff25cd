"""A form made from a value's own description: labels, units, ranges and tooltips are written only there."""

from __future__ import annotations

import re
from collections.abc import Callable, Mapping, Set
from functools import partial
from typing import Any

from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import (
    QCheckBox,
    QComboBox,
    QGridLayout,
    QLineEdit,
    QPushButton,
    QSpinBox,
    QWidget,
)

from attentive_lens.core.values import Kind, Spec, Value, of_kind
from attentive_lens.errors import LensError
from attentive_lens.plan.measures import MEASURES
from attentive_lens.plan.stopping import STOP_RULES
from attentive_lens.window import look
from attentive_lens.window.parts.basics import button, chooser, horizontal, in_lines, label, retire, set_role, vertical

CHOICE_WORDS = {
    "": "found out",
    "NHW": "images × rows × columns",
    "NHWC": "images × rows × columns × channels",
    "NCHW": "images × channels × rows × columns",
    "HWN": "rows × columns × images",
    "HWCN": "rows × columns × channels × images",
    "NP": "one image a row",
    "PN": "one image a column",
    "HWC": "row by row, colours together",
    "CHW": "one colour after the other, row by row",
    "WHC": "column by column, colours together",
    "CWH": "one colour after the other, column by column",
    **{measure.name: measure.label for measure in MEASURES.values()},
    **{rule.name: rule.label for rule in STOP_RULES.values()},
}
"""Everyday words for a choice's name in a plan file."""
WIDE, UNIT, BACK = 136, 50, 20
"""Pixels of a field, of its unit, and of what leads back to the usual setting."""
GAP = 8
"""Pixels between them."""


class Form(QWidget):
    """Fields for some settings of a value.

    Parameters
    ----------
    value : Value
        What is edited.
    names : tuple of str
        Its fields, in order.
    changed : callable
        Gets the new value after an edit that is valid; an edit that is not is marked and explained in place.
    wide : int
        Pixels of a field.
    usual : callable or None
        Gives the value with the usual settings: what differs from it is marked, and a press leads back to it.
    section : str
        What its fields are named by; the value's own section if left out.
    """

    def __init__(
        self,
        value: Value,
        names: tuple[str, ...],
        changed: Callable[[Any], None],
        wide: int = WIDE,
        usual: Callable[[], Value] | None = None,
        section: str = "",
    ) -> None:
        super().__init__()
        self._usual = usual
        section = section or (value.section if isinstance(value, Kind) else "") or value.title
        self._rows: dict[str, tuple[QWidget, ...]] = {}
        self._back: dict[str, QPushButton] = {}
        self.value, self.names = value, names
        self._changed = changed
        self._fields: dict[str, QWidget] = {}
        self._quiet = False
        layout = QGridLayout(self)
        layout.setContentsMargins(0, 0, 0, 0)
        layout.setHorizontalSpacing(GAP)
        layout.setVerticalSpacing(6)
        layout.setColumnStretch(0, 1)
        layout.setColumnMinimumWidth(2, UNIT)
        for row, name in enumerate(names):
            spec = value.specs()[name]
            caption = label(spec.label or name, role="faint")
            caption.setToolTip(in_lines(spec.tip))
            caption.setWordWrap(True)
            layout.addWidget(caption, row, 0)
            editor = self._make(name, spec, value.types()[name])
            editor.setObjectName(f"{section}.{name}")
            editor.setAccessibleName(spec.label or name)
            editor.setToolTip(in_lines(spec.tip))
            editor.setFont(look.font())
            editor.setFixedWidth(wide)
            layout.addWidget(editor, row, 1)
            unit = label(spec.unit, role="faint")
            layout.addWidget(unit, row, 2)
            self._fields[name] = editor
            self._rows[name] = (caption, editor, unit)
            if usual is not None:
                self._back[name] = _back_button(f"{editor.objectName()} default", partial(self._go_back, name))
                layout.addWidget(self._back[name], row, 3)
        self.problem = label(role="bad")
        self.problem.setWordWrap(True)
        self.problem.hide()
        layout.addWidget(self.problem, len(names), 0, 1, 3)
        self.show_value(value)

    def _make(self, name: str, spec: Spec, kind: Any) -> QWidget:
        if spec.choices:
            box = QComboBox()
            for choice in spec.choices:
                box.addItem(CHOICE_WORDS.get(choice, choice), choice)
            box.currentIndexChanged.connect(lambda _: self._edit(name, box.currentData()))
            return box
        if kind is bool:
            tick = QCheckBox()
            tick.toggled.connect(lambda on: self._edit(name, on))
            return tick
        if kind is int:
            spin = QSpinBox()
            spin.setRange(int(spec.low or 0), int(spec.high or 1_000_000))
            spin.setAlignment(Qt.AlignmentFlag.AlignRight)
            spin.setKeyboardTracking(False)
            spin.valueChanged.connect(lambda number: self._edit(name, number))
            return spin
        line = QLineEdit()
        if spec.counts:
            line.setAlignment(Qt.AlignmentFlag.AlignRight)
            line.editingFinished.connect(lambda: self._edit_numbers(name, line))
            return line
        if kind is str:
            line.editingFinished.connect(lambda: self._edit(name, line.text()))
            return line
        line.setAlignment(Qt.AlignmentFlag.AlignRight)
        line.editingFinished.connect(lambda: self._edit_number(name, line))
        return line

    def settle(self) -> None:
        """Tell nobody of anything any more: it is about to go."""
        self._quiet = True

    def focus_first(self) -> None:
        """Put the cursor in the first field."""
        for editor in self._fields.values():
            editor.setFocus()
            return

    def show_value(self, value: Any) -> None:
        """Fill the fields from a value, telling nobody."""
        self.value = value
        self._quiet = True
        for name, editor in self._fields.items():
            setting = getattr(value, name)
            if isinstance(editor, QComboBox):
                editor.setCurrentIndex(editor.findData(setting))
            elif isinstance(editor, QCheckBox):
                editor.setChecked(setting)
            elif isinstance(editor, QSpinBox):
                editor.setValue(setting)
            elif isinstance(editor, QLineEdit):
                editor.setText(_text(setting))
        self._mark()
        self._quiet = False

    def _mark(self) -> None:
        """Let what is not as usual stand out."""
        usual = self._usual() if self._usual is not None else None
        for name, back in self._back.items():
            setting = getattr(usual, name)
            differs, shown = getattr(self.value, name) != setting, not self._rows[name][0].isHidden()
            room = back.sizePolicy()
            room.setRetainSizeWhenHidden(shown)
            back.setSizePolicy(room)
            back.setVisible(differs and shown)
            back.setToolTip(f"Back to the default: {_said(setting)}.")
            back.setAccessibleName(back.toolTip())
            set_role(self._rows[name][0], "" if differs else "faint")

    def _go_back(self, name: str) -> None:
        if self._usual is not None:
            self._edit(name, getattr(self._usual(), name))
            self.show_value(self.value)

    def show_matching(self, words: str, idle: Set[str] = frozenset()) -> int:
        """Only the settings that have these words in their name, label or meaning, but for some; how many there are."""
        count = 0
        for name, widgets in self._rows.items():
            spec = self.value.specs()[name]
            there = words.lower() in f"{name} {name.replace('_', ' ')} {spec.label} {spec.meaning}".lower()
            there = there and name not in idle
            count += there
            for widget in widgets:
                widget.setVisible(there)
        self.setVisible(count > 0)
        self._mark()
        return count

    def _edit_number(self, name: str, line: QLineEdit) -> None:
        try:
            number = float(line.text().replace(",", "."))
        except ValueError:
            self._say(f"«{line.text()}» is not a number; {getattr(self.value, name):g} stays.")
            line.setText(f"{getattr(self.value, name):g}")
            return
        self._edit(name, number)

    def _edit_numbers(self, name: str, line: QLineEdit) -> None:
        """One whole number, or several with a × or a blank between them."""
        parts = re.split(r"[×x,;\s]+", line.text().strip())
        if not all(part.isascii() and part.isdigit() and len(part) < 10 for part in parts):
            stays = _text(getattr(self.value, name))
            self._say(f"«{line.text()}» is no whole number, nor several with × between them; {stays} stays.")
            line.setText(stays)
            return
        numbers = tuple(int(part) for part in parts)
        self._edit(name, numbers[0] if len(numbers) == 1 else numbers)

    def _edit(self, name: str, entered: Any) -> None:
        if self._quiet:
            return
        try:
            new = self.value.with_(**{name: entered})
            self._changed(new)
        except LensError as error:
            self._say(str(error))
            self.show_value(self.value)
            return
        self.problem.hide()
        self.value = new

    def _say(self, sentence: str) -> None:
        self.problem.setText(sentence)
        self.problem.show()


def _back_button(name: str, clicked: Callable[[], None]) -> QPushButton:
    """What leads back to the usual setting; hidden it keeps its room."""
    back = button("↺", name, "", clicked)
    back.setFixedSize(BACK, BACK)
    set_role(back, "glyph")
    room = back.sizePolicy()
    room.setRetainSizeWhenHidden(True)
    back.setSizePolicy(room)
    return back


def _text(setting: Any) -> str:
    """A setting as it stands in its field."""
    if isinstance(setting, str):
        return setting
    return " × ".join(str(part) for part in setting) if isinstance(setting, tuple) else f"{setting:g}"


def _said(setting: Any) -> str:
    """A setting in a sentence."""
    if isinstance(setting, bool):
        return "on" if setting else "off"
    return CHOICE_WORDS.get(setting, setting) if isinstance(setting, str) else _text(setting)


class KindForm(QWidget):
    """A form for a value that is one of a table's kinds: which kind, and some of its settings.

    Parameters
    ----------
    value : Kind
        What is edited.
    kinds : mapping
        The table.
    names : callable
        Gives the fields shown of a value.
    changed : callable
        Gets the new value; one of another kind keeps the settings that both kinds have.
    choose : bool
        Whether the kind can be chosen here.
    usual : callable or None
        Gives the usual value: another kind is marked, and a press leads back to its kind.
    section : str
        What its fields are named by; the kinds' own section if left out.
    """

    def __init__(
        self,
        value: Kind,
        kinds: Mapping[str, type[Kind]],
        names: Callable[[Any], tuple[str, ...]],
        changed: Callable[[Any], None],
        choose: bool = True,
        usual: Callable[[], Kind] | None = None,
        section: str = "",
    ) -> None:
        super().__init__()
        self._usual, self.section = usual, section or value.section
        self.value, self._kinds, self._names, self._changed = value, kinds, names, changed
        self._quiet = True
        self._inside = vertical(self, spacing=6)
        self.kind: QComboBox | None = None
        if choose:
            self._row = QWidget()
            row = horizontal(self._row, spacing=GAP)
            self._caption = label(value.section, role="faint")
            row.addWidget(self._caption, 1)
            self.kind = chooser(f"{self.section}.kind", self.section.replace("_", " "))
            self.kind.setFixedWidth(WIDE)
            for kind, kind_class in kinds.items():
                self.kind.addItem(kind, kind)
                self.kind.setItemData(self.kind.count() - 1, kind_class.idea, Qt.ItemDataRole.ToolTipRole)
            self.kind.currentIndexChanged.connect(self._choose)
            row.addWidget(self.kind)
            unit = QWidget()  # nothing, as wide as the units below
            unit.setFixedWidth(UNIT)
            row.addWidget(unit)
            self._back = _back_button(f"{self.section}.kind default", self._go_back)
            row.addWidget(self._back)
            self._inside.addWidget(self._row)
        self._form: Form | None = None
        self.show_value(value)

    def show_value(self, value: Kind) -> None:
        """Fill the fields from a value, telling nobody."""
        if self._form is None or value.kind != self.value.kind:
            if self._form is not None:
                self._inside.removeWidget(self._form)
                retire(self._form)
            self._form = Form(value, self._names(value), self._take, usual=type(value), section=self.section)
            self._inside.addWidget(self._form)
        else:
            self._form.show_value(value)
        self.value = value
        self._form.setVisible(bool(self._names(value)))
        if self.kind is not None:
            self._quiet = True
            self.kind.setCurrentIndex(self.kind.findData(value.kind))
            self.kind.setToolTip(value.idea)
            self._quiet = False
            self._mark()

    def _mark(self) -> None:
        """Let a kind that is not the usual one stand out."""
        usual = self._usual() if self._usual is not None else self.value
        differs = usual.kind != self.value.kind
        self._back.setVisible(differs)
        self._back.setToolTip(f"Back to the default: {usual.kind}.")
        self._back.setAccessibleName(self._back.toolTip())
        set_role(self._caption, "" if differs else "faint")

    def _go_back(self) -> None:
        if self._usual is not None:
            self._take(of_kind(self._kinds, self._usual().kind, self.value))

    def show_matching(self, words: str, idle: Set[str] = frozenset()) -> int:
        """As of a `Form`, the choice of a kind among them."""
        count = self._form.show_matching(words, idle) if self._form is not None else 0
        if self.kind is None:
            return count
        kinds = (self.section.replace("_", " "), *self._kinds, *(each.idea for each in self._kinds.values()))
        there = any(words.lower() in each.lower() for each in kinds)
        self._row.setVisible(there)
        return count + there

    def _choose(self) -> None:
        if not self._quiet and self.kind is not None:
            self._take(of_kind(self._kinds, self.kind.currentData(), self.value))

    def _take(self, value: Kind) -> None:
        self._changed(value)
        self.show_value(value)
