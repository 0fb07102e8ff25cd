"""What can be done with the plates chosen on the bench: words, keys, and the lines of its menu."""

from __future__ import annotations

from dataclasses import dataclass

from PyQt6.QtCore import Qt


@dataclass(frozen=True)
class Verb:
    """Something that can be done with the chosen plates: its word, its keys, and the menu's line for it."""

    word: str
    keys: tuple[tuple[Qt.Key, Qt.KeyboardModifier], ...]
    line: str
    shown: str


PLAIN, SHIFT, CONTROL, ALT = (
    Qt.KeyboardModifier.NoModifier,
    Qt.KeyboardModifier.ShiftModifier,
    Qt.KeyboardModifier.ControlModifier,
    Qt.KeyboardModifier.AltModifier,
)
VERBS: tuple[Verb, ...] = (
    Verb("insert", ((Qt.Key.Key_Insert, PLAIN), (Qt.Key.Key_A, PLAIN)), "Add a layer after it …", "A, Insert"),
    Verb("connect", ((Qt.Key.Key_C, PLAIN),), "Lead its output to another layer …", "C"),
    Verb("duplicate", ((Qt.Key.Key_D, CONTROL),), "Duplicate", "Ctrl+D"),
    Verb("remove", ((Qt.Key.Key_Delete, PLAIN), (Qt.Key.Key_Backspace, PLAIN)), "Remove", "Delete"),
    Verb("earlier", ((Qt.Key.Key_Left, CONTROL),), "Move earlier", "Ctrl+←"),
    Verb("later", ((Qt.Key.Key_Right, CONTROL),), "Move later", "Ctrl+→"),
    Verb("remove layer", ((Qt.Key.Key_Delete, SHIFT),), "Remove the layer shown alone", "Shift+Delete"),
    Verb("layer earlier", ((Qt.Key.Key_Left, CONTROL | SHIFT),), "Move the layer shown earlier", "Ctrl+Shift+←"),
    Verb("layer later", ((Qt.Key.Key_Right, CONTROL | SHIFT),), "Move the layer shown later", "Ctrl+Shift+→"),
    Verb("copy", ((Qt.Key.Key_C, CONTROL),), "Copy", "Ctrl+C"),
    Verb("cut", ((Qt.Key.Key_X, CONTROL),), "Cut", "Ctrl+X"),
    Verb("paste", ((Qt.Key.Key_V, CONTROL),), "Paste after it", "Ctrl+V"),
    Verb("fold", ((Qt.Key.Key_F, PLAIN),), "Fold or unfold its block", "F"),
    Verb("fold all", ((Qt.Key.Key_F, SHIFT),), "Fold all blocks, or unfold them", "Shift+F"),
    Verb("freeze", ((Qt.Key.Key_H, PLAIN),), "Freeze, or let it learn", "H"),
    Verb("settings", ((Qt.Key.Key_Return, PLAIN), (Qt.Key.Key_Enter, PLAIN)), "Its settings", "Return"),
)
READING = ("copy", "fold", "fold all", "settings")
"""What can be done where nothing may be changed."""
