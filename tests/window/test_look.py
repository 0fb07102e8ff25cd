"""Both themes: every text can be read on whatever it stands on, and the window changes from one to the other alive."""

from __future__ import annotations

from collections.abc import Callable, Iterator

import pytest
from PyQt6.QtCore import Qt
from PyQt6.QtGui import QImage, QShortcut
from PyQt6.QtWidgets import QPushButton
from pytestqt.qtbot import QtBot
from tests.driving import child, click, stage

from attentive_lens.desk.remembering import remember_theme, remembered_theme
from attentive_lens.window import look
from attentive_lens.window.application import make_application
from attentive_lens.window.bench.bench import Bench
from attentive_lens.window.frame import Frame
from attentive_lens.window.pages import STAGES
from attentive_lens.workspace import Workspace

OpenFrame = Callable[[Workspace], Frame]


@pytest.fixture(autouse=True)
def light_again(qapp: object) -> Iterator[None]:  # an application made here would end, and our fonts with it
    yield
    remember_theme("light")
    look.use("light")
    look.restyle(make_application())


def test_the_window_follows_the_desktop_until_somebody_chooses(
    qtbot: QtBot, open_frame: OpenFrame, station: Workspace
) -> None:
    application = make_application()
    hints = application.styleHints()
    assert hints is not None
    frame = open_frame(station)
    look.use("desktop")
    before = darkness(frame.grab().toImage())
    try:
        hints.setColorScheme(Qt.ColorScheme.Dark)
        if hints.colorScheme() == Qt.ColorScheme.Dark:  # else this platform has no scheme of its own to change
            qtbot.waitUntil(lambda: look.theme is look.DARK)
            assert darkness(frame.grab().toImage()) < before - 60
            assert look.following() == "contrast", "dark would look the same"
            look.use("light")
            hints.setColorScheme(Qt.ColorScheme.Light)
            hints.setColorScheme(Qt.ColorScheme.Dark)
            assert look.theme is look.LIGHT
    finally:
        hints.setColorScheme(Qt.ColorScheme.Unknown)
    remember_theme("")
    make_application()
    assert look.chosen == "desktop"


@pytest.mark.parametrize("theme", look.THEMES)
def test_every_text_can_be_read_on_every_ground(theme: str) -> None:
    look.use(theme)
    colour = look.theme.colour
    for ground in ("paper", "sheet", "well", "tint"):
        for text in ("ink", "faint", "petrol", "vermilion", "ochre"):
            assert look.contrast(colour(text), colour(ground)) >= look.LEAST_CONTRAST, (text, ground)
    for ground in ("petrol", "petrol_over"):
        assert look.contrast(colour("on_petrol"), colour(ground)) >= look.LEAST_CONTRAST
    for hue in ("petrol", "vermilion"):
        for alpha in range(256):
            ground = look.blended(hue, alpha)
            assert look.contrast(look.readable_on(ground), ground) >= look.LEAST_CONTRAST, (hue, alpha)


def test_high_contrast_is_higher_than_that_of_the_others() -> None:
    for text in ("ink", "faint", "petrol", "vermilion", "ochre"):
        of = {name: look.contrast(t.colour(text), t.colour("paper")) for name, t in look.THEMES.items()}
        assert of["contrast"] > max(of["light"], 7), (text, of)
    lines = {name: look.contrast(t.colour("line"), t.colour("paper")) for name, t in look.THEMES.items()}
    assert lines["contrast"] >= 3 > lines["light"], "what bounds a control is seen too"


def test_contrast_is_that_of_the_standard() -> None:
    black, white = look.QColor(0, 0, 0), look.QColor(255, 255, 255)
    assert look.contrast(black, white) == pytest.approx(21)
    assert look.contrast(white, white) == 1
    assert look.contrast(look.QColor(119, 119, 119), white) == pytest.approx(4.48, abs=0.005)


def darkness(picture: QImage) -> float:
    """The mean lightness of a picture, 0–255."""
    small = picture.scaled(16, 16)
    return sum(small.pixelColor(x, y).lightness() for x in range(16) for y in range(16)) / 256


def test_the_window_turns_dark_and_light_again_in_all_stages_and_remembers_it(
    qtbot: QtBot, open_frame: OpenFrame, station: Workspace
) -> None:
    frame = open_frame(station)
    frame.session.design.change(station.run(1).plan())
    stage(qtbot, frame, "network")
    bench = child(frame, Bench, "bench")
    first = bench.plates[1].output
    qtbot.waitUntil(lambda: first in bench.pictures, timeout=60_000)
    map_light = bench.pictures[first]
    light = {}
    for key in STAGES:
        stage(qtbot, frame, key)
        light[key] = darkness(frame.grab().toImage())
    click(qtbot, frame, "theme")
    assert remembered_theme() == "dark"
    assert child(frame, QPushButton, "theme").text() == "contrast"
    for key, before in light.items():
        stage(qtbot, frame, key)
        assert darkness(frame.grab().toImage()) < before - 60, key
    assert bench.pictures[first] != map_light, "maps are drawn in the theme's ink"
    make_application()
    assert look.theme is look.DARK
    (keys,) = [each for each in frame.findChildren(QShortcut) if each.key().toString() == "Ctrl+Shift+L"]
    keys.activated.emit()
    assert look.theme is look.CONTRAST
    assert remembered_theme() == "contrast"
    keys.activated.emit()
    assert look.theme is look.LIGHT and look.chosen == "desktop"
    assert bench.pictures[first] == map_light
