from __future__ import annotations

import math
import subprocess
import sys

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st
from PyQt6.QtCore import QPointF, QRectF
from pytestqt.qtbot import QtBot

from attentive_lens.plan.blocks import Residual, Squeeze, built
from attentive_lens.plan.examination import Facts
from attentive_lens.plan.layers import Convolution, GlobalPooling, Output, Relu
from attentive_lens.plan.network import NetworkPlan
from attentive_lens.plan.starters import STARTERS
from attentive_lens.window import look, words
from attentive_lens.window.bench.bench import Bench
from attentive_lens.window.bench.plates import chosen_plates, plates_of
from attentive_lens.window.parts.basics import ink_on_paper, map_colours, to_image
from attentive_lens.window.parts.chart import Chart, Curve, points_within, reduced
from attentive_lens.window.parts.plot import Axis, Plot
from attentive_lens.window.parts.range import RangeSlider
from attentive_lens.window.parts.sheet import ContactSheet, Group


def contrast(one: str, other: str) -> float:
    """Contrast of two colours by relative luminance (WCAG 2.2)."""

    def luminance(colour: str) -> float:
        parts = [int(colour[k : k + 2], 16) / 255 for k in (1, 3, 5)]
        linear = [p / 12.92 if p <= 0.04045 else ((p + 0.055) / 1.055) ** 2.4 for p in parts]
        return float(np.dot(linear, [0.2126, 0.7152, 0.0722]))

    high, low = sorted((luminance(one), luminance(other)), reverse=True)
    return (high + 0.05) / (low + 0.05)


def test_every_colour_of_text_can_be_read_on_paper_and_sheet() -> None:
    t = look.LIGHT
    for role in ("ink", "faint", "petrol", "vermilion", "ochre"):
        for ground in (t.paper, t.sheet):
            assert contrast(getattr(t, role), ground) >= 4.5, role
    assert contrast(t.on_petrol, t.petrol) >= 4.5


def test_numbers_read_as_people_write_them() -> None:
    assert words.thousands(1234567) == "1\u202f234\u202f567"
    assert words.short(286_182) == "286\u202fk"
    assert words.short(4_700_000) == "4.7\u202fM"
    assert words.short(999) == "999"
    assert words.percent(0.913) == "91.3\u202f%"
    assert [words.duration(s) for s in (8, 93, 7500)] == ["8\u202fs", "1\u202fmin 33\u202fs", "2\u202fh 5\u202fmin"]
    assert words.shape((64, 64, 3)) == "64×64×3"


@given(st.floats(-1e3, 1e3), st.floats(1e-3, 1e3), st.integers(2, 9))
def test_steps_of_an_axis_are_round_and_not_too_many(qapp: object, low: float, span: float, most: int) -> None:
    ((step, _),) = Axis("left").tickSpacing(low, low + span, most * Axis.room)
    assert span / step <= most + 1
    digits = step / 10 ** np.floor(np.log10(step) + 1e-9)
    assert min(abs(digits - d) for d in (1, 2, 5, 10)) < 1e-6


@given(st.lists(st.floats(-5, 5), min_size=1, max_size=900), st.integers(8, 100))
def test_a_reduced_curve_keeps_its_ends_and_its_extremes(values: list[float], most: int) -> None:
    points = tuple((float(k), v) for k, v in enumerate(values))
    stored = [(float(x), float(y)) for x, y in reduced(points, most)]
    assert stored[0] == points[0]
    assert stored[-1] == points[-1]
    assert {min(values), max(values)} <= {y for _, y in stored}
    assert len(stored) <= max(most + 4, 8)
    assert stored == sorted(stored)


def test_a_long_curve_is_drawn_with_its_peaks_and_only_the_stretch_in_view(qtbot: QtBot) -> None:
    x = np.arange(100_000, dtype=float)
    y = np.zeros(100_000)
    y[77_777] = 5.0
    stored = reduced(np.stack([x, y], axis=1), 500)
    assert len(stored) <= 504
    assert [value for _, value in stored if value] == [5.0]
    part = points_within(np.stack([x, y], axis=1), 10, 20)
    assert part[:, 0].tolist() == list(range(10, 21))
    assert points_within(np.stack([x, y], axis=1), 10, 20, 1)[:, 0].tolist() == list(range(9, 22))
    assert points_within((), 0, 1).shape == (0, 2)


@pytest.mark.parametrize("signed", [False, True])
def test_what_is_no_number_is_drawn_nowhere_and_the_rest_as_without_it(signed: bool) -> None:
    map_ = np.linspace(-1, 1, 36, dtype=np.float32).reshape(6, 6)
    holes = map_.copy()
    holes[0, 0], holes[1, 1], holes[2, 2] = np.nan, np.inf, -np.inf
    drawn, whole = map_colours(holes, signed, top=1.0), map_colours(map_, signed, top=1.0)
    finite = np.isfinite(holes)
    assert np.array_equal(drawn[finite], whole[finite])
    assert (drawn[~finite][:, 3] == 0).all()
    assert not map_colours(np.full((3, 3), np.nan, np.float32), signed)[:, :, 3].any()


def test_maps_are_coloured_by_their_tokens() -> None:
    ramp = np.array([[0.0, 1.0], [-1.0, 9.0]])
    unsigned, signed = map_colours(np.maximum(ramp, 0), top=1.0), map_colours(ramp, signed=True, top=1.0)
    vermilion, petrol = (look.theme.colour(r).getRgb()[:3] for r in ("vermilion", "petrol"))
    assert unsigned[0, 0, 3] == 0
    assert tuple(unsigned[0, 1]) == (*vermilion, 255)
    assert tuple(signed[0, 1]) == tuple(signed[1, 1]) == (*vermilion, 255)
    assert tuple(signed[1, 0]) == (*petrol, 255)
    assert signed[0, 0, 3] == 0
    nothing = map_colours(np.array([[-1.0, -0.2], [0.0, -3.0]], np.float32))
    assert not nothing[:, :, 3].any(), "what has no value above zero is drawn nowhere"
    flat = ink_on_paper(np.ones((2, 2)))
    assert tuple(flat[0, 0]) == look.theme.colour("sheet").getRgb()[:3]


def test_a_picture_from_an_array_has_its_pixels(qtbot: QtBot) -> None:
    pixels = np.random.default_rng(0).integers(0, 256, (5, 7, 3)).astype(np.uint8)
    image = to_image(pixels)
    assert (image.width(), image.height()) == (7, 5)
    assert image.pixelColor(6, 2).getRgb()[:3] == tuple(pixels[2, 6])


def facts_by_name(network: NetworkPlan, side: int) -> dict[str, Facts]:
    return {fact.name: fact for fact in network.facts((side, side, 3))}


def test_plates_fold_their_coating_and_keep_every_other_layer() -> None:
    for starter in STARTERS.values():
        network = starter.network.with_outputs(6)
        plates = plates_of(network.nodes, facts_by_name(network, 64), (64, 64, 3), {"convolution 1"})
        kinds = [node.layer.kind for node in network.nodes]
        assert [name for plate in plates for name in plate.nodes] == [node.name for node in network.nodes]
        assert kinds.count("relu") <= sum(len(plate.coats) for plate in plates)
        assert all(len(plate.nodes) == 1 + len(plate.coats) for plate in plates[1:])
        first = next(plate for plate in plates if plate.coats)
        assert first.coats[-1] == "ReLU: negative values become 0"
        assert first.output == "relu 1"
        assert [p.name for p in plates if p.frozen] == ["convolution 1"] * ("convolution" in kinds)


def test_a_receptive_field_is_drawn_where_a_change_reaches_the_middle_output() -> None:
    network = STARTERS["two blocks"].network.with_outputs(6)
    plates = plates_of(network.nodes, facts_by_name(network, 64), (64, 64, 3))
    left, top, width, height = plates[3].field((64, 64))  # convolution 2 of 32×32 outputs: 8 pixels from 2·16 − 3 on
    assert (left * 64, top * 64) == (29, 29)
    assert (width * 64, height * 64) == (8, 8)
    assert plates[-1].field((64, 64)) == (0.0, 0.0, 1.0, 1.0)


def test_a_sheet_of_100_000_images_lays_out_and_paints(qtbot: QtBot) -> None:
    sheet = ContactSheet("sheet")
    qtbot.addWidget(sheet)
    sheet.resize(500, 400)
    pixels = np.zeros((10, 4, 4, 3), np.uint8)
    sheet.show()
    sheet.show_groups(pixels, (Group("many", "", tuple(range(10)) * 10_000),))
    bar = sheet.verticalScrollBar()
    assert bar is not None
    assert bar.maximum() > 100_000 // sheet.columns * 60
    bar.setValue(bar.maximum())
    sheet.grab()


def test_a_chart_draws_what_it_is_given_and_nothing_without_points(qtbot: QtBot) -> None:
    chart = Chart("Loss", "", "chart")
    qtbot.addWidget(chart)
    chart.resize(400, 200)
    chart.show_curves((Curve("training", (), "ink"),), 10)
    empty = chart.grab().toImage()
    chart.show_curves((Curve("training", ((1, 2.0), (2, 1.0), (3, float("nan"))), "petrol"),), 10, 2)
    assert chart.grab().toImage() != empty


def test_handles_of_a_range_stay_in_it_and_do_not_pass_each_other(qtbot: QtBot) -> None:
    slider = RangeSlider("range", -10.0, 10.0, (-2.0, 2.0))
    qtbot.addWidget(slider)
    slider.held = 0
    for value, left in ((-99.0, -10.0), (99.0, 2.0), (0.03, 0.0)):
        slider.move_to(value)
        assert slider.values == [left, 2.0]
    seen: list[int] = []
    slider.moved.connect(lambda: seen.append(1))
    slider.move_to(0.0)
    assert seen == []


def test_ways_past_plates_that_are_left_out_lead_to_the_right_ones(qapp: object) -> None:
    network = built([Convolution(filters=8), Relu(), Squeeze(), Residual(filters=8), GlobalPooling(), Output()])
    network = network.with_outputs(3)
    plates = plates_of(network.nodes, facts_by_name(network, 16), (16, 16, 3))
    mask = [len(plate.shape) == 3 for plate in plates]
    names = [plate.name for plate in plates]

    def fed_by(name: str) -> set[str]:
        """Plates that are left in and feed this one, through those that are left out."""
        sources = plates[names.index(name)].sources
        return set().union(*({names[k]} if mask[k] else fed_by(names[k]) for k in sources)) if sources else set()

    stored = chosen_plates(plates, mask)
    for plate in stored:
        assert {stored[k].name for k in plate.sources} == fed_by(plate.name)
    assert any(len(plate.sources) > 1 for plate in stored)
    bench = Bench("bench")
    bench.show_plates(stored)
    bench.resize(700, 240)
    bench.grab()


def test_a_logarithmic_axis_has_round_figures_and_keeps_the_order_of_values(qtbot: QtBot) -> None:
    chart = Chart("Loss", "", "chart")
    qtbot.addWidget(chart)
    chart.resize(400, 200)
    chart.show()
    chart.show_curves((Curve("validation", ((0, 2.0), (1, 0.02), (2, 0.0)), "ink"),), 2)
    chart.show_log(True)
    low, high = chart.limits()
    assert 0 < low < 0.02 < 2 < high
    heights = [chart.place(0, value).y() for value in (0.0, low, 0.02, 0.2, 2.0, high)]
    assert heights == sorted(heights, reverse=True)
    assert heights[0] == heights[1] == pytest.approx(chart.area().bottom())
    assert heights[-1] == pytest.approx(chart.area().top())
    assert heights[3] - heights[4] == pytest.approx(heights[2] - heights[3]), "tenfold is as far everywhere"
    for low, high, figures in ((0.3, 2.5, (0.5, 1, 2)), (1e-6, 2.0, tuple(10.0**power for power in range(-6, 1)))):
        ((_, powers),) = Axis("left").logTickValues(math.log10(low), math.log10(high), 200.0, None)
        assert sorted(10 ** np.array(powers)) == pytest.approx(figures)


def test_a_plot_leaves_faults_to_whoever_catches_them() -> None:
    words = "import sys; h = sys.excepthook; import attentive_lens.window.parts.plot; sys.exit(sys.excepthook is not h)"
    subprocess.run([sys.executable, "-c", words], check=True)


@pytest.mark.parametrize(
    ("across", "up", "log"), [((0, 12), (0, 1), ""), ((1e-6, 10), (0, 3), "x"), ((0, 4), (1e-4, 1), "y")]
)
def test_a_place_in_a_plot_and_its_values_are_one(
    qtbot: QtBot, across: tuple[float, float], up: tuple[float, float], log: str
) -> None:
    plot = Plot("Title", "plot", (40, 20, 30, 25))
    qtbot.addWidget(plot)
    plot.resize(500, 300)
    plot.show()
    plot.set_range(across, up, log=log)
    assert plot.area() == QRectF(40, 30, 440, 245)
    assert plot.place(across[0], up[0]) == plot.area().bottomLeft()
    assert plot.place(across[1], up[1]) == plot.area().topRight()
    at = QPointF(173.0, 111.0)
    back = plot.place(*plot.value(at))
    assert (back.x(), back.y()) == pytest.approx((at.x(), at.y()))
    assert plot.value(QPointF(-50, 900)) == pytest.approx((across[0], up[0])), "outside is at the end"
    view = plot._box
    for x, y in ((0.25, 0.5), (0.75, 0.1)):
        scene = view.mapViewToScene(
            QPointF(
                *(
                    plot._range[2 * k] + part * (plot._range[2 * k + 1] - plot._range[2 * k])
                    for k, part in enumerate((x, y))
                )
            )
        )
        drawn = plot._view.mapToParent(plot._view.mapFromScene(scene))
        wanted = QPointF(40 + 440 * x, 30 + 245 * (1 - y))
        assert abs(drawn.x() - wanted.x()) <= 1
        assert abs(drawn.y() - wanted.y()) <= 1


def test_a_plot_takes_the_colours_of_another_theme(qtbot: QtBot) -> None:
    chart = Chart("Loss", "", "chart")
    qtbot.addWidget(chart)
    chart.resize(400, 200)
    chart.show()
    chart.show_curves((Curve("validation", ((0, 2.0), (1, 0.5), (2, 1.0)), "petrol"),), 2)
    seen = {}
    for theme in ("dark", "light"):
        look.use(theme)
        chart.setStyleSheet(look.stylesheet())
        picture = chart.grab().toImage()
        colours = {picture.pixelColor(x, y).name() for x in range(picture.width()) for y in range(picture.height())}
        seen[theme] = look.THEMES[theme].colour("petrol").name() in colours
    assert seen == {"dark": True, "light": True}
