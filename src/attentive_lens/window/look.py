"""Colours, type and measure: every colour in the window comes from these tokens."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path

from PyQt6.QtCore import Qt
from PyQt6.QtGui import QColor, QFont, QFontDatabase, QGuiApplication, QPalette
from PyQt6.QtWidgets import QApplication, QStyle, QWidget

GRID = 4
"""Pixels; distances are multiples of it."""
RADIUS = 4

LEAST_CONTRAST = 4.5
"""Of text with what it stands on."""

SMALL, TEXT, LARGE, TITLE = 12, 13, 15, 20
"""The four sizes of type, in pixels."""


@dataclass(frozen=True)
class Tokens:
    """A theme: one colour for each role."""

    paper: str
    sheet: str
    line: str
    ink: str
    faint: str
    petrol: str
    on_petrol: str
    vermilion: str
    ochre: str
    ochre_fill: str
    plate_side: str
    well: str
    tint: str
    petrol_over: str

    def colour(self, role: str, alpha: int = 255) -> QColor:
        """The colour of a role, with opacity 0–255."""
        colour = QColor(getattr(self, role))
        colour.setAlpha(alpha)
        return colour


LIGHT = Tokens(
    paper="#F4F1EA",
    sheet="#FCFAF5",
    line="#D9D3C7",
    ink="#23292E",
    faint="#5E6260",
    petrol="#0F6B72",
    on_petrol="#FCFAF5",
    vermilion="#B53A20",
    ochre="#86590A",
    ochre_fill="#B98218",
    plate_side="#E7E1D4",
    well="#EDE8DE",
    tint="#D8E6E4",
    petrol_over="#0C5A60",
)
DARK = Tokens(
    paper="#1B1E21",
    sheet="#24282C",
    line="#3A4046",
    ink="#E9E4DA",
    faint="#9DA29F",
    petrol="#4FB3B8",
    on_petrol="#10201F",
    vermilion="#F07A5C",
    ochre="#E3B04B",
    ochre_fill="#E3B04B",
    plate_side="#343A3F",
    well="#2D3237",
    tint="#1E3433",
    petrol_over="#67C3C7",
)
CONTRAST = Tokens(
    paper="#FFFFFF",
    sheet="#FFFFFF",
    line="#6B6B6B",
    ink="#000000",
    faint="#333333",
    petrol="#00474D",
    on_petrol="#FFFFFF",
    vermilion="#8F1E05",
    ochre="#5C3A00",
    ochre_fill="#8A5A00",
    plate_side="#D6D6D6",
    well="#E4E4E4",
    tint="#CFE4E2",
    petrol_over="#002F33",
)
THEMES = {"light": LIGHT, "dark": DARK, "contrast": CONTRAST}

DESKTOP = "desktop"
"""The choice of whatever theme the desktop has."""
theme = LIGHT
"""The theme in use."""
chosen = DESKTOP
"""What was chosen: one of `THEMES`, or `DESKTOP`."""


def contrast(one: QColor, other: QColor) -> float:
    """From 1 (none) to 21, by relative luminance (W3C 2018, «Web content accessibility guidelines 2.1»)."""
    lighter, darker = sorted((_luminance(one), _luminance(other)), reverse=True)
    return (lighter + 0.05) / (darker + 0.05)


def _luminance(colour: QColor) -> float:
    parts = (colour.redF(), colour.greenF(), colour.blueF())
    linear = [part / 12.92 if part <= 0.03928 else ((part + 0.055) / 1.055) ** 2.4 for part in parts]
    return 0.2126 * linear[0] + 0.7152 * linear[1] + 0.0722 * linear[2]


def blended(role: str, alpha: int, below: str = "sheet") -> QColor:
    """What a colour with an opacity of 0–255 looks like over another."""
    top, ground, share = theme.colour(role), theme.colour(below), alpha / 255
    pairs = ((top.red(), ground.red()), (top.green(), ground.green()), (top.blue(), ground.blue()))
    return QColor(*(round(over * share + under * (1 - share)) for over, under in pairs))


def readable_on(ground: QColor) -> QColor:
    """The colour for text on any ground: ink or what stands on petrol; where both differ too little, black or white."""
    for pair in ((theme.colour("ink"), theme.colour("on_petrol")), (QColor(0, 0, 0), QColor(255, 255, 255))):
        colour = max(pair, key=lambda each: contrast(each, ground))
        if contrast(colour, ground) >= LEAST_CONTRAST:
            break
    return colour


def use(name: str) -> None:
    """Take one of `THEMES`, or the desktop's, from now on; what is painted already is another's matter: `restyle`."""
    global theme, chosen
    theme, chosen = _theme_of(name), name


def following() -> str:
    """The choice after this one, the first after the last, that looks otherwise."""
    names = [*THEMES, DESKTOP]
    at = names.index(chosen) + 1
    return next(name for name in (*names[at:], *names[:at]) if _theme_of(name) is not theme)


def _theme_of(name: str) -> Tokens:
    """One of `THEMES`; of the desktop's own choice that which comes nearest to it."""
    if name != DESKTOP:
        return THEMES[name]
    hints = QGuiApplication.styleHints()
    if hints is None:
        return LIGHT
    accessibility = hints.accessibility() if hasattr(hints, "accessibility") else None  # since Qt 6.10
    if accessibility is not None and accessibility.contrastPreference() == Qt.ContrastPreference.HighContrast:
        return CONTRAST
    return DARK if hints.colorScheme() == Qt.ColorScheme.Dark else LIGHT


def restyle(application: QApplication) -> None:
    """Give the whole application the colours of the theme; widgets are told by a change of style."""
    palette = QPalette()
    for role, token in (
        (QPalette.ColorRole.Window, "paper"),
        (QPalette.ColorRole.WindowText, "ink"),
        (QPalette.ColorRole.Base, "paper"),
        (QPalette.ColorRole.Text, "ink"),
        (QPalette.ColorRole.PlaceholderText, "faint"),
        (QPalette.ColorRole.Button, "sheet"),
        (QPalette.ColorRole.ButtonText, "ink"),
        (QPalette.ColorRole.Highlight, "petrol"),
        (QPalette.ColorRole.HighlightedText, "on_petrol"),
    ):
        palette.setColor(role, theme.colour(token))
    application.setPalette(palette)
    application.setStyleSheet(stylesheet())


_family = ""


def load_fonts() -> str:
    """Register the fonts that come with us and return their family."""
    global _family
    if not _family:
        folder = Path(__file__).parent / "fonts"
        for file in ("Inter-Regular.otf", "Inter-SemiBold.otf"):
            number = QFontDatabase.addApplicationFont(str(folder / file))
            families = QFontDatabase.applicationFontFamilies(number)
            if families:
                _family = families[0]
    return _family


def font(size: int = TEXT, strong: bool = False) -> QFont:
    """A font of ours with figures of one width."""
    chosen = QFont(load_fonts())
    chosen.setPixelSize(size)
    chosen.setWeight(QFont.Weight.DemiBold if strong else QFont.Weight.Normal)
    chosen.setFeature(QFont.Tag(b"tnum"), 1)
    return chosen


def moves(widget: QWidget) -> bool:
    """Whether things may move on this desktop: where its style has no time for motion, all is there at once."""
    style = widget.style()
    return style is not None and style.styleHint(QStyle.StyleHint.SH_Widget_Animation_Duration, None, widget) > 0


def stylesheet() -> str:
    """Qt's own controls in our colours."""
    t = theme
    marks = (Path(__file__).parent / "marks" / ("dark" if t is DARK else "light")).as_posix()
    return f"""
    QWidget {{ color: {t.ink}; background: {t.paper}; }}
    QLabel, QCheckBox {{ background: transparent; }}
    QLabel#readout {{ background: {t.sheet}; border: 1px solid {t.line}; border-radius: {RADIUS}px; padding: 3px 7px; }}
    QLabel[role="faint"] {{ color: {t.faint}; }}
    QLabel[role="bad"] {{ color: {t.vermilion}; }}
    QLabel[role="good"] {{ color: {t.petrol}; }}
    QLabel[role="warn"] {{ color: {t.ochre}; }}
    QFrame[role="panel"] {{ background: {t.sheet}; border: 1px solid {t.line}; border-radius: {RADIUS}px; }}
    QFrame[role="panel"] QWidget {{ background: transparent; }}
    QFrame#top\\ strip {{ border-bottom: 1px solid {t.line}; }}
    QFrame#bottom\\ strip {{ border-top: 1px solid {t.line}; }}
    QWidget[role="evidence"] {{ border-left: 1px solid {t.line}; }}
    QPushButton {{ background: {t.sheet}; border: 1px solid {t.line}; border-radius: {RADIUS}px;
        padding: 5px 12px; min-height: 16px; }}
    QPushButton:hover {{ border-color: {t.faint}; }}
    QPushButton:pressed, QFrame[role="panel"] QPushButton:pressed {{ background: {t.line}; }}
    QPushButton:focus, QComboBox:focus, QLineEdit:focus, QPlainTextEdit:focus, QSpinBox:focus, QDoubleSpinBox:focus
        {{ border: 1px solid {t.petrol}; }}
    QPushButton:checked {{ background: {t.tint}; color: {t.ink}; border-color: {t.petrol}; }}
    QPushButton[role="view"] {{ background: transparent; border: none; border-bottom: 2px solid transparent;
        border-radius: 0; padding: 5px 2px; margin: 0 6px; color: {t.faint}; }}
    QPushButton[role="view"]:hover {{ color: {t.ink}; }}
    QPushButton[role="view"]:checked {{ background: transparent; color: {t.ink};
        border-bottom: 2px solid {t.petrol}; }}
    QPushButton[role="view"]:pressed, QFrame[role="panel"] QPushButton[role="view"]:pressed
        {{ background: transparent; border-bottom: 2px solid {t.line}; }}
    QPushButton[role="view"]:focus {{ color: {t.petrol}; }}
    QPushButton[role="view"]:disabled {{ background: transparent; color: {t.line}; }}
    QPushButton[role="filter"] {{ border-radius: 13px; padding: 4px 12px; }}
    QPushButton[role^="chip"] {{ border: none; border-radius: 8px; padding: 1px 5px; min-height: 15px;
        background: {t.well}; color: {t.faint}; }}
    QPushButton[role="chip action"] {{ background: transparent; color: {t.petrol}; border: 1px solid {t.line};
        padding: 0 5px; }}
    QPushButton[role="chip action"]:hover {{ border-color: {t.petrol}; }}
    QPushButton[role^="chip"]:hover {{ color: {t.ink}; }}
    QPushButton[role="chip good"] {{ background: {t.tint}; color: {t.petrol}; }}
    QPushButton[role="chip warn"] {{ color: {t.ochre}; }}
    QPushButton[role^="chip"]:checked, QPushButton[role^="chip"]:focus
        {{ border: 1px solid {t.petrol}; padding: 0 4px; }}
    QPushButton[role="glyph"], QFrame[role="panel"] QPushButton[role="glyph"] {{ background: transparent; border: none;
        padding: 0; min-height: 0; color: {t.petrol}; }}
    QPushButton[role="glyph"]:focus {{ border: 1px solid {t.petrol}; }}
    QPushButton:disabled {{ color: {t.faint}; background: {t.paper}; }}
    QPushButton[role="title"] {{ background: transparent; border: 1px solid transparent; padding: 4px 8px; }}
    QPushButton[role="title"]:hover {{ background: {t.well}; }}
    QPushButton[role="title"]:focus {{ border-color: {t.petrol}; }}
    QPushButton[role="main"] {{ background: {t.petrol}; color: {t.on_petrol}; border: 1px solid {t.petrol};
        min-width: 104px; }}
    QPushButton[role="main"]:hover {{ background: {t.petrol_over}; }}
    QPushButton[role="main"]:pressed {{ background: {t.petrol_over}; border-color: {t.ink}; }}
    QPushButton[role="main"]:focus {{ border: 1px solid {t.ink}; }}
    QPushButton[role="main"]:disabled {{ background: {t.line}; border-color: {t.line}; color: {t.faint}; }}
    QPushButton[role="fold"], QFrame[role="panel"] QPushButton[role="fold"],
    QFrame[role="panel"] QPushButton[role="fold"]:checked {{ text-align: left; border: 1px solid transparent;
        padding: 3px 2px; background: transparent; color: {t.ink}; }}
    QFrame[role="panel"] QPushButton[role="fold"]:hover {{ color: {t.petrol}; }}
    QFrame[role="panel"] QPushButton[role="fold"]:focus {{ border: 1px solid {t.petrol}; }}
    QFrame[role="panel"] QPushButton[role="row"] {{ text-align: left; border: 1px solid transparent; padding: 2px 8px;
        background: transparent; }}
    QFrame[role="panel"] QPushButton[role="row"]:hover {{ border-color: {t.line}; }}
    QFrame[role="panel"] QPushButton[role="row"]:checked {{ background: {t.well}; color: {t.ink};
        border-left: 3px solid {t.petrol}; }}
    QFrame[role="panel"] QPushButton[role="row"]:focus {{ border: 1px solid {t.petrol}; }}
    QComboBox, QLineEdit, QPlainTextEdit, QSpinBox, QDoubleSpinBox {{ background: {t.paper}; border: 1px solid {t.line};
        border-radius: {RADIUS}px; padding: 3px 8px; min-height: 18px; max-height: 18px;
        selection-background-color: {t.petrol}; selection-color: {t.on_petrol}; }}
    QFrame[role="panel"] QComboBox, QFrame[role="panel"] QLineEdit, QFrame[role="panel"] QSpinBox,
    QFrame[role="panel"] QDoubleSpinBox {{ background: {t.paper}; }}
    QFrame[role="panel"] QPushButton {{ background: {t.sheet}; }}
    QFrame[role="panel"] QPushButton:checked {{ background: {t.tint}; }}
    QComboBox::drop-down {{ border: none; width: 18px; }}
    QComboBox::down-arrow {{ image: url("{marks}/down.svg"); width: 10px; height: 6px; margin-right: 8px; }}
    QFrame[role="panel"] QPushButton[role="view"] {{ background: transparent; }}
    QFrame[role="panel"] QPushButton[role="view"]:checked {{ background: transparent; }}
    QFrame[role="panel"] QFrame[role="box"] {{ background: {t.sheet}; border: 1px solid {t.faint};
        border-radius: {RADIUS}px; }}
    QFrame[role="panel"] QFrame[role="box"] QListWidget {{ background: {t.paper}; }}
    QAbstractScrollArea::corner {{ background: transparent; border: none; }}
    QPlainTextEdit {{ background: {t.paper}; border: none; selection-background-color: {t.petrol};
        selection-color: {t.on_petrol}; }}
    QPlainTextEdit[role="note"] {{ border: 1px solid {t.line}; border-radius: {RADIUS}px; min-height: 50px;
        max-height: 50px; }}
    QListWidget {{ background: {t.paper}; border: 1px solid {t.line}; border-radius: {RADIUS}px; outline: none; }}
    QListWidget::item {{ padding: 3px 6px; }}
    QListWidget::item:selected {{ background: {t.tint}; color: {t.ink}; }}
    QCheckBox::indicator {{ width: 14px; height: 14px; border: 1px solid {t.faint}; border-radius: 3px;
        background: {t.paper}; }}
    QCheckBox::indicator:checked {{ background: {t.petrol}; border-color: {t.petrol};
        image: url("{marks}/tick.svg"); }}
    QCheckBox:focus {{ color: {t.petrol}; }}
    QSlider::groove:horizontal {{ background: {t.line}; height: 2px; border-radius: 1px; }}
    QSlider::sub-page:horizontal {{ background: {t.petrol}; height: 2px; border-radius: 1px; }}
    QSlider::handle:horizontal {{ background: {t.sheet}; border: 1px solid {t.petrol}; width: 12px; height: 12px;
        margin: -6px 0; border-radius: 6px; }}
    QComboBox QAbstractItemView {{ background: {t.sheet}; border: 1px solid {t.line};
        selection-background-color: {t.petrol}; selection-color: {t.on_petrol}; outline: none; }}
    QSpinBox::up-button, QSpinBox::down-button, QDoubleSpinBox::up-button, QDoubleSpinBox::down-button
        {{ width: 0; border: none; }}
    QScrollBar:vertical {{ background: transparent; width: 10px; margin: 0; }}
    QScrollBar:horizontal {{ background: transparent; height: 10px; margin: 0; }}
    QScrollBar::handle {{ background: {t.line}; border-radius: 3px; margin: 2px; min-height: 24px;
        min-width: 24px; }}
    QScrollBar::handle:hover {{ background: {t.faint}; }}
    QScrollBar::add-line, QScrollBar::sub-line, QScrollBar::add-page, QScrollBar::sub-page
        {{ background: transparent; width: 0; height: 0; border: none; }}
    QScrollArea {{ border: none; }}
    QTableView {{ background: {t.paper}; border: none; selection-background-color: {t.well};
        selection-color: {t.ink}; outline: none; }}
    QTableView::item {{ border-bottom: 1px solid {t.well}; padding: 0 4px; }}
    QHeaderView {{ background: {t.paper}; border: none; }}
    QHeaderView::section {{ background: {t.paper}; color: {t.faint}; border: none;
        border-bottom: 1px solid {t.line}; padding: 3px 6px; }}
    QMenu {{ background: {t.sheet}; border: 1px solid {t.line}; padding: 4px; }}
    QMenu::item {{ padding: 4px 18px; background: transparent; }}
    QMenu::item:selected {{ background: {t.petrol}; color: {t.on_petrol}; border-radius: 3px; }}
    QSplitter::handle {{ background: transparent; }}
    QToolTip {{ background: {t.ink}; color: {t.paper}; border: none; padding: 4px 6px; }}
    QProgressBar {{ background: {t.well}; border: none; border-radius: 2px; height: 4px; }}
    QProgressBar::chunk {{ background: {t.petrol}; border-radius: 2px; }}
    """
